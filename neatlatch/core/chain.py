"""The journal's chain: each entry holds the code of the one before, so that nothing can be changed,
left out or put in unseen.

The code is an HMAC (RFC 2104, with SHA-256) under a key that is kept outside the database: anyone
who can write to the database cannot make the chain anew. Entries of before there was a key have a
plain hash; the first keyed entry takes them over. An *anchor* names the newest entry and is kept
elsewhere: cutting entries off at the end breaks no chain, and is found by it.
"""

from __future__ import annotations

import hashlib
import hmac
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

FIRST = "0" * 64
# Where a check begins so often that it stays short.
CHECKPOINT_EVERY = 1_000
_ANCHOR = "nlj1"


@dataclass(frozen=True)
class Link:
    """An entry as it is covered: its number from 1, its content as plain values, the code before
    and its own.
    """

    number: int
    content: Mapping[str, Any]
    before: str
    own: str


@dataclass(frozen=True)
class CheckStart:
    """Where a check begins: after the entry of this number and code; by default at the
    beginning.
    """

    number: int = 0
    own: str = FIRST


@dataclass(frozen=True)
class Anchor:
    """The newest entry at some moment, and the first that is keyed."""

    number: int
    own: str
    keyed_from: int = 1


def _text(number: int, content: Mapping[str, Any], before: str) -> bytes:
    """Number, content and the code before, as JSON with sorted keys and no spaces."""
    return json.dumps(
        [number, content, before], sort_keys=True, separators=(",", ":"), ensure_ascii=False
    ).encode("utf-8", "surrogatepass")


def plain_hash(number: int, content: Mapping[str, Any], before: str) -> str:
    """SHA-256 (FIPS 180-4), as entries had before there was a key."""
    return hashlib.sha256(_text(number, content, before)).hexdigest()


def own_code(key: bytes, number: int, content: Mapping[str, Any], before: str) -> str:
    """The code of an entry: HMAC-SHA-256 (RFC 2104)."""
    return hmac.new(key, _text(number, content, before), hashlib.sha256).hexdigest()


def first_fault(
    links: Iterable[Link], key: bytes, keyed_from: int = 1, start: CheckStart = CheckStart()
) -> str | None:
    """The first place after ``start`` where the chain does not hold, in words; ``None``: it holds.

    Entries before ``keyed_from`` have a plain hash.
    """
    before, number = start.own, start.number
    for link in links:
        if link.number != number + 1:
            return f"Entry {number + 1} is missing; entry {link.number} follows entry {number}."
        number = link.number
        if link.before != before:
            return (
                f"Entry {number} does not follow the entry before it: one of the two was "
                f"changed or replaced."
            )
        right = (
            own_code(key, number, link.content, before)
            if number >= keyed_from
            else plain_hash(number, link.content, before)
        )
        if not hmac.compare_digest(right, link.own):
            return f"Entry {number} was changed after it was written."
        before = link.own
    return None


def _sealed(key: bytes, text: str) -> str:
    return hmac.new(key, b"anchor " + text.encode("ascii"), hashlib.sha256).hexdigest()


def written(anchor: Anchor, key: bytes) -> str:
    """An anchor as one line of text, which nobody without the key can make."""
    text = f"{_ANCHOR}.{anchor.number}.{anchor.keyed_from}.{anchor.own}"
    return f"{text}.{_sealed(key, text)}"


def read(text: str, key: bytes) -> Anchor | None:
    """The anchor in a line of text; ``None``: it is none, or was not made with this key."""
    parts = text.strip().split(".")
    if len(parts) != 5 or parts[0] != _ANCHOR or not all(part.isascii() for part in parts):
        return None
    if not hmac.compare_digest(_sealed(key, ".".join(parts[:4])), parts[4]):
        return None
    return Anchor(int(parts[1]), parts[3], int(parts[2]))


def beyond_anchor(anchor: Anchor, newest: int, own_there: str | None) -> str | None:
    """What an anchor finds, in words: entries cut off after the ``newest``, or another entry where
    it names one (``own_there``). ``None``: nothing.
    """
    if newest < anchor.number:
        gone = anchor.number - newest
        return (
            f"{'The newest entry is' if gone == 1 else f'The newest {gone} entries are'} "
            f"missing: the journal ends with {newest}, and had {anchor.number}."
        )
    if own_there is None or not hmac.compare_digest(own_there, anchor.own):
        return (
            f"Entry {anchor.number} is not the one that was written: it, or all up to it, was "
            f"replaced."
        )
    return None
