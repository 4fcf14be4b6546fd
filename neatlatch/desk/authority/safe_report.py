"""What is known of the safe, for people: the versions of its key, and its backups."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from django.conf import settings

from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.journal.models import Entry

from . import rekeying, scheduled_backups
from .scheduled_backups import BackupRecord


@dataclass(frozen=True)
class KeyVersion:
    """A version of the sealing key in the key file. ``since`` is when it was brought into use
    (``None``: it is the first).
    """

    number: int
    in_use: bool
    since: datetime | None


@dataclass(frozen=True)
class Rekeyed:
    """When the values were last sealed with another key: how many, and how many could not be
    opened.
    """

    at: datetime
    values: int
    lost: int


@dataclass(frozen=True)
class SafeReport:
    """The safe. ``folder`` is where backups are made by schedule (empty: nowhere), each so many
    ``hours``, and so many are ``kept``.
    """

    versions: list[KeyVersion]
    rekeyed: Rekeyed | None
    last_backup: BackupRecord
    folder: str
    hours: float
    kept: int


def report() -> SafeReport:
    """The safe as its key file, the settings and the journal tell. Three queries, and one more for
    each version of the key.
    """
    entries = Entry.objects.filter(noun="safe").order_by("-number")
    last = entries.filter(did=rekeying.SEALED_ANEW).first()
    current = safe.current_version()
    return SafeReport(
        versions=[
            KeyVersion(
                number=number,
                in_use=number == current,
                since=entries.filter(did=rekeying.NEW_KEY, ref=rekeying.version_named(number))
                .values_list("at", flat=True)
                .first(),
            )
            for number in safe.versions()
        ],
        rekeyed=Rekeyed(last.at, int(last.details["values"]), int(last.details["lost"]))
        if last
        else None,
        last_backup=scheduled_backups.record(),
        folder=str(settings.BACKUPS or ""),
        hours=settings.BACKUP_HOURS,
        kept=settings.BACKUPS_KEPT,
    )
