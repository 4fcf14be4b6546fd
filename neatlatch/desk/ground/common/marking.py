"""Marking by triggers what was worked out from rows that have changed since.

A table of what was worked out has a row for each of what it is of, with a column ``stale``.
Triggers on the tables that it was worked out from mark the rows that a change bears upon, by
whatever means. They are no part of migrations, which take tables apart and put them together again:
they are dropped before and made after.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from django.db import connection as database
from django.db.models import BinaryField, Field, Model

Trigger = tuple[str, str]
# What triggers of this module are called: those that mark, and those that refuse a change.
_MARKS, _REFUSES = "stale_", "held_"


@dataclass(frozen=True)
class WatchedTable:
    """A table that something is worked out from: the keys of what a row of it bears upon, as SQL
    with ``{row}`` for the row; and the columns that are not read, or the only ones that are.
    """

    model: type[Model]
    reaches: str
    passed_over: tuple[str, ...] = ()
    only: tuple[str, ...] = ()

    def columns(self) -> list[Field[Any, Any]]:
        """The columns that count."""
        own = [
            concrete_field
            for concrete_field in self.model._meta.concrete_fields
            if not concrete_field.primary_key
        ]
        return [
            column
            for column in own
            if column.attname not in self.passed_over
            and (not self.only or column.attname in self.only)
        ]


@dataclass(frozen=True)
class MarkedTable:
    """A table of what was worked out: its model, and the model that it has a row for each of."""

    model: type[Model]
    of: type[Model]

    @property
    def key(self) -> str:
        """The column of its key."""
        return str(self.model._meta.pk.column)

    def mark(self, keys: str, also: str = "") -> str:
        """SQL that marks the rows of these keys."""
        chosen = keys if keys.startswith("SELECT") else f"SELECT {keys}"
        return (
            f"UPDATE {self.model._meta.db_table} SET stale = 1 WHERE stale = 0{also} AND "
            f"{self.key} IN ({chosen});"
        )

    def follow(self, watched: Iterable[WatchedTable]) -> Iterator[Trigger]:
        """Triggers that mark it after changes of what is watched."""
        to = self.model._meta.db_table
        for item in watched:
            table, columns = item.model._meta.db_table, item.columns()
            old, new = (self.mark(item.reaches.format(row=row)) for row in ("OLD", "NEW"))
            yield f"{to}_{table}_added", f"AFTER INSERT ON {table} BEGIN {new} END"
            yield f"{to}_{table}_removed", f"AFTER DELETE ON {table} BEGIN {old} END"
            named = _names(each.column for each in columns)
            yield (
                f"{to}_{table}_changed",
                f"AFTER UPDATE OF {named} ON {table} WHEN {changed(columns)} BEGIN {old} {new} END",
            )

    def add(self, source: str) -> str:
        """SQL that adds a row, marked, for a row of what it is of that is called ``source``."""
        told: dict[str, str] = {}
        for concrete_field in self.model._meta.concrete_fields:
            told[str(concrete_field.column)] = (
                f"{source}.{self.of._meta.pk.column}"
                if concrete_field.primary_key
                else _literal(concrete_field.get_default())
            )
        return (
            f"INSERT OR IGNORE INTO {self.model._meta.db_table} ({_names(told)}) SELECT "
            f"{', '.join(told.values())}"
        )

    def begin(self) -> Iterator[Trigger]:
        """The trigger that adds a row for each new one."""
        table = self.of._meta.db_table
        yield (
            f"{self.model._meta.db_table}_begins",
            f"AFTER INSERT ON {table} BEGIN {self.add('NEW')}; END",
        )

    def add_missing(self) -> str:
        """SQL that adds the rows which are missing."""
        return f"{self.add('o')} FROM {self.of._meta.db_table} o"


def _changed(column: Field[Any, Any]) -> str:
    name = f'"{column.column}"'
    if isinstance(column, BinaryField):  # sealed anew each time; whether there is any counts
        return f"(OLD.{name} IS NULL) IS NOT (NEW.{name} IS NULL)"
    return f"OLD.{name} IS NOT NEW.{name}"


def _names(columns: Iterable[str | None]) -> str:
    return ", ".join(f'"{column}"' for column in columns)


def _literal(value: Any) -> str:
    if value is None:
        return "NULL"
    if isinstance(value, str):
        return f"'{value}'"
    return str(int(value)) if isinstance(value, (bool, int)) else "'[]'"


# What is marked in this program, with its triggers; those who know it register it.
_REGISTERED: list[tuple[MarkedTable, Callable[[], Iterator[Trigger]]]] = []


def register(marked: MarkedTable, triggers: Callable[[], Iterator[Trigger]]) -> None:
    """From now on its triggers are made, dropped and looked at with the others."""
    _REGISTERED.append((marked, triggers))


# Triggers that refuse a change; those who know when register them.
_GUARDS: list[Callable[[], Iterator[Trigger]]] = []


def register_guards(triggers: Callable[[], Iterator[Trigger]]) -> None:
    """From now on these triggers, which mark nothing, are made, dropped and looked at with the
    others.
    """
    _GUARDS.append(triggers)


def changed(columns: Iterable[Field[Any, Any]]) -> str:
    """SQL that says, in a trigger, whether any of these columns has another value than before."""
    return " OR ".join(map(_changed, columns))


def _wanted() -> dict[str, str]:
    marks = (one for marked, triggers in _REGISTERED for one in (*marked.begin(), *triggers()))
    guards = (one for triggers in _GUARDS for one in triggers())
    named = [(f"{_MARKS}{name}", body) for name, body in marks]
    named += [(f"{_REFUSES}{name}", body) for name, body in guards]
    return {name: f"CREATE TRIGGER {name} {body}" for name, body in named}


def _standing() -> dict[str, str]:
    with database.cursor() as cursor:
        asked = (
            "SELECT name, sql FROM sqlite_master WHERE type = 'trigger' AND (name LIKE %s OR "
            "name LIKE %s)"
        )
        return dict(cursor.execute(asked, [f"{_MARKS}%", f"{_REFUSES}%"]).fetchall())


def install() -> None:
    """Make the triggers, and a row for each that has none yet; once tables stand."""
    remove()
    with database.cursor() as cursor:
        for sql in _wanted().values():
            cursor.execute(sql)
        for marked, _ in _REGISTERED:
            cursor.execute(marked.add_missing())


def remove() -> None:
    """Drop the triggers: tables are about to be taken apart."""
    with database.cursor() as cursor:
        for name in _standing():
            cursor.execute(f"DROP TRIGGER {name}")


def triggers_are_current() -> bool:
    """Whether the triggers are those of this version."""
    return _standing() == _wanted()
