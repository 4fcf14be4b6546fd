"""Whether a worker runs: it holds a lock beside the database for as long as it lives, and the
system lets go of it whatever ends it.
"""

from __future__ import annotations

import fcntl
import threading
from typing import IO

from django.conf import settings
from huey.contrib.djhuey import HUEY

from neatlatch.desk.ground.common.problems import Problem

_FILE = "worker.lock"
_held: list[IO[bytes]] = []
_taking = threading.Lock()


def begin() -> None:
    """Say that this process is a worker; again is harmless. Several may be at work."""
    with _taking:
        if not _held:
            file = (settings.HOME / _FILE).open("ab")
            # Shared, and waited for: anyone who looks holds it alone for a moment.
            fcntl.flock(file, fcntl.LOCK_SH)
            _held.append(file)


def is_running() -> bool:
    """Whether a worker is at work. Where the queue works at once, as in tests, none is needed."""
    if HUEY.immediate:
        return True
    with (settings.HOME / _FILE).open("ab") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return True
        return False


def need(so: str) -> None:
    """Check that a worker runs; ``so`` says what cannot be done without one.

    Raises :class:`Problem`.
    """
    if not is_running():
        raise Problem(
            503,
            f"The worker is not running, {so}.",
            "Start it beside the desk (see docs/running.md), then try again.",
            retry_after=10,
            code="worker-not-running",
        )
