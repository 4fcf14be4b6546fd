"""Recording draws by group commit: concurrent draws share one transaction, so that each waits only
until its own record is on disk.
"""

from __future__ import annotations

import fcntl
import os
import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.db.models import Max, Sum

from .models import Drawn

HOURS_KEPT, DAYS_KEPT = timedelta(days=7), timedelta(days=400)
_SQL = """INSERT INTO drawing_drawn
(workload, connection, credential, way, span, begins, count, failed, last)
VALUES (%s, %s, %s, %s, 'hour', %s, %s, %s, %s)
ON CONFLICT (connection, workload, credential, way, span, begins)
DO UPDATE SET count = count + excluded.count, failed = failed + excluded.failed, last = max(last,
    excluded.last)"""


@dataclass(frozen=True)
class DrawFact:
    """One draw. ``failed``: the application did not take it, or no token was to be had."""

    workload: str
    connection: str
    credential: str
    way: str
    failed: bool = False


class Ledger:
    """The draws that wait to be written, and who is writing."""

    def __init__(self) -> None:
        self._turn = threading.Condition()
        self._waiting: dict[tuple[DrawFact, datetime], tuple[int, datetime]] = {}
        self._writing = False
        self._batch, self._written = 1, 0
        self._errors: dict[int, Exception] = {}

    def record(self, facts: Iterable[DrawFact], now: datetime) -> None:
        """Record draws; return when they are on disk. Raises what the database raises.

        Group commit: the first caller to find no writer active writes the whole batch.
        """
        hour = now.replace(minute=0, second=0, microsecond=0)
        with self._turn:
            for fact in facts:
                count, last = self._waiting.get((fact, hour), (0, now))
                self._waiting[fact, hour] = (count + 1, max(last, now))
            mine = self._batch
            while self._writing and self._written < mine:
                self._turn.wait()
            if self._written >= mine:
                if mine in self._errors:
                    raise self._errors[mine]
                return
            batch, self._waiting = self._waiting, {}
            self._writing, self._batch = True, self._batch + 1
        error: Exception | None = None
        try:
            _write(batch)
        except Exception as raised:
            error = raised
        with self._turn:
            self._writing, self._written = False, mine
            self._errors = {mine: error} if error else {}
            self._turn.notify_all()
        if error:
            raise error


def _write(batch: dict[tuple[DrawFact, datetime], tuple[int, datetime]]) -> None:
    rows = [
        (
            fact.workload.replace("-", ""),
            fact.connection.replace("-", ""),
            fact.credential,
            fact.way,
            hour,
            count,
            count if fact.failed else 0,
            last,
        )
        for (fact, hour), (count, last) in batch.items()
    ]
    adapt = connection.ops.adapt_datetimefield_value
    with _TURN.taken(), transaction.atomic(), connection.cursor() as cursor:
        for workload, target, credential, way, hour, count, failed, last in rows:
            cursor.execute(
                _SQL, [workload, target, credential, way, adapt(hour), count, failed, adapt(last)]
            )


class _Turn:
    """A lock between processes: one of those that record draws writes at a time.

    A process that waits for SQLite's own lock sleeps and polls; one that waits for this is woken.
    """

    def __init__(self, file: Path) -> None:
        self._file = file
        self._held: tuple[int, int] | None = None

    @contextmanager
    def taken(self) -> Iterator[None]:
        """Wait for the turn, and give it back."""
        if self._held is None or self._held[0] != os.getpid():
            self._held = (
                os.getpid(),
                os.open(self._file, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600),
            )
        fcntl.flock(self._held[1], fcntl.LOCK_EX)
        try:
            yield
        finally:
            fcntl.flock(self._held[1], fcntl.LOCK_UN)


_TURN = _Turn(settings.HOME / "draws.lock")
LEDGER = Ledger()


@transaction.atomic
def roll_up(now: datetime) -> int:
    """Put hours that are a week old together into days, and delete days after a year and a
    month: a million draws leave as many rows as one. Returns how many rows went.
    """
    before = (now - HOURS_KEPT).replace(hour=0, minute=0, second=0, microsecond=0)
    old = Drawn.objects.filter(span="hour", begins__lt=before)
    days: dict[tuple[Any, ...], list[Any]] = {}
    for drawn in old.values("workload", "connection", "credential", "way", "begins").annotate(
        counted=Sum("count"), wrong=Sum("failed"), latest=Max("last")
    ):
        day = drawn["begins"].replace(hour=0)
        held = days.setdefault(
            (drawn["workload"], drawn["connection"], drawn["credential"], drawn["way"], day),
            [0, 0, drawn["latest"]],
        )
        held[0] += drawn["counted"]
        held[1] += drawn["wrong"]
        held[2] = max(held[2], drawn["latest"])
    gone = old.count()
    old.delete()
    Drawn.objects.bulk_create(
        Drawn(
            workload=workload,
            connection=target,
            credential=credential,
            way=way,
            span="day",
            begins=day,
            count=count,
            failed=failed,
            last=last,
        )
        for (workload, target, credential, way, day), (count, failed, last) in days.items()
    )
    return gone - len(days) + Drawn.objects.filter(begins__lt=now - DAYS_KEPT).delete()[0]
