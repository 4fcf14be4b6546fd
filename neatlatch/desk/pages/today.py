"""Today: what breaks next, and the wall of all applications, the broken first.

Both in pages, read from summaries.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, NamedTuple
from uuid import UUID

from django.db import connection as database
from django.db import models
from django.db.models import Q, QuerySet
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router

from neatlatch.core import breaks, filter_words
from neatlatch.core.filter_words import Word
from neatlatch.core.health import State
from neatlatch.desk.estate.connections.summaries import AT_A_MOMENT, NOT_KNOWN, NOW, RANK, WORST
from neatlatch.desk.estate.connections.unsaved import UnsavedOut, unsaved
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.connections.models import Connection, Standing, Summary
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import cursor_of, page, values_of
from neatlatch.desk.ground.journal import services as journal
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out
from neatlatch.desk.pages.connections.rows import fresh_of, glyph
from neatlatch.desk.pages.connections.shapes import GlyphOut
from neatlatch.desk.pages.rounds.api import RoundOut, rounds_out
from neatlatch.desk.work.drawing import ending
from neatlatch.desk.work.drawing.services import KEY
from neatlatch.desk.work.rounds import leftovers
from neatlatch.desk.work.rounds.models import Round

router = Router(tags=["today"])
# Applications and breaks of one page; connections of an application in one environment.
APPLICATIONS, BREAKS, IN_A_CELL = 30, 25, 12
# Workloads of which it is known when they can draw no longer; more than so many are told on their
# own pages.
_MOST_ENDING = 200
# The connections of some applications, the worst of each deployment first, and how many it has.
_CELLS = f"""SELECT * FROM (SELECT c.id AS key, c.ref, c.state,
    c.recent, count(*) OVER (PARTITION BY c.place_id) AS there,
        p.application_id AS application, e.key AS environment,
        s.stale, s.holds_until, s.fits, s.says, s.off, s.beside, p.id AS deployment,
        row_number() OVER (PARTITION BY c.place_id ORDER BY {RANK}, c.ref) AS at
      FROM applications_place p JOIN connections_connection c ON c.place_id = p.id
      JOIN connections_summary s ON s.connection_id = c.id
        JOIN applications_environment e ON e.id = p.environment_id
        WHERE p.application_id IN (MARKS))
    WHERE at <= %s ORDER BY deployment, at"""


# Applications by their worst connection, and all connections by state; the desk's own is none while
# nothing is connected to it.
_COUNTED = """SELECT worst, count(*), sum(latched), sum(sticking), sum(unlatched), sum(not_proven),
        sum(ruled_out) FROM connections_standing
    WHERE NOT (application_id IN (SELECT id FROM applications_application WHERE key = %s)
        AND worst = %s) GROUP BY worst ORDER BY worst"""


class _Counted(NamedTuple):
    """A row of :data:`_COUNTED`."""

    worst: int
    applications: int
    latched: int
    sticking: int
    unlatched: int
    not_proven: int
    ruled_out: int


class _Cell(NamedTuple):
    """A row of :data:`_CELLS`."""

    key: str
    ref: str
    state: str
    recent: str
    there: int
    application: int
    environment: str
    stale: int
    holds_until: datetime | None
    fits: str
    says: str
    off: str
    beside: str
    deployment: int
    at: int


FIELDS = {"env": "env", "environment": "env", "state": "state", "app": "app", "application": "app"}
_OF_CONNECTIONS = {"env": "deployment__environment__key__startswith", "state": "state__startswith"}


@dataclass(frozen=True, kw_only=True)
class CellOut:
    """One connection on the wall. ``recent``: its last tests, oldest first, in milliseconds, below
    zero where one failed."""

    ref: str
    state: str
    glyph: GlyphOut
    latches: bool
    says: str
    recent: list[int]


@dataclass(frozen=True, kw_only=True)
class WallRow:
    """An application on the wall: its connections in each environment by the environment's key, the
    worst first, and how many more there are than are shown. ``worst``: what its worst one is."""

    application: str
    name: str
    worst: str
    cells: dict[str, list[CellOut]]
    more: dict[str, int]


@dataclass(frozen=True, kw_only=True)
class Wall:
    """A page of the wall."""

    items: list[WallRow]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class BreakOut:
    """Something that will stop a connection, or a workload that draws; ``at`` is null for now, the
    other's fields are empty.
    """

    ref: str
    workload: UUID | None
    application: str
    environment: str
    at: datetime | None
    why: str
    act: str
    label: str
    workloads: list[str]


@dataclass(frozen=True, kw_only=True)
class Breaks:
    """A page of what breaks next, soonest first."""

    items: list[BreakOut]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class TodayOut:
    """What stands on Today. ``applications`` counts them by their worst connection; ``ruled_out``
    are latched connections with a pin out."""

    environments: list[EnvironmentOut]
    applications: dict[str, int]
    counts: dict[str, int]
    ruled_out: int
    wall: Wall
    breaks: Breaks
    last_round: RoundOut | None
    unsaved: list[UnsavedOut]
    # Leftovers that nothing but a person can clear away; a hundred are counted at most.
    leftovers: int
    journal_fault: str


@router.get("/today", response=TodayOut)
def today(request: HttpRequest) -> HttpResponse:
    """What breaks next, and the wall: the first page of each, with what is counted over all."""
    guard.need(request, "look")
    with database.cursor() as cursor:
        counted = [
            _Counted._make(row)
            for row in cursor.execute(_COUNTED, [KEY, WORST.index("none")]).fetchall()
        ]
    last_rounds = rounds_out(list(Round.objects.order_by("-number")[:1]))
    return written(
        TodayOut(
            environments=[
                environment_out(environment) for environment in Environment.objects.all()
            ],
            applications={WORST[standing.worst]: standing.applications for standing in counted},
            counts={
                state.value: sum(getattr(standing, state.value) for standing in counted)
                for state in State
            },
            ruled_out=sum(standing.ruled_out for standing in counted),
            wall=_wall(_on_the_wall(), None),
            breaks=_breaks(None),
            last_round=last_rounds[0] if last_rounds else None,
            unsaved=unsaved(),
            leftovers=leftovers.count_stuck(),
            journal_fault=journal.standing(),
        )
    )


@router.get("/today/wall", response=Wall)
def wall(request: HttpRequest, cursor: str | None = None, words: str = "") -> HttpResponse:
    """The wall, a page of applications after another.

    ``words`` filters by their names and references, and by field words (``env:production
    state:unlatched``).
    """
    guard.need(request, "look")
    return written(_wall(_fitting(_on_the_wall(), filter_words.read(words, FIELDS)), cursor))


@router.get("/today/breaks", response=Breaks)
def further_breaks(request: HttpRequest, cursor: str | None = None) -> HttpResponse:
    """What breaks next, a page after another."""
    guard.need(request, "look")
    return written(_breaks(cursor))


def _on_the_wall() -> QuerySet[Standing]:
    """Applications; the desk's own stands there only if something is connected to it."""
    return Standing.objects.exclude(application__key=KEY, worst=WORST.index("none"))


def _fitting(rows: QuerySet[Standing], words: Iterable[Word]) -> QuerySet[Standing]:
    for word in words:
        if word.field == "app":
            wanted = Q(application__key__contains=word.text)
        elif word.field:
            wanted = _with(**{_OF_CONNECTIONS[word.field]: word.text})
        else:
            wanted = Q(name__icontains=word.text) | _with(ref__icontains=word.text)
        rows = rows.exclude(wanted) if word.without else rows.filter(wanted)
    return rows


def _with(**which: str) -> Q:
    return Q(
        application__in=Connection.objects.filter(**which)
        .order_by()
        .values("deployment__application")
    )


def _wall(rows: QuerySet[Standing], cursor: str | None) -> Wall:
    named: QuerySet[Any] = rows.values_list(
        "application_id", "application__key", "name", "worst", named=True
    )
    page_of: tuple[list[Any], str | None] = page(
        named, "worst", cursor, limit=APPLICATIONS, then="name"
    )
    found, following = page_of
    cells, more = _cells([row.application_id for row in found])
    return Wall(
        items=[
            WallRow(
                application=row.application__key,
                name=row.name,
                worst=WORST[row.worst],
                cells=cells.get(row.application_id, {}),
                more=more.get(row.application_id, {}),
            )
            for row in found
        ],
        next=following,
    )


def _cells(
    applications: Sequence[int],
) -> tuple[dict[int, dict[str, list[CellOut]]], dict[int, dict[str, int]]]:
    """The connections of some applications by environment, and how many are not shown."""
    if not applications:
        return {}, {}
    with database.cursor() as cursor:
        marks = ", ".join(["%s"] * len(applications))
        cursor.execute(_CELLS.replace("MARKS", marks), [*applications, IN_A_CELL])
        found = [_Cell._make(row) for row in cursor.fetchall()]
    fresh = fresh_of((UUID(row.key), bool(row.stale), _moment(row.holds_until)) for row in found)
    cells: dict[int, dict[str, list[CellOut]]] = {}
    more: dict[int, dict[str, int]] = {}
    for one in found:
        new = fresh.get(UUID(one.key)) if fresh else None
        fits, says, off, beside = (
            (new.fits, new.says, new.off, new.beside)
            if new is not None
            else (one.fits, one.says, one.off, one.beside)
        )
        recent = json.loads(one.recent)
        cells.setdefault(one.application, {}).setdefault(one.environment, []).append(
            CellOut(
                ref=one.ref,
                state=one.state,
                glyph=glyph(fits, says),
                latches=not off,
                says=beside or _failures(one.state, recent),
                recent=recent,
            )
        )
        if one.there > IN_A_CELL:
            more.setdefault(one.application, {})[one.environment] = one.there - IN_A_CELL
    return cells, more


def _moment(stored: datetime | None) -> datetime | None:
    return stored and stored.replace(tzinfo=UTC)


def _failures(state: str, recent: list[int]) -> str:
    """What is said where no pin explains that it does not work."""
    if state not in (State.UNLATCHED, State.STICKING):
        return ""
    return f"{state} · {sum(number < 0 for number in recent)} of {len(recent)}"


# What breaks next


def _breaks(cursor: str | None) -> Breaks:
    now = timezone.now()
    after = _urgency(cursor) if cursor else None
    told = [*_of_connections(after, now), *_of_workloads(after, now)]
    told.sort(key=lambda of_connection: of_connection[0])
    shown, over = told[:BREAKS], told[BREAKS:]
    return Breaks(
        items=[one for _, one in shown], next=cursor_of(_texts(shown[-1][0])) if over else None
    )


Urgency = tuple[int, datetime, str]
_BEGINNING = datetime.min.replace(tzinfo=UTC)


def _texts(urgency: Urgency) -> list[str]:
    return [str(urgency[0]), urgency[1].isoformat(), urgency[2]]


def _urgency(cursor: str) -> Urgency:
    rank, at, ref = values_of(
        cursor, [models.IntegerField(), models.DateTimeField(), models.CharField()]
    )
    return rank, at, ref


def _urgency_of(at: datetime | None, ref: str) -> Urgency:
    return (NOW, _BEGINNING, ref) if at is None else (AT_A_MOMENT, at, ref)


def _of_connections(after: Urgency | None, now: datetime) -> list[tuple[Urgency, BreakOut]]:
    """The next page of them, and one more."""
    rows = Summary.objects.filter(next_rank__lt=NOT_KNOWN)
    if after is not None and after[0] == NOW:
        rows = rows.filter(Q(next_rank=NOW, ref__gt=after[2]) | Q(next_rank=AT_A_MOMENT))
    elif after is not None:
        beyond = Q(next_at__gt=after[1]) | Q(next_at=after[1], ref__gt=after[2])
        rows = rows.filter(beyond, next_rank=AT_A_MOMENT)
    ordered = rows.order_by("next_rank", "next_at", "ref").values_list(
        "pk",
        "stale",
        "holds_until",
        "next_at",
        "next_why",
        "next_act",
        "next_label",
        "next_stops",
        "ref",
        "connection__deployment__application__name",
        "connection__deployment__environment__name",
        named=True,
    )
    found: list[Any] = list(ordered[: BREAKS + 1])
    fresh = fresh_of((row.pk, row.stale, row.holds_until) for row in found)
    told = []
    for row in found:
        new = fresh.get(row.pk, row)
        if row.pk in fresh and fresh[row.pk].next_rank == NOT_KNOWN:
            continue
        told.append(
            (
                _urgency_of(new.next_at, row.ref),
                BreakOut(
                    ref=row.ref,
                    workload=None,
                    application=row.connection__deployment__application__name,
                    environment=row.connection__deployment__environment__name,
                    at=new.next_at,
                    why=new.next_why,
                    act=new.next_act,
                    label=new.next_label,
                    workloads=list(new.next_stops),
                ),
            )
        )
    return told


def _of_workloads(after: Urgency | None, now: datetime) -> list[tuple[Urgency, BreakOut]]:
    told = []
    for workload, end in ending.soonest(now, _MOST_ENDING):
        urgency = _urgency_of(end.at, breaks.urgency(end)[2])
        if after is None or urgency > after:
            out = BreakOut(
                ref="",
                workload=workload.pk,
                application="",
                environment=workload.environment.name,
                at=end.at,
                why=end.why,
                act=end.act.key,
                label=end.act.label,
                workloads=list(end.workloads),
            )
            told.append((urgency, out))
    return told
