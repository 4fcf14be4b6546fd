"""Reading the journal."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db.models import Q
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.journal import services
from neatlatch.desk.ground.journal.models import Entry

router = Router(tags=["journal"])


@dataclass(frozen=True, kw_only=True)
class EntryOut:
    """An entry."""

    number: int
    at: datetime
    who: str
    did: str
    noun: str
    ref: str
    details: dict[str, Any]
    own: str


@dataclass(frozen=True, kw_only=True)
class Entries:
    """A page of entries, newest first."""

    items: list[EntryOut]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class ChainOut:
    """Whether the journal holds: its newest entries, from ``looked_from`` on, now; and all of it at
    ``whole_at`` (empty: not yet).
    """

    holds: bool
    entries: int
    fault: str | None
    looked_from: int
    whole_at: datetime | None


def _entry_out(entry: Entry) -> EntryOut:
    return EntryOut(
        number=entry.number,
        at=entry.at,
        who=entry.who,
        did=entry.did,
        noun=entry.noun,
        ref=entry.ref,
        details=entry.details,
        own=entry.own,
    )


@router.get("/journal", response=Entries)
def entries(request: HttpRequest, cursor: str | None = None, words: str = "") -> HttpResponse:
    """Entries, newest first; ``words`` filters by who, what and name."""
    guard.need(request, "read_journal")
    rows, some = Entry.objects.all(), words.split()
    if len(some) > filter_words.MOST:
        raise wrong_fields({"words": f"At most {filter_words.MOST} words are looked for."})
    for word in some:
        rows = rows.filter(
            Q(who__icontains=word)
            | Q(did__icontains=word)
            | Q(noun__icontains=word)
            | Q(ref__icontains=word)
        )
    found, following = page(rows, "number", cursor, descending=True)
    return written(Entries(items=[_entry_out(entry) for entry in found], next=following))


@router.get("/journal/chain", response=ChainOut)
def check(request: HttpRequest) -> ChainOut:
    """Check the newest entries, the anchor and the triggers.

    The whole chain is checked once a week, and by ``nlatch journal check``; a fault stays told.
    """
    guard.need(request, "read_journal")
    found = services.check(whole=False)
    fault = found.fault or services.standing() or None
    return ChainOut(
        holds=fault is None,
        entries=found.entries,
        fault=fault,
        looked_from=found.looked_from,
        whole_at=services.checked_at(),
    )
