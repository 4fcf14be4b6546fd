"""Who is being answered: a key to count them by, and whether they still wait.

The ASGI application knows; it is asked from the threads that work.
"""

from __future__ import annotations

import threading
from contextvars import ContextVar
from dataclasses import dataclass, field


class CallerGone(Exception):
    """The caller has gone; nobody reads an answer."""


@dataclass(frozen=True)
class Caller:
    """One request's caller.

    ``key`` is the same for all requests of one caller, and is no secret; ``hung_up`` is set once
    they are gone.
    """

    key: str = ""
    hung_up: threading.Event = field(default_factory=threading.Event)


_NOW: ContextVar[Caller | None] = ContextVar("caller", default=None)


def now() -> Caller:
    """The caller of this request; a nameless one who waits for ever where there is no request."""
    return _NOW.get() or Caller()


def begin(key: str) -> Caller:
    """A request begins in this task."""
    found = Caller(key)
    _NOW.set(found)
    return found
