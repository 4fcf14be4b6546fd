"""Writing and checking the journal."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import structlog
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from neatlatch.core import chain
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import JOURNAL_KEEPER, Actor

from . import anchors, triggers
from .models import ABOUT, Check, Checkpoint, Entry

log = structlog.get_logger()
TOOK_OVER = "took over the journal of before"
# The whole journal is checked in slices, once a week.
SLICE, EVERY, SOON = 2_000, timedelta(days=7), timedelta(hours=1)


@dataclass(frozen=True)
class DeclaredChange:
    """How a service tells of a change that a file declares: what was done, and in words what
    changed.
    """

    did: str
    changes: tuple[str, ...] = ()

    # So many are kept; a file may change a thousand.
    MOST = 50

    def write(self, who: Actor, noun: str, ref: str) -> Entry:
        """Write the entry, as part of the surrounding transaction."""
        return write(who, self.did, noun, ref, {"changes": list(self.changes[: self.MOST])})


@transaction.atomic(savepoint=False)
def write(
    who: Actor, did: str, noun: str, ref: str, details: dict[str, Any] | None = None
) -> Entry:
    """Write an entry as part of the surrounding transaction, which holds the write lock, so numbers
    have no gaps.

    ``who`` is a person or a program.
    """
    last = Entry.objects.order_by("-number").only("number", "own").first()
    if last is not None and not _is_ours(last) and not anchors.exists():
        last = _take_over(last)
    return _append(last, who.username, did, noun, ref, details or {})


# The newest entry that this process wrote: where it still is the newest, nothing needs to be looked
# up.
_written: list[chain.Anchor] = []


def _is_ours(last: Entry) -> bool:
    return bool(_written) and (_written[0].number, _written[0].own) == (last.number, last.own)


def _append(
    last: Entry | None, who: str, did: str, noun: str, ref: str, details: dict[str, Any]
) -> Entry:
    number, before = (last.number + 1, last.own) if last else (1, chain.FIRST)
    plain = json.loads(json.dumps(details, default=str))
    entry = Entry(
        number=number,
        at=timezone.now(),
        who=who[:150],
        did=did,
        noun=noun,
        ref=str(ref)[:200],
        details=plain,
        before=before,
    )
    entry.own = chain.own_code(safe.journal_key(), number, entry.content(), before)
    entry.save(force_insert=True)
    anchor = chain.Anchor(
        number,
        entry.own,
        _written[0].keyed_from if last is not None and _is_ours(last) else _keyed_from(),
    )
    _written[:] = [anchor]
    if number % chain.CHECKPOINT_EVERY == 0:
        Checkpoint.objects.create(number=number, sealed=chain.written(anchor, safe.journal_key()))
    transaction.on_commit(lambda: _advance(anchor, before), robust=True)
    return entry


def _advance(anchor: chain.Anchor, before: str) -> None:
    """Let the anchor name a new entry; not where the one it names is no longer what it was: then it
    is the only trace of what stood there.
    """
    stands = anchors.newest()
    if stands is not None and stands.number < anchor.number:
        follows = (stands.number + 1, stands.own) == (anchor.number, before)
        there = (
            before
            if follows
            else Entry.objects.filter(number=stands.number).values_list("own", flat=True).first()
        )
        if not follows and there != stands.own:
            log.error(
                "the journal does not hold",
                fault=f"entry {stands.number} is not the one that its anchor names",
            )
            return
    anchors.advance(anchor)


def _keyed_from() -> int:
    """The first entry with a keyed code: that which took over those of before, else the first of
    all.
    """
    if (known := anchors.newest()) is not None:
        return known.keyed_from
    return (
        Entry.objects.filter(noun="journal", did=TOOK_OVER).values_list("number", flat=True).first()
        or 1
    )


@transaction.atomic
def take_over_old() -> None:
    """Let the first keyed entry follow a journal that was written before entries were keyed; a
    migration does this once.

    Done at the first entry instead, a check between the two would say that somebody had changed the
    journal.
    """
    last = Entry.objects.order_by("-number").only("number", "own").first()
    if last is not None and not anchors.exists():
        _take_over(last)


def _take_over(last: Entry) -> Entry:
    """The first keyed entry names the newest of before.

    Where that is keyed itself, only the anchor is missing, which the next check tells.
    """
    stands = Entry.objects.get(pk=last.number)
    if (
        chain.own_code(safe.journal_key(), stands.number, stands.content(), stands.before)
        == stands.own
    ):
        return last
    return _append(
        last,
        JOURNAL_KEEPER.username,
        TOOK_OVER,
        "journal",
        str(last.number),
        {"number": last.number, "own": last.own},
    )


def changes_since(noun: str, identity: Any, version: int) -> list[dict[str, Any]]:
    """What was changed of a thing after a version of it, in words, oldest first: who, when, and
    what.

    Entries that tell a change of a versioned thing carry its ``id`` and the ``version`` that the
    change made.
    """
    about = Entry.objects.alias(about=ABOUT).filter(about=str(identity), noun=noun)
    entries = about.filter(details__version__gt=version).order_by("number")[:50]
    return [
        {
            "by": entry.who,
            "at": entry.at.isoformat(),
            "changes": entry.details.get("changes") or [f"{entry.did}"],
        }
        for entry in entries
    ]


# Checking


@dataclass(frozen=True)
class JournalVerdict:
    """What a check found: the fault in words, or ``None``; of how many entries in all; and the
    first that was looked at.
    """

    fault: str | None
    entries: int
    looked_from: int


def _links(rows: QuerySet[Entry]) -> Iterator[chain.Link]:
    for row in rows.order_by("number").iterator(chunk_size=2_000):
        yield chain.Link(row.number, row.content(), row.before, row.own)


def _last_number() -> int:
    return Entry.objects.order_by("-number").values_list("number", flat=True).first() or 0


def check(whole: bool = True, anchor: str = "", beside: bool = True) -> JournalVerdict:
    """Check triggers, anchor and chain; not ``whole``: only from the last checkpoint on.

    ``anchor`` is one that was kept elsewhere, to be found in the journal too; not ``beside``: the
    one beside the database is not looked at.
    """
    last = _last_number()
    fault = _about(last, anchor, beside)
    if fault is not None or last == 0:
        return JournalVerdict(fault, last, 1)
    start = chain.CheckStart()
    if not whole:
        fault, start = _checkpoint(last)
    if fault is None:
        fault = chain.first_fault(
            _links(Entry.objects.filter(number__gt=start.number)),
            safe.journal_key(),
            _keyed_from(),
            start,
        )
    return JournalVerdict(fault, last, start.number + 1)


def _about(last: int, anchor: str = "", beside: bool = True) -> str | None:
    """What triggers and anchors find."""
    if gone := triggers.missing():
        return (
            f"The database does not refuse to change the journal: {', '.join(gone)} is missing "
            f"or another."
        )
    kept = [anchors.newest() if beside else None]
    if beside and kept == [None] and (anchors.exists() or _keyed(last)):
        return (
            "The anchor beside the database is missing or is not ours: nobody can tell whether "
            "entries were cut off."
        )
    if anchor:
        if (told := chain.read(anchor, safe.journal_key())) is None:
            return "The anchor that was given was not made here."
        kept.append(told)
    for trigger in kept:
        if trigger is not None:
            there = (
                Entry.objects.filter(number=trigger.number).values_list("own", flat=True).first()
            )
            if fault := chain.beyond_anchor(trigger, last, there):
                return fault
    return None


def _keyed(number: int) -> bool:
    stands = Entry.objects.filter(number=number).first()
    return (
        stands is not None
        and chain.own_code(safe.journal_key(), stands.number, stands.content(), stands.before)
        == stands.own
    )


def _checkpoint(last: int) -> tuple[str | None, chain.CheckStart]:
    """Where a check of the newest entries begins; or what is wrong with that."""
    number = last - last % chain.CHECKPOINT_EVERY
    if number < max(_keyed_from(), 1):
        return None, chain.CheckStart()
    kept = Checkpoint.objects.filter(number=number).values_list("sealed", flat=True).first()
    told = chain.read(kept, safe.journal_key()) if kept else None
    if told is None or told.number != number:
        return f"The checkpoint at entry {number} is missing or is not ours.", chain.CheckStart()
    there = Entry.objects.filter(number=number).values_list("own", flat=True).first()
    return chain.beyond_anchor(told, last, there), chain.CheckStart(number, told.own)


def check_and_record() -> JournalVerdict:
    """:func:`check` of the whole, whose outcome stands from now on."""
    begun, verdict = timezone.now(), check()
    last = (
        Entry.objects.filter(number=verdict.entries).values_list("own", flat=True).first()
        or chain.FIRST
    )
    Check.objects.create(
        begun=begun,
        ended=timezone.now(),
        number=verdict.entries,
        own=last,
        fault=(verdict.fault or "")[:300],
    )
    return verdict


def check_at_start() -> str | None:
    """When a program starts: the newest entries, the anchor and the triggers, which are made anew
    where they are gone. Returns the fault, which the log has too.
    """
    verdict = check(whole=False)
    if gone := triggers.missing():
        with transaction.atomic():
            triggers.make(gone)
            write(
                JOURNAL_KEEPER,
                "recreated the triggers of",
                "journal",
                str(verdict.entries),
                {"missing": gone},
            )
    if verdict.fault is not None:
        log.error("the journal does not hold", fault=verdict.fault)
        _record_fault(verdict.fault)
    return verdict.fault


def _record_fault(fault: str) -> None:
    """A fault is told until a check of the whole journal holds again."""
    if standing() != fault:
        now = timezone.now()
        Check.objects.create(begun=now, ended=now, own=chain.FIRST, fault=fault[:300])


def standing() -> str:
    """The fault that the last check which came to its end found; empty: it held, or
    there was none.
    """
    return (
        Check.objects.exclude(ended=None).order_by("-ended").values_list("fault", flat=True).first()
        or ""
    )


def checked_at() -> datetime | None:
    """When the whole journal was last found to hold, or not to."""
    return (
        Check.objects.exclude(ended=None).order_by("-ended").values_list("ended", flat=True).first()
    )


def check_a_slice(now: datetime) -> None:
    """Go on with the check of the whole journal, or begin one where the last is a week old."""
    going = Check.objects.filter(ended=None).first()
    if going is None:
        # Of the whole: a fault that was found otherwise is noted without a number, and is looked
        # into soon.
        every = SOON if standing() else EVERY
        if Check.objects.filter(begun__gt=now - every, number__gt=0).exists():
            return
        going = Check.objects.create(begun=now, own=chain.FIRST)
    last = _last_number()
    rows = Entry.objects.filter(number__gt=going.number, number__lte=going.number + SLICE)
    fault = _about(last) or chain.first_fault(
        _links(rows), safe.journal_key(), _keyed_from(), chain.CheckStart(going.number, going.own)
    )
    reached = min(going.number + SLICE, last)
    going.number = reached
    going.own = (
        Entry.objects.filter(number=reached).values_list("own", flat=True).first() or chain.FIRST
    )
    if fault is not None or reached >= last:
        going.ended, going.fault = now, (fault or "")[:300]
        Check.objects.filter(ended__lt=now - 10 * EVERY).delete()
    going.save()
    if fault is not None:
        log.error("the journal does not hold", fault=fault)


def anchor() -> str:
    """The anchor as one line, to be kept elsewhere; empty: there is none."""
    known = anchors.newest()
    return chain.written(known, safe.journal_key()) if known is not None else ""


def anchor_of(number: int, own: str) -> str:
    """The anchor of a journal whose newest entry is this, as one line."""
    return chain.written(chain.Anchor(number, own, _keyed_from()), safe.journal_key())
