"""The anchor of the journal: which entry is its newest, kept in a file beside the database, sealed
with a key of the safe.

It is written after each commit, and only ever goes forward; so where a program is killed between
the two it is behind by an entry or some, which the chain covers.
"""

from __future__ import annotations

import fcntl
import os
from pathlib import Path

import structlog
from django.conf import settings

from neatlatch.core import chain
from neatlatch.desk.ground.common import safe

log = structlog.get_logger()
FILE = "journal.anchor"


def _file() -> Path:
    found: Path = settings.HOME / FILE
    return found


def exists() -> bool:
    """Whether there is an anchor."""
    return _file().exists()


def newest() -> chain.Anchor | None:
    """The anchor in the file; ``None``: there is none, or it was not made with this key."""
    try:
        return chain.read(_file().read_text(encoding="ascii"), safe.journal_key())
    except (FileNotFoundError, UnicodeDecodeError):
        return None


def advance(anchor: chain.Anchor) -> None:
    """Let the file name this entry, unless it names a later one already; and tell it to the log,
    which may be kept on another machine.
    """
    file, text = _file(), chain.written(anchor, safe.journal_key())
    with file.with_name(f".{FILE}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        stands = newest()
        if stands is not None and stands.number >= anchor.number:
            return
        temporary = file.with_name(f".{FILE}.{os.getpid()}")
        with temporary.open("w", encoding="ascii") as out:
            out.write(f"{text}\n")
            out.flush()
            os.fsync(out.fileno())  # an empty file after a power cut would look like tampering
        temporary.replace(file)
    log.info("journal", anchor=text)
