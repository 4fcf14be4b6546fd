"""Figures of what is looked after, and of Neat Latch itself, for a monitoring system.

Each is read from what lists keep ready, or by an index: no figure reads a whole table.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from django.db.models import Q, Sum

from neatlatch import __version__
from neatlatch.desk.estate.records.connections.models import Standing, Summary
from neatlatch.desk.estate.records.credentials.models import Credential

from . import own_health
from .drawing.models import Drawn
from .rounds.models import Round

_STATES = ("latched", "sticking", "unlatched", "not_proven", "ruled_out")
# Days before an expiry that are counted.
_SOON = (1, 7, 30)


@dataclass(frozen=True)
class Figure:
    """A gauge: its name, what it says, and its values."""

    name: str
    says: str
    # Names of the labels; each value has one for each.
    labels: tuple[str, ...] = ()
    values: list[tuple[tuple[str, ...], float]] = field(default_factory=list)


def figures(now: datetime) -> Iterator[Figure]:
    """Every figure, as of now. A constant number of queries."""
    yield Figure("neatlatch_build", "The version.", ("version",), [((__version__,), 1)])
    yield from _of_itself(now)
    yield _connections()
    yield Figure(
        "neatlatch_connections_breaking",
        "Connections that break within so many days if nothing is done; 0: broken already.",
        ("days",),
        [
            ((str(days),), Summary.objects.filter(_breaks(now, days)).count())
            for days in (0, *_SOON)
        ],
    )
    valid = Credential.objects.filter(state__in=Credential.LETS_IN)
    yield Figure(
        "neatlatch_credentials_expiring",
        "Credentials in use that expire within so many days; 0: expired already.",
        ("days",),
        [
            ((str(days),), valid.filter(ends__lte=now + timedelta(days=days)).count())
            for days in (0, *_SOON)
        ],
    )
    yield _draws(now)
    yield from _last_round()


def _breaks(now: datetime, days: int) -> Q:
    broken = Q(next_rank=0)
    return broken | Q(next_rank=1, next_at__lte=now + timedelta(days=days)) if days else broken


def _of_itself(now: datetime) -> Iterator[Figure]:
    seen = own_health.facts()
    ranks = {own_health.State.GOOD: 0, own_health.State.WARNING: 1, own_health.State.BAD: 2}
    yield Figure(
        "neatlatch_health",
        "How a part of Neat Latch is: 0 good, 1 warning, 2 bad.",
        ("part",),
        [((check.key,), ranks[check.state]) for check in own_health.judge(seen)],
    )
    yield Figure("neatlatch_database_bytes", "The size of the database.", (), [((), seen.database)])
    yield Figure("neatlatch_disk_free_bytes", "Free where it is.", (), [((), seen.free)])
    yield Figure("neatlatch_queue_tasks", "Tasks that wait.", (), [((), seen.waiting)])
    yield Figure(
        "neatlatch_scheduled_job_age_seconds",
        "Since a scheduled job last ran.",
        ("job",),
        [((beat.name,), (now - beat.at).total_seconds()) for beat in seen.beats],
    )
    if seen.backup.at is not None:
        age = (now - seen.backup.at).total_seconds()
        yield Figure("neatlatch_backup_age_seconds", "Since the last backup.", (), [((), age)])


def _connections() -> Figure:
    rows = Standing.objects.values_list("application__key", *_STATES)
    return Figure(
        "neatlatch_connections",
        "Connections of an application by their state.",
        ("application", "state"),
        [
            ((application, state), count)
            for application, *counts in rows.iterator()
            for state, count in zip(_STATES, counts, strict=True)
        ],
    )


def _draws(now: datetime) -> Figure:
    """Draws are kept by the hour, so the figure is of the hour that has not ended."""
    hour = now.replace(minute=0, second=0, microsecond=0)
    rows = Drawn.objects.filter(begins__gte=hour, span="hour").order_by().values_list("way")
    return Figure(
        "neatlatch_draws_this_hour",
        "Draws and relayed requests since the hour began.",
        ("way", "failed"),
        [
            ((way, failed), count)
            for way, total, bad in rows.annotate(total=Sum("count"), bad=Sum("failed"))
            for failed, count in (("no", total - bad), ("yes", bad))
        ],
    )


def _last_round() -> Iterator[Figure]:
    last = Round.objects.filter(ended__isnull=False).first()
    if last is None or last.ended is None:
        return
    ended = last.ended.timestamp()
    yield Figure("neatlatch_round_ended_seconds", "When the last round ended.", (), [((), ended)])
    yield Figure(
        "neatlatch_round_tests",
        "Tests of the last round that ended.",
        ("outcome",),
        [(("passed",), last.done - last.failed), (("failed",), last.failed)],
    )
