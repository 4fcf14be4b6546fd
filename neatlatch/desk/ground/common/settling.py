"""Keeping in the database what is worked out from rows: marked by triggers (:mod:`.marking`),
worked out again as the last of the transaction that changed something, and when its own moment
passes.

A transaction works out a block of each. What is more, and what was changed outside a transaction,
the worker works out on schedule, a block in a transaction.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from functools import lru_cache
from typing import Any
from uuid import UUID

import structlog
from django.db import DatabaseError, transaction
from django.db import connection as database
from django.db.models import UUIDField
from django.utils import timezone

from . import giving_way, marking
from .marking import MarkedTable

log = structlog.get_logger()


class Settling:
    """A table that is kept so.

    ``work_out`` writes the rows of some keys anew, as part of the surrounding transaction, and
    answers of how many; ``most`` is the size of a block. ``form`` names the rules that rows are
    worked out by (``None``: they have neither a form nor a moment).
    """

    def __init__(
        self,
        marked: MarkedTable,
        work_out: Callable[[Sequence[Any]], int],
        most: Callable[[], int],
        form: Callable[[], str] | None = None,
    ) -> None:
        self.marked, self.work_out, self.most, self.form = marked, work_out, most, form
        self._table = marked.model._meta.db_table
        self._read = UUID if isinstance(marked.of._meta.pk, UUIDField) else int

    def _keys(self, which: str, *given: Any) -> list[Any]:
        sql = f"SELECT {self.marked.key} FROM {self._table} WHERE {which} LIMIT %s"
        with database.cursor() as cursor:
            return [
                self._read(key) for (key,) in cursor.execute(sql, [*given, self.most()]).fetchall()
            ]

    def settle(self) -> int:
        """Work out a block of what is stale; returns how many."""
        stale = self._keys("stale")
        return self.work_out(stale) if stale else 0

    def settle_due(self) -> int:
        """Work out a block of what has had its moment; returns how many."""
        due = (
            self._keys(
                "holds_until <= %s AND NOT stale ORDER BY holds_until", stored(timezone.now())
            )
            if self.form
            else []
        )
        return self.work_out(due) if due else 0

    def behind(self) -> int:
        """How many rows are stale, or have had their moment."""
        asked = [f"SELECT count(*) FROM {self._table} WHERE stale"]
        if self.form:
            asked.append(
                f"SELECT count(*) FROM {self._table} WHERE holds_until <= %s AND NOT stale"
            )
        with database.cursor() as cursor:
            return sum(
                cursor.execute(name, [stored(timezone.now())] if "%s" in name else []).fetchone()[0]
                for name in asked
            )

    def mark_all(self) -> None:
        """Mark every row."""
        with database.cursor() as cursor:
            cursor.execute(f"UPDATE {self._table} SET stale = 1 WHERE NOT stale")

    def mark_older_forms(self) -> None:
        """Mark what was worked out by other rules than today's."""
        if self.form is None:
            return
        with database.cursor() as cursor:
            if cursor.execute(
                f"SELECT 1 FROM {self._table} WHERE form <> %s LIMIT 1", [self.form()]
            ).fetchone():
                cursor.execute(
                    f"UPDATE {self._table} SET stale = 1 WHERE form <> %s", [self.form()]
                )


# In this order: a later one may be worked out from an earlier one.
_REGISTERED: list[Settling] = []
_paused = False


def register(settling: Settling) -> None:
    """From now on it is settled with the others."""
    _REGISTERED.append(settling)


@lru_cache(maxsize=1000)
def stored(moment: datetime | None) -> Any:
    """A moment as the database keeps it."""
    return database.ops.adapt_datetimefield_value(moment)


def pause() -> None:
    """Nothing is worked out from now on: tables are being taken apart."""
    global _paused
    _paused = True


def go_on() -> None:
    """Work out again."""
    global _paused
    _paused = False


def settle_or_leave() -> None:
    """Work out a block of each, as the last of a transaction. What the database refuses ends the
    transaction; whatever else goes wrong leaves the marks: a change is not lost because of them."""
    if _paused:
        return
    try:
        for settling in _REGISTERED:
            settling.settle()
    except DatabaseError as error:
        if "no such table" not in str(
            error
        ):  # before the first migration there is nothing to work out
            raise
    except Exception:
        log.exception("what follows from a change was left as it is")


def behind() -> int:
    """How many rows of all are stale, or have had their moment."""
    return sum(settling.behind() for settling in _REGISTERED)


def catch_up() -> int:
    """Work out all that is stale or whose moment has passed, a block in a transaction; returns how
    many.
    """
    before = left = behind()
    while left:
        with transaction.atomic():  # what is stale is settled as it commits
            for settling in _REGISTERED:
                settling.settle_due()
        still = behind()
        if still >= left:
            break
        left = still
        if left:
            giving_way.let_others_write()
    return before - left


def mark_all() -> None:
    """Mark every row of all."""
    with transaction.atomic():
        for settling in _REGISTERED:
            settling.mark_all()


def check_at_start() -> None:
    """Make the triggers where they are not those of this version, and mark what was worked out by
    other rules than today's, or with other settings.
    """
    if not marking.triggers_are_current():
        with transaction.atomic():
            marking.install()
    for settling in _REGISTERED:
        settling.mark_older_forms()
