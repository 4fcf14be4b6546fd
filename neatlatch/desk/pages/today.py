"""Today: what breaks next, and the wall of all applications, the broken first. Both in pages, read from summaries."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from django.db import models
from django.db.models import Case, Count, F, Q, QuerySet, Sum, Value, When, Window
from django.db.models.functions import RowNumber
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router

from neatlatch.core import breaks, filter_words
from neatlatch.core.filter_words import Word
from neatlatch.core.health import State
from neatlatch.desk.estate.connections.summaries import AT_A_MOMENT, NOT_KNOWN, NOW, WORST
from neatlatch.desk.estate.connections.unsaved import UnsavedOut, unsaved
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.connections.models import Connection, Standing, Summary
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import cursor_of, page, values_of
from neatlatch.desk.ground.journal import services as journal
from neatlatch.desk.pages.applications import EnvironmentOut, environment_out
from neatlatch.desk.pages.connections.rows import fresh_of, glyph
from neatlatch.desk.pages.connections.shapes import GlyphOut
from neatlatch.desk.pages.rounds.api import COUNTS, RoundOut, round_out
from neatlatch.desk.work.drawing import ending
from neatlatch.desk.work.drawing.services import KEY
from neatlatch.desk.work.rounds import leftovers
from neatlatch.desk.work.rounds.models import Round

router = Router(tags=["today"])
# Applications and breaks of one page; connections of an application in one environment.
APPLICATIONS, BREAKS, IN_A_CELL = 30, 25, 12
# Workloads of which it is known when they can draw no longer; more than so many are told on their own pages.
_MOST_ENDING = 200
_RANK = Case(
    *(When(state=state.value, then=Value(rank)) for rank, state in enumerate((State.OPEN, State.STICKING, State.NOT_PROVEN))),
    default=Value(3),
)
FIELDS = {"env": "env", "environment": "env", "state": "state", "app": "app", "application": "app"}
_OF_CONNECTIONS = {"env": "place__environment__key__startswith", "state": "state__startswith"}


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
    """Something that will stop a connection, or a user that draws; ``at`` is null for now, the other's fields are empty."""

    ref: str
    user: UUID | None
    application: str
    environment: str
    at: datetime | None
    why: str
    act: str
    label: str
    users: list[str]


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
    states = [one.value for one in State]
    counted = Standing.objects.aggregate(**{one: Sum(one, default=0) for one in (*states, "ruled_out")})
    groups = dict(_on_the_wall().order_by().values_list("worst").annotate(Count("pk")))
    last_round = Round.objects.annotate(**COUNTS).order_by("-number").first()
    return written(
        TodayOut(
            environments=[environment_out(one) for one in Environment.objects.all()],
            applications={name: groups[rank] for rank, name in enumerate(WORST) if rank in groups},
            counts={one: counted[one] for one in states},
            ruled_out=counted["ruled_out"],
            wall=_wall(_on_the_wall(), None),
            breaks=_breaks(None),
            last_round=round_out(last_round) if last_round else None,
            unsaved=unsaved(),
            leftovers=leftovers.count_stuck(),
            journal_fault=journal.standing(),
        )
    )


@router.get("/today/wall", response=Wall)
def wall(request: HttpRequest, cursor: str | None = None, words: str = "") -> HttpResponse:
    """The wall, a page of applications after another. ``words`` filters by their names and references, and by field words (``env:production state:open``)."""
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
    for one in words:
        if one.field == "app":
            wanted = Q(application__key__contains=one.text)
        elif one.field:
            wanted = _with(**{_OF_CONNECTIONS[one.field]: one.text})
        else:
            wanted = Q(name__icontains=one.text) | _with(ref__icontains=one.text)
        rows = rows.exclude(wanted) if one.without else rows.filter(wanted)
    return rows


def _with(**which: str) -> Q:
    return Q(application__in=Connection.objects.filter(**which).order_by().values("place__application"))


def _wall(rows: QuerySet[Standing], cursor: str | None) -> Wall:
    named: QuerySet[Any] = rows.values_list("application_id", "application__key", "name", "worst", named=True)
    page_of: tuple[list[Any], str | None] = page(named, "worst", cursor, limit=APPLICATIONS, then="name")
    found, following = page_of
    cells, more = _cells([one.application_id for one in found])
    return Wall(
        items=[
            WallRow(
                application=one.application__key,
                name=one.name,
                worst=WORST[one.worst],
                cells=cells.get(one.application_id, {}),
                more=more.get(one.application_id, {}),
            )
            for one in found
        ],
        next=following,
    )


def _cells(applications: Sequence[int]) -> tuple[dict[int, dict[str, list[CellOut]]], dict[int, dict[str, int]]]:
    """The connections of some applications by environment, and how many are not shown."""
    in_place = [F("place_id")]
    ranked = Connection.objects.filter(place__application__in=applications).annotate(
        at=Window(RowNumber(), partition_by=in_place, order_by=[_RANK.asc(), F("ref").asc()]),
        there=Window(Count("pk"), partition_by=in_place),
    )
    rows = (
        ranked.filter(at__lte=IN_A_CELL)
        .order_by("place_id", "at")
        .values_list(
            "pk", "ref", "state", "recent", "at", "there", "place__application_id", "place__environment__key",
            "summary__stale", "summary__holds_until", "summary__fits", "summary__says", "summary__off", "summary__beside", named=True,
        )
    )  # fmt: skip
    found: list[Any] = list(rows)
    fresh = fresh_of((one.pk, one.summary__stale, one.summary__holds_until) for one in found)
    cells: dict[int, dict[str, list[CellOut]]] = {}
    more: dict[int, dict[str, int]] = {}
    for one in found:
        new = fresh.get(one.pk)
        fits, says, off, beside = (
            (new.fits, new.says, new.off, new.beside)
            if new is not None
            else (one.summary__fits, one.summary__says, one.summary__off, one.summary__beside)
        )
        application, environment = one.place__application_id, one.place__environment__key
        cells.setdefault(application, {}).setdefault(environment, []).append(
            CellOut(
                ref=one.ref,
                state=one.state,
                glyph=glyph(fits, says),
                latches=not off,
                says=beside or _failures(one.state, one.recent),
                recent=one.recent,
            )
        )
        if one.there > IN_A_CELL:
            more.setdefault(application, {})[environment] = one.there - IN_A_CELL
    return cells, more


def _failures(state: str, recent: list[int]) -> str:
    """What is said where no pin explains that it does not work."""
    if state not in (State.OPEN, State.STICKING):
        return ""
    return f"{state} · {sum(one < 0 for one in recent)} of {len(recent)}"


# What breaks next


def _breaks(cursor: str | None) -> Breaks:
    now = timezone.now()
    after = _urgency(cursor) if cursor else None
    told = [*_of_connections(after, now), *_of_users(after, now)]
    told.sort(key=lambda one: one[0])
    shown, over = told[:BREAKS], told[BREAKS:]
    return Breaks(items=[one for _, one in shown], next=cursor_of(_texts(shown[-1][0])) if over else None)


Urgency = tuple[int, datetime, str]
_BEGINNING = datetime.min.replace(tzinfo=timezone.get_default_timezone())


def _texts(urgency: Urgency) -> list[str]:
    return [str(urgency[0]), urgency[1].isoformat(), urgency[2]]


def _urgency(cursor: str) -> Urgency:
    rank, at, ref = values_of(cursor, [models.IntegerField(), models.DateTimeField(), models.CharField()])
    return rank, at, ref


def _urgency_of(at: datetime | None, ref: str) -> Urgency:
    return (NOW, _BEGINNING, ref) if at is None else (AT_A_MOMENT, at, ref)


def _of_connections(after: Urgency | None, now: datetime) -> list[tuple[Urgency, BreakOut]]:
    """The next page of them, and one more."""
    rows = Summary.objects.filter(next_rank__lt=NOT_KNOWN)
    if after is not None and after[0] == NOW:
        rows = rows.filter(Q(next_rank=NOW, connection__ref__gt=after[2]) | Q(next_rank=AT_A_MOMENT))
    elif after is not None:
        beyond = Q(next_at__gt=after[1]) | Q(next_at=after[1], connection__ref__gt=after[2])
        rows = rows.filter(beyond, next_rank=AT_A_MOMENT)
    ordered = rows.order_by("next_rank", "next_at", "connection__ref").values_list(
        "pk", "stale", "holds_until", "next_at", "next_why", "next_act", "next_label", "next_stops", "connection__ref",
        "connection__place__application__name", "connection__place__environment__name", named=True,
    )  # fmt: skip
    found: list[Any] = list(ordered[: BREAKS + 1])
    fresh = fresh_of((one.pk, one.stale, one.holds_until) for one in found)
    told = []
    for one in found:
        new = fresh.get(one.pk, one)
        if one.pk in fresh and fresh[one.pk].next_rank == NOT_KNOWN:
            continue
        told.append(
            (
                _urgency_of(new.next_at, one.connection__ref),
                BreakOut(
                    ref=one.connection__ref,
                    user=None,
                    application=one.connection__place__application__name,
                    environment=one.connection__place__environment__name,
                    at=new.next_at,
                    why=new.next_why,
                    act=new.next_act,
                    label=new.next_label,
                    users=list(new.next_stops),
                ),
            )
        )
    return told


def _of_users(after: Urgency | None, now: datetime) -> list[tuple[Urgency, BreakOut]]:
    told = []
    for user, end in ending.soonest(now, _MOST_ENDING):
        urgency = _urgency_of(end.at, breaks.urgency(end)[2])
        if after is None or urgency > after:
            out = BreakOut(
                ref="",
                user=user.pk,
                application="",
                environment=user.environment.name,
                at=end.at,
                why=end.why,
                act=end.act.key,
                label=end.act.label,
                users=list(end.users),
            )
            told.append((urgency, out))
    return told
