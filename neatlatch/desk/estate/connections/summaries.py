"""What lists show of connections, kept in the database: worked out by one function, in the
transaction of the change that it follows from, and again when its own moment passes.

Triggers mark what a change makes stale (:mod:`.watching`), by whatever means;
it is settled as the transaction commits (:mod:`neatlatch.desk.ground.common.settling`). A list that
meets a row which is not settled yet works it out for itself.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from pathlib import Path
from typing import Any
from uuid import UUID

import structlog
from django.conf import settings
from django.db import connection as database
from django.utils import timezone

from neatlatch.core import breaks, pins
from neatlatch.core.health import State
from neatlatch.core.lifetimes import reads_otherwise_at
from neatlatch.core.pins import Fit
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common import settling
from neatlatch.desk.ground.common.fetched import those_of
from neatlatch.desk.ground.common.settling import Settling, stored

from . import blocks, halves, watching

log = structlog.get_logger()
FITS = {Fit.FITS: "f", Fit.DIFFERS: "d", Fit.MISSING: "m", Fit.NOT_PROVEN: "p", Fit.NOT_ASKED: "n"}
FIT_OF = {letter: fit.value for fit, letter in FITS.items()}
OFF = (Fit.DIFFERS, Fit.MISSING, Fit.NOT_PROVEN)
NOW, AT_A_MOMENT, NOT_KNOWN = range(3)
# The names of workloads that stop, of one connection: one more than are counted says that there are
# more.
_MOST_STOPPED = 21
# A text that tells how long ago something was holds at least so long.
_TEXT_HOLDS = timedelta(seconds=60)
# Certificates are judged to so many minutes.
_JUDGED_TO = timedelta(minutes=5)
_COLUMNS = (
    "ref",
    "holds_until",
    "worked_out",
    "form",
    "fits",
    "off",
    "out",
    "says",
    "beside",
    "workloads",
    "lacks",
    "next_rank",
    "next_at",
    "next_why",
    "next_act",
    "next_label",
    "next_stops",
)


@dataclass(frozen=True)
class ComputedSummary:
    """A connection's summary, as :class:`Summary` keeps it."""

    ref: str
    holds_until: datetime | None
    fits: str
    off: str
    out: bool
    says: str
    beside: str
    workloads: int
    lacks: tuple[str, ...]
    next_rank: int
    next_at: datetime | None
    next_why: str
    next_act: str
    next_label: str
    next_stops: tuple[str, ...]


def sum_up(connection: Connection, now: datetime) -> ComputedSummary:
    """Work out what lists show of a connection that was read with everything."""
    profile = connection.deployment.application.read_profile()
    worked_out = pins.work_out(halves.halves(connection, now, profile))
    soonest = breaks.next_break(halves.watched(connection, worked_out, now), now)
    off = [pin.key for pin in worked_out if pin.fit in OFF]
    return ComputedSummary(
        ref=connection.ref,
        holds_until=_holds_until(connection, soonest, now),
        fits="".join(FITS[pin.fit] for pin in worked_out),
        off=f" {' '.join(off)} " if off else "",
        out=any(pin.fit in (Fit.DIFFERS, Fit.MISSING) for pin in worked_out),
        says=pins.summary(worked_out),
        beside=pins.beside(State(connection.state), worked_out),
        workloads=len(those_of(connection, "uses")),
        lacks=halves.lacking(connection, profile),
        next_rank=NOT_KNOWN if soonest is None else NOW if soonest.at is None else AT_A_MOMENT,
        next_at=soonest.at if soonest else None,
        next_why=soonest.why if soonest else "",
        next_act=soonest.act.key if soonest else "",
        next_label=soonest.act.label if soonest else "",
        next_stops=soonest.workloads[:_MOST_STOPPED] if soonest else (),
    )


def _holds_until(
    connection: Connection, soonest: breaks.Break | None, now: datetime
) -> datetime | None:
    """The next moment at which it may be another by itself (``None``: none is known): where
    something ends, where an end comes near enough to be told, and where “ended 3 days ago” reads
    otherwise.
    """
    ends = [secret.ends for secret in connection.secrets().values()]
    ends += (
        [credential.ends for credential in those_of(connection.client, "credentials")]
        if connection.client
        else []
    )
    ends += [token_set.ends for token_set in those_of(connection, "token_sets")]
    sight = (
        halves.certificate_sight(connection, now) if "certificate" in connection.values else None
    )
    moments = []
    if sight is not None:
        ends.append(sight.ends)
        moments.append(_judged_after(sight.ends) if sight.ends else None)
        if sight.verdict == "not_yet_valid":
            moments.append(now + _JUDGED_TO)
    for end in ends:
        moments += [end, end - breaks.HORIZON] if end is not None else []
    if soonest is not None and soonest.why.find(" ago") > 0:
        past = [end for end in ends if end is not None and end <= now]
        moments += [max(reads_otherwise_at(moment, now), now + _TEXT_HOLDS) for moment in past]
    return min((moment for moment in moments if moment is not None and moment > now), default=None)


def _judged_after(end: datetime) -> datetime:
    """The first moment after an end to which certificates are judged."""
    judged = end.replace(minute=end.minute - end.minute % 5, second=0, microsecond=0)
    return judged + _JUDGED_TO


@cache
def form() -> str:
    """The rules that summaries are worked out by, and the settings that they read: by what their
    source files and values are, so that a newer version works all out anew."""
    found = hashlib.sha256()
    core = Path(pins.__file__).parents[1]
    for file in sorted(
        [
            *core.glob("*.py"),
            *core.glob("pins/*.py"),
            *core.glob("certificates/*.py"),
            *Path(__file__).parent.glob("*.py"),
        ]
    ):
        found.update(file.read_bytes())
    trust = (
        Path(settings.TRUST).read_bytes()
        if settings.TRUST and Path(settings.TRUST).exists()
        else b""
    )
    found.update(json.dumps([list(settings.OUTGOING), settings.PUBLIC_URL]).encode() + trust)
    return found.hexdigest()[:16]


def fresh(keys: Sequence[UUID], now: datetime) -> dict[UUID, ComputedSummary]:
    """Some connections summed up, by their keys, read in blocks. One that cannot be summed up is
    left out and logged: what is kept of it goes on being shown."""
    made: dict[UUID, ComputedSummary] = {}
    for start in range(0, len(keys), blocks.MOST):
        for connection in blocks.read_block(keys[start : start + blocks.MOST]):
            try:
                made[connection.pk] = sum_up(connection, now)
            except Exception:
                log.exception("a connection could not be summed up", connection=connection.ref)
    return made


def work_out(keys: Sequence[UUID]) -> int:
    """Write the summaries of some connections anew; returns of how many. One that cannot be summed
    up keeps its mark. Part of the surrounding transaction."""
    now = timezone.now()
    rows = [_row(key, summed, now) for key, summed in fresh(keys, now).items()]
    with database.cursor() as cursor:
        cursor.executemany(_WRITE, rows)
    return len(rows)


def _row(key: UUID, summed: ComputedSummary, now: datetime) -> list[Any]:
    values = {
        **vars(summed),
        "worked_out": now,
        "form": form(),
        "lacks": json.dumps(summed.lacks),
        "next_stops": json.dumps(summed.next_stops),
    }
    told = (values[column] for column in _COLUMNS)
    return [*(stored(value) if isinstance(value, datetime) else value for value in told), key.hex]


_WRITE = (
    "UPDATE connections_summary SET stale = 0, "
    f"{', '.join(f'{column} = %s' for column in _COLUMNS)} "
    f"WHERE connection_id = %s"
)
# What connections (c, with their summaries s) are ranked by, the worst first; the last is that
# there is none.
WORST = ("unlatched", "sticking", "out", "not_proven", "latched", "none")
RANK = """CASE WHEN c.state = 'unlatched' THEN 0 WHEN c.state = 'sticking' THEN 1 WHEN s.out THEN 2
    WHEN c.state = 'not_proven' THEN 3 WHEN c.state = 'latched' THEN 4 END"""
_STAND = f"""UPDATE connections_standing
    SET (stale, name, worst, latched, sticking, unlatched, not_proven, ruled_out) = (
    SELECT 0, a.name,
      coalesce(min({RANK}), 5),
      coalesce(sum(c.state = 'latched'), 0), coalesce(sum(c.state = 'sticking'), 0),
      coalesce(sum(c.state = 'unlatched'), 0),
      coalesce(sum(c.state = 'not_proven'), 0), coalesce(sum(c.state = 'latched' AND s.out), 0)
    FROM applications_application a LEFT JOIN applications_place p ON p.application_id = a.id
      LEFT JOIN connections_connection c ON c.place_id = p.id
      LEFT JOIN connections_summary s ON s.connection_id = c.id
    WHERE a.id = connections_standing.application_id)
  WHERE application_id = %s"""


def stand(keys: Iterable[int]) -> int:
    """Compute the standings of some applications again; returns how many.

    Part of the surrounding transaction.
    """
    rows = [[key] for key in keys]
    with database.cursor() as cursor:
        cursor.executemany(_STAND, rows)
    return len(rows)


def begin() -> None:
    """Keep them from now on."""
    watching.begin()
    settling.register(Settling(watching.SUMMARIES, work_out, lambda: blocks.MOST, lambda: form()))
    settling.register(Settling(watching.STANDINGS, stand, lambda: blocks.MOST))


def differences() -> Iterator[str]:
    """Compare every summary with a fresh one, read and worked out without the fast path, a block at
    a time. What is marked as stale, or whose moment has passed, counts as a difference too. Returns
    each in a sentence.
    """
    for connection in halves.each(Connection.objects.select_related("summary").order_by("ref")):
        kept = getattr(connection, "summary", None)
        if kept is None or kept.worked_out is None:
            yield f"{connection.ref}: it has no summary."
        elif kept.stale:
            yield f"{connection.ref}: it is marked as stale."
        elif kept.holds_until is not None and kept.holds_until <= timezone.now():
            yield f"{connection.ref}: it held until {kept.holds_until:%Y-%m-%d %H:%M:%S}."
        else:
            fresh = sum_up(connection, kept.worked_out)
            for name, value in vars(fresh).items():
                stands = getattr(kept, name)
                if (tuple(stands) if isinstance(stands, list) else stands) != value:
                    yield f"{connection.ref}: {name} is {stands!r}, and {value!r} would be right."
