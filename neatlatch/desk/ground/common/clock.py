"""One clock for all processes of a test or a demo: a file that holds the time, in which a script
steps from event to event.

It is honoured only where ``NEATLATCH_TEST_CLOCK`` names that file, and then stands for Django's
``timezone.now`` in the whole process; without it nothing here does anything. The file holds seconds
since 1970, as text of a fixed width that is written at once. What works on schedule says up to
which moment it has done its work (:func:`idle_at`), each in a file of its own in the folder beside,
so that a script can wait for “idle at T”. TLS itself, and time limits of calls, go by the machine's
clock.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

VARIABLE = "NEATLATCH_TEST_CLOCK"
WIDTH = 32
# Seconds of the machine's clock between two looks at the file.
_LOOK_EVERY = 0.02
_real_now: Callable[[], datetime] | None = None


def file() -> Path | None:
    """The file that holds the time; ``None``: the machine's clock is used."""
    named = os.environ.get(VARIABLE, "")
    return Path(named) if named else None


def follow() -> None:
    """Let this process go by the file, if one is named.

    Called by the settings, before anything has taken ``timezone.now`` for itself.
    """
    global _real_now
    path = file()
    if path is None or _real_now is not None:
        return
    from django.utils import timezone

    descriptor, _real_now = os.open(path, os.O_RDONLY), timezone.now
    timezone.now = lambda: datetime.fromtimestamp(float(os.pread(descriptor, WIDTH, 0)), UTC)


def write(path: Path, moment: datetime) -> None:
    """Set the clock."""
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT, 0o600)
    try:
        os.pwrite(descriptor, f"{moment.timestamp():.6f}".ljust(WIDTH - 1).encode() + b"\n", 0)
    finally:
        os.close(descriptor)


def _folder(path: Path) -> Path:
    return path.with_name(f"{path.name}.idle")


def idle_at(name: str, moment: datetime) -> None:
    """Say that this process, under a name, has done all that was due up to a moment.

    Without a test clock nobody asks.
    """
    if (path := file()) is None:
        return
    folder = _folder(path)
    folder.mkdir(exist_ok=True)
    own = folder / f"{os.getpid()}-{name}"
    half = own.with_suffix(".half")
    half.write_text(f"{moment.timestamp():.6f}")
    half.replace(own)


def are_idle(path: Path, moment: datetime, names: set[str]) -> bool:
    """Whether living processes have said, under each of the names, that they are idle
    at a moment.
    """
    said: set[str] = set()
    for own in _folder(path).glob("*-*"):
        pid, _, name = own.name.partition("-")
        if own.suffix == ".half" or not Path(f"/proc/{pid}").exists():
            continue
        if float(own.read_text()) >= moment.timestamp() - 0.000_001:
            said.add(name)
    return names <= said


def wait(
    stop: threading.Event, now: Callable[[], datetime], until: datetime, longest: timedelta
) -> None:
    """Wait until a moment has come, or somebody sets ``stop``; under a test clock that moment comes
    by a step.

    Without one it is never longer than ``longest``, whatever the machine's clock is set to
    meanwhile.
    """
    if file() is None:
        stop.wait(max(0.0, min((until - now()).total_seconds(), longest.total_seconds())))
        return
    while not stop.is_set() and now() < until:
        stop.wait(_LOOK_EVERY)
