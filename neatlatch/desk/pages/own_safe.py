"""The safe of Neat Latch itself: the versions of its key, and its backups."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from django.http import HttpRequest
from ninja import Router

from neatlatch.desk.authority import safe_report
from neatlatch.desk.ground import guard

router = Router(tags=["health"])


@dataclass(frozen=True, kw_only=True)
class KeyVersionOut:
    """A version of the sealing key; ``since`` is when it was brought into use (none: it is the
    first).
    """

    number: int
    in_use: bool
    since: datetime | None


@dataclass(frozen=True, kw_only=True)
class SafeOut:
    """The safe: its key, when values were last sealed with another (``rekeyed``), and its backups:
    the last, whether restoring it on trial opened it, and how they are made by schedule.
    """

    versions: list[KeyVersionOut]
    rekeyed_at: datetime | None
    rekeyed_values: int
    rekeyed_lost: int
    backup_at: datetime | None
    backup_opened: bool | None
    backup_says: str
    backups_folder: str
    backup_hours: float
    backups_kept: int


@router.get("/safe", response=SafeOut)
def safe(request: HttpRequest) -> SafeOut:
    """The versions of the safe's key, and its last backup."""
    guard.need(request, "look")
    report = safe_report.report()
    rekeyed, backup = report.rekeyed, report.last_backup
    return SafeOut(
        versions=[KeyVersionOut(**vars(version)) for version in report.versions],
        rekeyed_at=rekeyed.at if rekeyed else None,
        rekeyed_values=rekeyed.values if rekeyed else 0,
        rekeyed_lost=rekeyed.lost if rekeyed else 0,
        backup_at=backup.at,
        backup_opened=backup.opened,
        backup_says=backup.says,
        backups_folder=report.folder,
        backup_hours=report.hours,
        backups_kept=report.kept,
    )
