"""The health of Neat Latch itself, for people: what it runs on, and whether that is in order."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from pathlib import Path

from django.conf import settings
from django.utils import timezone
from huey.contrib.djhuey import HUEY

from neatlatch.core.lifetimes import in_words
from neatlatch.desk.authority import scheduled_backups
from neatlatch.desk.authority.scheduled_backups import BackupRecord
from neatlatch.desk.ground.common import beats
from neatlatch.desk.ground.common.beats import Beat

from .rounds import at_work

MIB = 1024 * 1024
# Common practice, no source: below this a file system is as good as full; a backup or a migration
# needs as much again as the database has.
_LEAST_FREE = 1024 * MIB
# A write-ahead log grows while somebody reads for long, or nothing checkpoints it.
_LARGE_LOG = 256 * MIB
# So many turns of what is done by the clock may be missed, and so many seconds in any case, before
# it counts as late: a machine may have been asleep, or busy.
_MISSED, _PATIENCE = 3, 60
# Seconds that one turn may take: a large import, or all summaries anew after an update.
_LONGEST = 2 * 60 * 60
_LONG_QUEUE = 500
# What is done by the clock, as people read it.
_WHAT = {
    "rounds": "rounds",
    "renewals": "renewals of tokens",
    "leftovers": "clearing away what tests left behind",
    "house": "the house authority's lists",
    "settling": "what lists show",
    "imports": "imports",
    "backups": "backups",
}
_BACKUP_HOLDS = timedelta(days=7)


class State(StrEnum):
    """How a part of Neat Latch is."""

    GOOD = "good"
    WARNING = "warning"
    BAD = "bad"


@dataclass(frozen=True)
class Check:
    """One part: how it is, in a sentence, and what to do, empty: nothing."""

    key: str
    name: str
    state: State
    says: str
    act: str = ""


@dataclass(frozen=True)
class HealthFacts:
    """What is seen; sizes in octets. ``worker``: one runs; ``waiting`` tasks stand in its queue."""

    now: datetime
    database: int
    log: int
    free: int
    worker: bool
    waiting: int
    beats: Sequence[Beat] = field(default_factory=tuple)
    backup: BackupRecord = BackupRecord(None)


def facts() -> HealthFacts:
    """Look now. Two queries."""
    file = Path(str(settings.DATABASES["default"]["NAME"]))
    return HealthFacts(
        now=timezone.now(),
        database=_size(file),
        log=_size(file.with_name(f"{file.name}-wal")),
        free=shutil.disk_usage(settings.HOME).free,
        worker=at_work.is_running(),
        waiting=HUEY.pending_count(),
        beats=beats.last(),
        backup=scheduled_backups.record(),
    )


def judge(seen: HealthFacts) -> tuple[Check, ...]:
    """Each part in turn, by what is seen."""
    parts = (_database, _disk, _worker, _clockwork, _queue, _copy)
    return tuple(part(seen) for part in parts)


def _size(file: Path) -> int:
    return file.stat().st_size if file.exists() else 0


def _octets(size: int) -> str:
    return f"{size / MIB / 1024:,.1f} GiB" if size >= 1024 * MIB else f"{size / MIB:,.1f} MiB"


def _database(seen: HealthFacts) -> Check:
    says = f"It responds. It has {_octets(seen.database)}, and a log of {_octets(seen.log)}."
    if seen.log > _LARGE_LOG:
        return Check(
            "database",
            "Database",
            State.WARNING,
            says,
            "Its log does not shrink: something reads for long. Start Neat Latch again.",
        )
    return Check("database", "Database", State.GOOD, says)


def _disk(seen: HealthFacts) -> Check:
    says = f"{_octets(seen.free)} are free where the database is."
    if seen.free < _LEAST_FREE or seen.free < seen.database:
        act = "Make room: a backup and an update need as much again as the database has."
        state = State.BAD if seen.free < _LEAST_FREE // 4 else State.WARNING
        return Check("disk", "Disk", state, says, act)
    return Check("disk", "Disk", State.GOOD, says)


def _worker(seen: HealthFacts) -> Check:
    if seen.worker:
        return Check("worker", "Worker", State.GOOD, "It is running.")
    return Check(
        "worker",
        "Worker",
        State.BAD,
        "It does not run: no round begins, no token is renewed, no import goes on.",
        "Start it: nlatch serve starts it with the desk, and again where it ends.",
    )


def _clockwork(seen: HealthFacts) -> Check:
    key, name = "clockwork", "Scheduled jobs"
    if not seen.beats:
        return Check(key, name, State.WARNING, "No scheduled job has run yet.")
    if not seen.worker:
        return Check(key, name, State.BAD, "It stopped with the worker.")
    late = [beat for beat in seen.beats if _is_late(beat, seen.now)]
    failed = [beat for beat in seen.beats if beat.failed and beat not in late]
    newest = max(beat.at for beat in seen.beats)
    if late:
        named = ", ".join(f"{_in_words(beat)} ({_ago(beat.at, seen.now)})" for beat in late)
        return Check(
            key,
            name,
            State.BAD,
            f"Late: {named}.",
            "Look into the worker's log, and start it again.",
        )
    if failed:
        named = ", ".join(f"{_in_words(beat)} ({beat.failed})" for beat in failed)
        says = f"Failed the last time: {named}. It is tried again by itself."
        return Check(key, name, State.WARNING, says, "The worker's log says why.")
    names = ", ".join(_in_words(beat) for beat in seen.beats)
    says = f"Each ran in time, the last {_ago(newest, seen.now)}: {names}."
    return Check(key, name, State.GOOD, says)


def _in_words(beat: Beat) -> str:
    return _WHAT.get(beat.name, beat.name)


def _is_late(beat: Beat, now: datetime) -> bool:
    turns = _LONGEST if beat.goes_on else max(_MISSED * beat.every, _PATIENCE)
    return (now - beat.at).total_seconds() > turns


def _ago(at: datetime, now: datetime) -> str:
    return f"{in_words(now - at)} ago"


def _queue(seen: HealthFacts) -> Check:
    says = f"{seen.waiting:,} waiting." if seen.waiting else "Nothing is waiting."
    if seen.waiting > _LONG_QUEUE or (seen.waiting and not seen.worker):
        act = "The worker does not keep up; see above." if seen.worker else "Start the worker."
        return Check("queue", "Queue of the worker", State.WARNING, says, act)
    return Check("queue", "Queue of the worker", State.GOOD, says)


def _copy(seen: HealthFacts) -> Check:
    key, name = "backup", "Last backup"
    act = "Make one: nlatch backup. NEATLATCH_BACKUPS has them made by schedule."
    at, opened = seen.backup.at, seen.backup.opened
    if at is None:
        return Check(key, name, State.WARNING, "There has been none.", act)
    says = f"It was made {_ago(at, seen.now)}."
    if opened is False:
        says += f" Restored on trial, it did not open. {seen.backup.says}"
        return Check(key, name, State.BAD, says, "Make another, and see: nlatch drill.")
    says += " Restored on trial, it opened." if opened else " Nobody has tried whether it opens."
    if seen.now - at > _BACKUP_HOLDS:
        return Check(key, name, State.WARNING, says, act)
    return Check(key, name, State.GOOD, says, "" if opened else "Try it: nlatch drill.")
