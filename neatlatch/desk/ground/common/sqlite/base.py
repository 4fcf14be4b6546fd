"""A database backend of Django's that lets ``prefetch_related`` follow a foreign key from any
number of rows.

Django 5.2 asks for the targets of a foreign key by a lookup of tuples, and writes that out for
SQLite as ``id = 1 OR id = 2 OR …``, because SQLite has no list of row values. SQLite refuses an
expression that is deeper than 1,000 (https://sqlite.org/limits.html §9). A list of single columns
in parentheses it does know, ``(id) IN ((1), (2))``, and no model here has a key of several columns
(a test holds that).

What a trigger refuses because an import is open is told as the problem that it is, so that no
service takes it for a name that is taken.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from django.db.backends.sqlite3 import base, features

from neatlatch.desk.ground.common import refusals


class DatabaseFeatures(features.DatabaseFeatures):
    """What this backend can do."""

    supports_tuple_lookups = True


@contextmanager
def _import_refusals() -> Iterator[None]:
    try:
        yield
    except sqlite3.IntegrityError as error:
        if (problem := refusals.of_import(error)) is not None:
            raise problem from error
        raise


class _Cursor(base.SQLiteCursorWrapper):
    """A cursor that tells of open imports."""

    def execute(self, query: Any, params: Any = None) -> Any:
        """Execute a statement. Raises :class:`Problem` where an import refuses it."""
        with _import_refusals():
            return super().execute(query, params)

    def executemany(self, query: Any, param_list: Any) -> Any:
        """The same for many rows."""
        with _import_refusals():
            return super().executemany(query, param_list)


class DatabaseWrapper(base.DatabaseWrapper):
    """A connection to SQLite."""

    features_class = DatabaseFeatures
    # What is done as the last of every transaction, and is part of it. It must not fail.
    before_commit: list[Callable[[], object]] = []
    _ending = False

    def create_cursor(self, name: str | None = None) -> Any:
        """A cursor of ours."""
        return self.connection.cursor(factory=_Cursor)

    def commit(self) -> None:
        """Do what comes before, then commit."""
        self._end()
        super().commit()

    def savepoint_commit(self, sid: str) -> None:
        """Inside a test's own transaction, whatever ends there ends as a transaction would."""
        if self.atomic_blocks and all(
            vars(atomic_block)["_from_testcase"] for atomic_block in self.atomic_blocks
        ):
            self._end()
        super().savepoint_commit(sid)

    def _end(self) -> None:
        if self._ending or self.needs_rollback:
            return
        self._ending = True
        try:
            for act in self.before_commit:
                act()
        finally:
            self._ending = False
