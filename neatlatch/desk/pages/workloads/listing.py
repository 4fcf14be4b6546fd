"""The list of workloads of connections: what fits a filter, and a page of it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

from django.db.models import F, Q, QuerySet
from django.utils import timezone

from neatlatch.core import windows
from neatlatch.core.filter_words import Word
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import warnings
from neatlatch.desk.estate.workloads.warnings import Call
from neatlatch.desk.ground.common import filtering
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out

from .shapes import CalledOut, WorkloadRow, Workloads

_LOOKUPS = {
    "env": "environment__key__startswith",
    "kind": "kind__startswith",
    "owner": "owner__name__icontains",
    "app": "uses__application__key__contains",
    "connection": "uses__connection__ref__contains",
    "tag": object_notes.BY_TAG,
}
FIELDS = {**{lookup: lookup for lookup in _LOOKUPS}, "warned": "warned"}
_OWN = ("id", "name", "environment_id", "kind", "runs", "windows")
# Of what a workload calls, so much is told in a list.
_MOST_CALLS = 5


def fitting(rows: QuerySet[Workload], words: Sequence[Word]) -> QuerySet[Workload]:
    """Those that fit the words of a filter."""
    for word in words:
        if word.field == "warned":
            warned = Q(pk__in=warnings.of_warned())
            rows = rows.filter(warned if filtering.holds(word) else ~warned)
    return filtering.apply(rows, words, _LOOKUPS, ("name__icontains", "owner__name__icontains"))


def page_of(rows: QuerySet[Workload], cursor: str | None) -> Workloads:
    """One page, by name. Six queries, and those of the summaries that are stale."""
    told: QuerySet[Any] = rows.annotate(owner_told=F("owner__name")).values_list(
        *_OWN, "owner_told", named=True
    )
    found, following = page(told, "name", cursor, then="id")
    environments = {
        environment.pk: environment_out(environment) for environment in Environment.objects.all()
    }
    calls = warnings.calls_of(row.id for row in found)
    choices = warnings.choices_for(call for some in calls.values() for call in some)
    tags = object_notes.tags_of(Workload, [row.id for row in found])
    items = [
        _row(
            row,
            environments[row.environment_id],
            calls.get(row.id, []),
            choices,
            tags.get(row.id, []),
        )
        for row in found
    ]
    return Workloads(items, following)


def next_window(texts: Iterable[str]) -> datetime | None:
    """When the next change window opens, or since when one is open; ``None``: there are none."""
    opening = windows.next_open([windows.read(text) for text in texts], timezone.localtime())
    return opening[0] if opening else None


def _row(
    row: Any,
    environment: EnvironmentOut,
    calls: list[Call],
    choices: warnings.Choices,
    tags: list[str],
) -> WorkloadRow:
    warned = warnings.warn(row.name, calls, choices)
    return WorkloadRow(
        id=row.id,
        name=row.name,
        environment=environment,
        kind=row.kind,
        owner=row.owner_told or "",
        runs=row.runs,
        windows=row.windows,
        next_window=next_window(row.windows),
        calls=[CalledOut(each.id, each.application_name, each.ref) for each in calls[:_MOST_CALLS]],
        more_calls=max(0, len(calls) - _MOST_CALLS),
        warning=warned[0].says if warned else "",
        warnings=len(warned),
        tags=tags,
    )
