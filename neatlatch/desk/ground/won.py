"""Saving what an application gave us and will not give again: a rotated refresh token, a new client
secret.

The provider has ended the old one by the time its answer is here. So the answer is sealed into a
note beside the database, synced to disk, before the database is tried; it is saved again and again
until it is; and the note is removed when it was. A note whose process was killed is taken up by the
next program that starts, or that would ask the provider for the same thing. One that cannot be
read, or that its function refuses for an hour, is set aside: it is tried again at each start, and
Today tells of it until somebody forgets it.

Who saves what is one function for each kind, registered by :func:`saves`. It takes the facts of the
note and must be idempotent, because both the process that won the thing and one that took up its
note may call it.
"""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib import import_module
from pathlib import Path
from typing import Any, TypeVar

import structlog
from django.conf import settings
from django.db import DatabaseError, transaction

from neatlatch.desk.ground.common.actors import SAFE_KEEPER
from neatlatch.desk.ground.journal.services import write

from .common import owner, refusals, safe

log = structlog.get_logger()
Facts = dict[str, Any]
# Stands among the facts of a note that is taken up: by then something newer may stand in its place,
# which it must not replace.
TAKEN_UP = "taken_up"
T = TypeVar("T")
_SAVERS: dict[str, Callable[[Facts], Any]] = {}
# Where each kind's function stands, for a program that takes up a note before anything else
# imported it.
_MODULES = {
    "tokens": "neatlatch.desk.estate.connections.tokens",
    "registration": "neatlatch.desk.estate.clients.services",
    "management": "neatlatch.desk.estate.clients.services",
    "change": "neatlatch.desk.estate.clients.services",
    "secret": "neatlatch.desk.work.replacing.services",
}
# Seconds between two tries. SQLite itself waits up to its busy timeout within each.
_FIRST_WAIT, _LONGEST_WAIT = 0.05, 1.0
# Seconds after which a note is taken up though nobody can say whether its process still runs: it
# was another machine's, or another container's. And after which one that its function refuses is
# set aside.
_UNKNOWN_OWNER, _REFUSED = 600.0, 3600.0


def saves(kind: str) -> Callable[[Callable[[Facts], Any]], Callable[[Facts], Any]]:
    """Register the function that saves one kind of thing, in a transaction of its own.

    Called twice with the same facts, it saves once.
    """

    if kind not in _MODULES:
        raise ValueError(f"Name the module of {kind} in {__name__}.")

    def register(save: Callable[[Facts], Any]) -> Callable[[Facts], Any]:
        _SAVERS[kind] = save
        return save

    return register


def keep(kind: str, about: str, facts: Facts, wait: Callable[[float], None] = time.sleep) -> Any:
    """Save what was won, however long the database refuses; returns what the kind's function
    answers.

    ``about`` names what it is for (a token set, a client), so that :func:`take_up` finds the note.
    ``facts`` are JSON. Inside a transaction, where a failure cannot be repeated, it is tried once.
    Raises whatever the saving raises that is not the database's refusal.
    """
    if transaction.get_connection().in_atomic_block:
        return _saver(kind)(facts)
    note: list[Path | None] = [None]

    def save() -> Any:
        note[0] = note[0] or _write(kind, about, facts)
        return _saver(kind)(facts)

    saved = until_saved(save, about, wait)
    _remove(note[0])
    return saved


def until_saved(save: Callable[[], T], about: str, wait: Callable[[float], None] = time.sleep) -> T:
    """Do something to the database again and again until it is neither locked nor full; returns
    what it answers.

    For what cannot be left undone, and outside any transaction. Raises whatever is not the
    database's refusal.
    """
    pause = _FIRST_WAIT
    while True:
        try:
            return save()
        except DatabaseError as error:
            if transaction.get_connection().in_atomic_block or not refusals.will_pass(error):
                raise
            log.warning("what was won could not be saved yet", about=about, why=str(error))
        wait(pause)
        pause = min(pause * 2, _LONGEST_WAIT)


def take_up(about: str = "", again: bool = False) -> int:
    """Save what is noted: for one thing, of whatever process; without a name, all whose process is
    gone. Returns how many notes were taken up.

    ``again``: those that were set aside, too. Raises the database's refusal where it is for one
    thing: who asks must not go on without it.
    """
    taken = 0
    if not about:
        _remove_halves()
    for note in [*_notes(about), *(_set_aside_notes() if again else ())]:
        try:
            kind, signed, facts = _read(note)
        except FileNotFoundError:
            continue  # saved in this moment
        except (ValueError, KeyError, safe.CannotOpen) as error:
            log.error("a note of what was won cannot be read", note=note.name, why=str(error))
            _set_aside(note)
            continue
        if not about and not _is_left(note, signed):
            continue
        try:
            _saver(kind)({**facts, TAKEN_UP: True})
        except DatabaseError as error:
            if about:
                raise
            log.warning(
                "a note of what was won could not be taken up yet", note=note.name, why=str(error)
            )
            continue
        except Exception:
            # A program starts all the same; the note stays for a person to look into.
            log.exception("a note of what was won could not be taken up", note=note.name)
            if _age(note) > _REFUSED:
                _set_aside(note)
            continue
        _remove(note)
        taken += 1
        log.info("what was won by a process that is gone was saved", kind=kind, note=note.name)
    return taken


def _is_left(note: Path, signed: str) -> bool:
    """Whether nobody will save what a note holds: its process is gone, or has certainly had the
    time.
    """
    return owner.is_gone(signed) or (not owner.is_alive(signed) and _age(note) > _UNKNOWN_OWNER)


def _age(note: Path) -> float:
    """Seconds since a note was written."""
    with contextlib.suppress(FileNotFoundError):
        return time.time() - note.stat().st_mtime
    return 0.0


@dataclass(frozen=True)
class Unsaved:
    """A note that was set aside: its name, what it is for, and when it was written."""

    name: str
    about: str
    since: datetime


def unsaved() -> list[Unsaved]:
    """The notes that were set aside, by name."""
    found = []
    for note in _set_aside_notes():
        with contextlib.suppress(FileNotFoundError):
            found.append(
                Unsaved(note.stem, _about(note), datetime.fromtimestamp(note.stat().st_mtime, UTC))
            )
    return found


def forget(name: str) -> None:
    """Remove a note that was set aside, and what it holds with it.

    Raises :class:`KeyError` where there is none.
    """
    for note in _set_aside_notes():
        if note.stem == name:
            write(
                SAFE_KEEPER, "forgot what could not be saved", "safe", _about(note), {"note": name}
            )
            _remove(note)
            return
    raise KeyError(name)


def _set_aside(note: Path) -> None:
    aside = _aside()
    with contextlib.suppress(OSError):
        aside.mkdir(mode=0o700, exist_ok=True)
        note.replace(aside / note.name)


def _remove_halves() -> None:
    """Notes that were cut off while they were written: nobody could read them."""
    for half in _folder().glob("*.half"):
        with contextlib.suppress(OSError):
            if time.time() - half.stat().st_mtime > 3600:
                half.unlink()


def count_notes() -> int:
    """How many notes lie there that can be read: they are sealed with the key of the day on which
    they were written.
    """
    return sum(_can_be_read(note) for note in [*_notes(""), *_set_aside_notes()])


def _can_be_read(note: Path) -> bool:
    with contextlib.suppress(OSError, ValueError, KeyError, safe.CannotOpen):
        _read(note)
        return True
    return False


def _saver(kind: str) -> Callable[[Facts], Any]:
    import_module(_MODULES[kind])
    return _SAVERS[kind]


def _folder() -> Path:
    return Path(settings.HOME) / "won"


def _aside() -> Path:
    return _folder() / "aside"


def _set_aside_notes() -> list[Path]:
    return sorted(_aside().glob("*.note"))


def _about(note: Path) -> str:
    return note.stem.rpartition(".")[0]


def _notes(about: str) -> Iterator[Path]:
    return iter(sorted(_folder().glob(f"{about}.*.note" if about else "*.note")))


def _write(kind: str, about: str, facts: Facts) -> Path | None:
    """Write a note and sync it to disk; ``None`` where there is no room for one, and the memory
    must hold it alone.
    """
    signed = owner.sign()
    name = f"{about}.{signed.rpartition('/')[2]}"
    folder = _folder()
    note, half = folder / f"{name}.note", folder / f"{name}.half"
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
        descriptor = os.open(half, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(
                f"{kind}\n{signed}\n".encode() + safe.seal(json.dumps(facts), _sealing_place(name))
            )
            file.flush()
            os.fsync(file.fileno())
        half.replace(note)
        _sync(folder)
    except OSError as error:
        log.error(
            "what was won could not be noted beside the database",
            kind=kind,
            about=about,
            why=str(error),
        )
        half.unlink(missing_ok=True)
        return None
    return note


def _read(note: Path) -> tuple[str, str, Facts]:
    kind, signed, sealed = note.read_bytes().split(b"\n", 2)
    facts: Facts = json.loads(safe.unseal(sealed, _sealing_place(note.stem)).reveal())
    return kind.decode(), signed.decode(), facts


def _sealing_place(name: str) -> str:
    return f"won:{name}:note"


def _remove(note: Path | None) -> None:
    if note is not None:
        note.unlink(missing_ok=True)


def _sync(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
