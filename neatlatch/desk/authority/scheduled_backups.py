"""Backups by schedule: each is restored on trial, and the oldest make room for the newest.

The keys are not among them: they are to lie apart from the copies, where nobody puts them by
schedule.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

import structlog
from django.conf import settings
from django.utils import timezone

from neatlatch.desk.ground.common.actors import SAFE_KEEPER
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.journal.services import write

from . import backup, drills

log = structlog.get_logger()
_NAME = re.compile(r"desk-[0-9]{8}-[0-9]{6}\.sqlite3")
_BACKED_UP, _TRIED = "backed up", "restored on trial"


@dataclass(frozen=True)
class BackupRecord:
    """When the last backup was made, by schedule or by a person, and what came of the last restore
    on trial: ``opened`` (``None``: none was tried) and what was said.
    """

    at: datetime | None
    opened: bool | None = None
    says: str = ""


def record() -> BackupRecord:
    """What the journal knows of backups. Two queries."""
    last, tried = (
        Entry.objects.filter(noun="safe", did=did).order_by("-number").first()
        for did in (_BACKED_UP, _TRIED)
    )
    if last is None or tried is None or tried.number < last.number:
        return BackupRecord(last.at if last else None)
    return BackupRecord(
        last.at, tried.details.get("opens") is True, str(tried.details.get("says", ""))
    )


def look_after() -> None:
    """Make a backup if one is due. Raises :class:`backup.BackupError` and ``OSError``."""
    if not settings.BACKUPS:
        return
    last = record().at
    if last is None or timezone.now() - last >= timedelta(hours=settings.BACKUP_HOURS):
        make(Path(settings.BACKUPS))


def make(folder: Path) -> drills.DrillResult:
    """Back up into a folder and restore that on trial. Where it opens, copies beyond those that are
    kept are taken away, the oldest first; else all stay.
    """
    copy, _, _ = backup.back_up(folder, None)
    found = try_out(copy, settings.HOME / "safe.key")
    if found.opens:
        _make_room(folder)
    return found


def try_out(copy: Path, key: Path) -> drills.DrillResult:
    """Restore a backup on trial, and write down what came of it."""
    found = drills.drill(copy, key)
    details = {"opens": found.opens, "says": found.says, "seconds": round(found.seconds, 1)}
    write(SAFE_KEEPER, _TRIED, "safe", copy.name, details)
    if not found.opens:
        log.error("a backup does not open", copy=copy.name, says=found.says)
    return found


def _make_room(folder: Path) -> None:
    copies = sorted(path for path in folder.iterdir() if _NAME.fullmatch(path.name))
    for copy in copies[: -settings.BACKUPS_KEPT]:
        copy.unlink(missing_ok=True)
        copy.with_suffix(".anchor").unlink(missing_ok=True)
