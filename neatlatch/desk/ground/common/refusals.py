"""Why the database refused: a lock, want of room, or a fault of ours."""

from __future__ import annotations

import sqlite3

from django.db import DatabaseError

from .problems import Problem

# What the triggers say that refuse a change of an object in an open import.
BEING_IMPORTED = "an import includes this object"

_LOCKED = {"SQLITE_BUSY", "SQLITE_LOCKED"}
# The disk is full, cannot be written for the moment, or the file cannot be opened.
_NO_ROOM = {"SQLITE_FULL", "SQLITE_IOERR", "SQLITE_CANTOPEN", "SQLITE_READONLY"}


def _name(error: DatabaseError) -> str:
    """SQLite's name of the primary result code (https://sqlite.org/rescode.html); empty where the
    error is not SQLite's own.
    """
    cause = error.__cause__
    told = getattr(cause, "sqlite_errorname", "") if isinstance(cause, sqlite3.Error) else ""
    return "_".join(str(told).split("_")[:2])


def is_lock(error: DatabaseError) -> bool:
    """Whether another program, or another thread, held the database for longer than was waited."""
    return _name(error) in _LOCKED


def will_pass(error: DatabaseError) -> bool:
    """Whether the same statement may go through later: after a lock, or once there is
    room again.
    """
    return _name(error) in _LOCKED | _NO_ROOM


def of_import(error: sqlite3.Error) -> Problem | None:
    """The problem to tell where a trigger refused a change of an object in an open import;
    ``None``: it was something else.
    """
    if str(error) != BEING_IMPORTED:
        return None
    return Problem(
        409,
        "An import is changing this.",
        "An inventory that includes it is being applied. Nothing of yours was saved. Wait "
        "until it has "
        "finished, or stop it on the Inventory page.",
        retry_after=10,
        code="import-in-progress",
    )
