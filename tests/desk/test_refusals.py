"""What the database refuses is told for what it is."""

from __future__ import annotations

import contextlib
import sqlite3
from typing import Any

import pytest
from django.db import OperationalError, connection

from neatlatch.desk.ground import guard

from .conftest import Setup


def refusal_of_the_database(how: str) -> OperationalError:
    """What SQLite itself says."""
    with contextlib.ExitStack() as stack:
        cursor = stack.enter_context(connection.cursor())
        if how == "locked":
            other = stack.enter_context(
                contextlib.closing(
                    sqlite3.connect(connection.settings_dict["NAME"], isolation_level=None)
                )
            )
            other.execute("BEGIN IMMEDIATE")
            cursor.execute("PRAGMA busy_timeout=1")
        if how == "full":
            pages = cursor.execute("PRAGMA page_count").fetchone()[0]
            cursor.execute(f"PRAGMA max_page_count={pages}")
        free = cursor.execute("PRAGMA freelist_count").fetchone()[0]
        statement = (
            "SELECT 1 WHERE " + " OR ".join(["1 = 2"] * 1500)
            if how == "too deep"
            else f"CREATE TABLE more AS SELECT zeroblob({(free + 100) * 4096}) AS much"
        )
        try:
            cursor.execute(statement)
        except OperationalError as error:
            return error
        finally:
            cursor.execute("PRAGMA busy_timeout=5000")
            cursor.execute("PRAGMA max_page_count=1073741823")
    raise AssertionError("SQLite took it")


@pytest.mark.parametrize(
    ("how", "status", "code"),
    [
        ("locked", 503, "database-busy"),
        ("full", 507, "database-not-writable"),
        ("too deep", 500, "internal-error"),
    ],
)
def test_busy_is_said_of_a_lock_only(
    setup: Setup, monkeypatch: pytest.MonkeyPatch, how: str, status: int, code: str
) -> None:
    error, web = refusal_of_the_database(how), setup.web()
    web.raise_request_exception = False

    def fall(*_: Any) -> None:
        raise error

    monkeypatch.setattr(guard, "need", fall)
    answer = web.get("/api/applications")
    assert (answer.status_code, answer.json()["code"]) == (status, code)
