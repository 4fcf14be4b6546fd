"""A database backend of Django's that lets ``prefetch_related`` follow a foreign key from any number of rows.

Django 5.2 asks for the targets of a foreign key by a lookup of tuples, and writes that out for SQLite as ``id = 1 OR id = 2 OR …``, because
SQLite has no list of row values. SQLite refuses an expression that is deeper than 1,000 (https://sqlite.org/limits.html §9). A list of
single columns in parentheses it does know, ``(id) IN ((1), (2))``, and no model here has a key of several columns (a test holds that).
"""

from __future__ import annotations

from collections.abc import Callable

from django.db.backends.sqlite3 import base, features


class DatabaseFeatures(features.DatabaseFeatures):
    """What this backend can do."""

    supports_tuple_lookups = True


class DatabaseWrapper(base.DatabaseWrapper):
    """A connection to SQLite."""

    features_class = DatabaseFeatures
    # What is done as the last of every transaction, and is part of it. It must not fail.
    before_commit: list[Callable[[], object]] = []
    _ending = False

    def commit(self) -> None:
        """Do what comes before, then commit."""
        self._end()
        super().commit()

    def savepoint_commit(self, sid: str) -> None:
        """Inside a test's own transaction, whatever ends there ends as a transaction would."""
        if self.atomic_blocks and all(vars(one)["_from_testcase"] for one in self.atomic_blocks):
            self._end()
        super().savepoint_commit(sid)

    def _end(self) -> None:
        if self._ending or self.needs_rollback:
            return
        self._ending = True
        try:
            for one in self.before_commit:
                one()
        finally:
            self._ending = False
