"""Writing and checking the journal."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from django.db import transaction
from django.utils import timezone

from neatlatch.core import chain

from .models import Entry

if TYPE_CHECKING:
    from neatlatch.desk.people.models import Person


@transaction.atomic
def write(who: Person | str | None, did: str, noun: str, ref: str, details: dict[str, Any] | None = None) -> Entry:
    """Write an entry as part of the surrounding transaction, which holds the write lock, so numbers have no gaps.

    ``who`` is a person, or the name of a program such as “the round”.
    """
    name = who if isinstance(who, str) else who.username if who is not None else "nobody"
    last = Entry.objects.order_by("-number").only("number", "own").first()
    number, before = (last.number + 1, last.own) if last else (1, chain.FIRST)
    plain = json.loads(json.dumps(details or {}, default=str))
    entry = Entry(number=number, at=timezone.now(), who=name, did=did, noun=noun, ref=str(ref)[:200], details=plain, before=before)
    entry.own = chain.own_hash(number, entry.content(), before)
    entry.save(force_insert=True)
    return entry


def changes_since(noun: str, identity: Any, version: int) -> list[dict[str, Any]]:
    """What was changed of a thing after a version of it, in words, oldest first: who, when, and what.

    Entries that tell a change of a versioned thing carry its ``id`` and the ``version`` that the change made.
    """
    entries = Entry.objects.filter(
        noun=noun, details__id=identity if isinstance(identity, int) else str(identity), details__version__gt=version
    ).order_by("number")[:50]
    return [{"by": one.who, "at": one.at.isoformat(), "changes": one.details.get("changes") or [f"{one.did}"]} for one in entries]


def first_fault() -> str | None:
    """The first place where the chain does not hold, in words; ``None``: it holds."""
    entries = Entry.objects.order_by("number").iterator(chunk_size=2000)
    return chain.first_fault(chain.Link(one.number, one.content(), one.before, one.own) for one in entries)
