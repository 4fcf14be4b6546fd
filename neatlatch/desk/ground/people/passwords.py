"""Passwords: at most two are hashed at once, for each takes a processor for about a second."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError

from neatlatch.desk.ground.common.problems import Problem

from .models import Person

AT_ONCE, _PATIENCE = 2, 10.0
_hashing = threading.BoundedSemaphore(AT_ONCE)


@contextmanager
def slot() -> Iterator[None]:
    """One of the two places for hashing.

    Raises :class:`Problem` where none is free for ten seconds.
    """
    if not _hashing.acquire(timeout=_PATIENCE):
        raise Problem(
            503,
            "Too many log in at once.",
            "Try again in a moment.",
            retry_after=5,
            code="log-in-busy",
        )
    try:
        yield
    finally:
        _hashing.release()


def fits(person: Person, password: str) -> bool:
    """Whether it is the person's password.

    Slow on purpose: call it outside of transactions. Raises :class:`Problem`.
    """
    with slot():
        return person.check_password(password)


def put(person: Person, password: str) -> None:
    """Give a person a password that was found good, without saving.

    Slow on purpose: call it outside of transactions. Raises :class:`Problem`.
    """
    with slot():
        person.set_password(password)


def wrong_with(password: str, person: Person) -> str:
    """What is wrong with a password for a person, in words; empty: nothing."""
    try:
        validate_password(password, person)
    except ValidationError as error:
        return " ".join(error.messages)
    return ""
