"""``/metrics``: figures in the text format of Prometheus, for programs whose token may read
them.
"""

from __future__ import annotations

from collections.abc import Iterator

from django.http import HttpRequest, HttpResponse, HttpResponseNotAllowed
from django.utils import timezone
from django.views.decorators.csrf import csrf_exempt
from prometheus_client import CollectorRegistry
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.exposition import CONTENT_TYPE_LATEST, generate_latest

from neatlatch.core.program_tokens import ProgramRight
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.people.actors import lacks_right
from neatlatch.desk.work.metrics import figures

from .programs import caller_of


class _Figures:
    """Collects when it is asked, and keeps nothing."""

    def collect(self) -> Iterator[GaugeMetricFamily]:
        """Every figure as a metric."""
        for figure in figures(timezone.now()):
            metric = GaugeMetricFamily(figure.name, figure.says, labels=figure.labels)
            for labels, value in figure.values:
                metric.add_metric(labels, value)
            yield metric


@csrf_exempt  # it changes nothing, and asks for a token
def metrics(request: HttpRequest) -> HttpResponse:
    """The figures, for a program with the right *metrics*."""
    if request.method not in ("GET", "HEAD"):
        return HttpResponseNotAllowed(["GET", "HEAD"])
    try:
        caller = caller_of(request)
        if not caller.grant.holds(ProgramRight.METRICS):
            raise lacks_right(ProgramRight.METRICS)
    except Problem as problem:
        return problems.answer(problem)
    registry = CollectorRegistry(auto_describe=False)
    registry.register(_Figures())
    answer = HttpResponse(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)
    answer["Cache-Control"] = "no-store"
    return answer
