"""Backing up and restoring: a consistent copy of the database while everything runs, and its keys
apart from it.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import sqlite3
from datetime import UTC, datetime
from pathlib import Path

from django.conf import settings
from django.db import connections, transaction
from django.db.models import F
from django.utils import timezone

from neatlatch.core import chain
from neatlatch.desk.ground.common.actors import SAFE_KEEPER
from neatlatch.desk.ground.journal import anchors
from neatlatch.desk.ground.journal import services as journal
from neatlatch.desk.ground.journal.services import write

KEYS = ("safe.key", "session.key")
DATABASE = "desk.sqlite3"
# What is still to be saved goes with the database it belongs to, and is sealed with that key.
_MOVED = (DATABASE, f"{DATABASE}-wal", f"{DATABASE}-shm", "safe.key", "won", anchors.FILE)


class BackupError(Exception):
    """It cannot be done; the message says why and what to do."""


def _stamp() -> str:
    return datetime.now(UTC).strftime("%Y%m%d-%H%M%S")


def _looked_at(file: Path) -> int:
    """Whether a file is a whole database of ours; returns how many entries its journal has.

    Raises :class:`BackupError`.
    """
    try:
        with contextlib.closing(sqlite3.connect(f"file:{file}?mode=ro", uri=True)) as copy:
            if copy.execute("PRAGMA integrity_check").fetchone()[0] != "ok":
                raise BackupError(
                    f"{file.name} is damaged: the database's own check fails. Take another backup."
                )
            return int(copy.execute("SELECT count(*) FROM journal_entry").fetchone()[0])
    except sqlite3.DatabaseError as error:
        raise BackupError(f"{file.name} is not a backup of Neat Latch: {error}.") from error


def _newest_of(file: Path) -> tuple[int, str]:
    """Number and code of the newest journal entry in a database."""
    with contextlib.closing(sqlite3.connect(f"file:{file}?mode=ro", uri=True)) as copy:
        found = copy.execute(
            "SELECT number, own FROM journal_entry ORDER BY number DESC LIMIT 1"
        ).fetchone()
    return (int(found[0]), str(found[1])) if found else (0, chain.FIRST)


def back_up(to: Path, keys_to: Path | None) -> tuple[Path, list[Path], int]:
    """Copy the database, as it is at one moment, and the anchor of its journal into one folder, and
    the keys into another. Return the copies, and the number of journal entries in them.

    Raises :class:`BackupError`, also if both folders are the same: a copy with its key gives access
    to everything.
    """
    if keys_to is not None and (
        keys_to.resolve() == to.resolve() or keys_to.resolve().is_relative_to(to.resolve())
    ):
        raise BackupError(
            "The keys would lie beside the copy of the database. Give them a place of their "
            "own, best on another machine."
        )
    to.mkdir(parents=True, exist_ok=True)
    copy, half = to / f"desk-{_stamp()}.sqlite3", to / f".{os.getpid()}.half"
    half.touch(0o600)
    try:
        with (
            contextlib.closing(sqlite3.connect(settings.HOME / DATABASE)) as source,
            contextlib.closing(sqlite3.connect(half)) as target,
        ):
            source.backup(target)
            target.execute("PRAGMA journal_mode=DELETE")
            # Who is logged in now is nobody's concern later; no trace of it stays in pages that are
            # free.
            target.execute("PRAGMA secure_delete=ON")
            target.execute("DELETE FROM people_session")
            target.commit()
        entries = _looked_at(half)
        kept = copy.with_suffix(".anchor")
        kept.touch(0o600)
        kept.write_text(f"{journal.anchor_of(*_newest_of(half))}\n")
        half.replace(copy)
    finally:
        half.unlink(missing_ok=True)
    made = []
    if keys_to is not None:
        keys_to.mkdir(parents=True, exist_ok=True, mode=0o700)
        for name in KEYS:
            if (settings.HOME / name).exists():
                file = keys_to / f"{copy.stem}.{name}"
                file.touch(0o600)
                file.write_bytes((settings.HOME / name).read_bytes())
                made.append(file)
    write(
        SAFE_KEEPER,
        "backed up",
        "safe",
        copy.name,
        {"keys": bool(made), "anchor": kept.read_text().strip()},
    )
    return copy, made, entries


def put_back(copy: Path, key: Path, replace: bool) -> tuple[int, str]:
    """Put a backup and its key into the home, before anything is started; what stood there is moved
    aside. Returns its journal entries, and the ending of what was moved (:func:`take_back`). Raises
    :class:`BackupError`.
    """
    home: Path = settings.HOME
    for file in (copy, key):
        if not file.is_file():
            raise BackupError(f"{file} is not there.")
    entries = _looked_at(copy)
    home.mkdir(parents=True, exist_ok=True)
    if (home / DATABASE).exists() and not replace:
        raise BackupError(
            f"There is a database in {home} already. Stop desk and worker, and say --replace: "
            f"it is moved aside, not deleted."
        )
    if any(line for line in _who_has(home / DATABASE)):
        raise BackupError(
            "A program still has the database open. Stop desk, worker and TLS listener first."
        )
    stamp = _stamp()
    half, half_key = home / ".restored.half", home / ".key.half"
    for source, target in ((copy, half), (key, half_key)):
        target.touch(0o600)
        shutil.copyfile(source, target)
        target.chmod(0o600)
    for name in _MOVED:
        if (home / name).exists():
            (home / name).rename(home / f"{name}.before-{stamp}")
    half_key.replace(home / "safe.key")
    half.replace(home / DATABASE)
    return entries, stamp


def take_back(stamp: str) -> None:
    """Undo :func:`put_back`, where what was put there does not fit together: the home is as it was
    before.
    """
    connections.close_all()
    for name in _MOVED:
        stands, aside = settings.HOME / name, settings.HOME / f"{name}.before-{stamp}"
        if stands.is_dir():
            shutil.rmtree(stands)
        stands.unlink(missing_ok=True)
        if aside.exists():
            aside.rename(stands)


def _who_has(file: Path) -> list[int]:
    """Programs of this machine that have a file open (Linux)."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        if int(process.name) == os.getpid():
            continue
        with contextlib.suppress(OSError):
            found += [
                int(process.name)
                for path in (process / "fd").iterdir()
                if path.is_symlink() and os.readlink(path) == str(file)
            ]
    return found


def settle(stamp: str, copy: Path) -> list[str]:
    """After a restore: what the backup cannot know is made safe.

    ``stamp`` names what was moved aside, ``copy`` is the backup. Returns in words what was done.

    The journal is checked, with the anchor that lies beside the copy, and says to which entry it
    went back, and which was its newest before.
    """
    from neatlatch.desk.authority.records.certificates.models import Authority
    from neatlatch.desk.authority.records.house.models import Access, Grant
    from neatlatch.desk.ground.journal.models import Entry
    from neatlatch.desk.ground.people.models import Session

    from . import handovers

    now, said = timezone.now(), []
    kept = copy.with_suffix(".anchor")
    fault = journal.check(
        anchor=kept.read_text(errors="replace").strip() if kept.exists() else "", beside=False
    ).fault
    if fault is not None:
        said.append(f"THE JOURNAL OF THE COPY DOES NOT HOLD. {fault}")
    last = Entry.objects.order_by(
        "-number"
    ).first()  # before what is ended below writes entries of its own
    with transaction.atomic():
        ended_handovers = handovers.end_open(
            "it was restored from a backup, and may have been taken since"
        )
        ended = Access.objects.filter(revoked=None, ends__gt=now).update(revoked=now)
        # A refresh token that was spent since would be good once more, for anyone who has found it.
        grants = Grant.objects.filter(revoked=None).update(
            revoked=now, why="restored from a backup"
        )
        Session.objects.all().delete()
        # A list's number must never go back (RFC 5280 §5.2.3): more of them than this cannot have
        # been made since.
        Authority.objects.exclude(private=None).update(
            list_number=F("list_number") + 100_000, list_fresh_until=None
        )
    if ended_handovers:
        said.append(
            f"{ended_handovers} handovers that were open are closed, and what the house had "
            f"issued in them is revoked."
        )
    if ended:
        said.append(
            f"{ended} access tokens of the house are revoked; clients with a grant of their "
            f"own get new ones by themselves."
        )
    if grants:
        said.append(
            f"What people had allowed clients of the house ({grants}) is ended, for refresh "
            f"tokens may have been spent since. They allow it again when they sign in."
        )
    said.append("Everybody is logged out.")
    said.append(
        "What was revoked after the backup lives again: look through the credentials, and "
        "revoke it again."
    )
    said.append("A connection whose refresh token was used since must be signed in to again.")
    before = settings.HOME / f"{anchors.FILE}.before-{stamp}"
    write(
        SAFE_KEEPER,
        "restored",
        "safe",
        "from a backup",
        {
            "handovers": handovers,
            "tokens": ended,
            "journal held": fault or "yes",
            "went back to": last.number if last else 0,
            "whose code is": last.own if last else "",
            "anchor of before": before.read_text(errors="replace").strip()[:300]
            if before.exists()
            else "none was there",
        },
    )
    return said
