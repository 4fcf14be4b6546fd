"""The journal's hash chain: each entry holds the hash of the one before (SHA-256), so that nothing can be changed unseen."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

FIRST = "0" * 64


@dataclass(frozen=True)
class Link:
    """An entry as it is hashed: its number from 1, its content as plain values, the hash before and its own."""

    number: int
    content: Mapping[str, Any]
    before: str
    own: str


def own_hash(number: int, content: Mapping[str, Any], before: str) -> str:
    """SHA-256 over number, content and the hash before, as JSON with sorted keys and no spaces (FIPS 180-4)."""
    text = json.dumps([number, content, before], sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(text.encode("utf-8")).hexdigest()


def first_fault(links: Iterable[Link]) -> str | None:
    """The first place where the chain does not hold, in words; ``None``: it holds from end to end."""
    before, number = FIRST, 0
    for link in links:
        if link.number != number + 1:
            return f"Entry {number + 1} is missing; entry {link.number} follows entry {number}."
        number = link.number
        if link.before != before:
            return f"Entry {number} does not follow the entry before it: one of the two was changed or replaced."
        if own_hash(number, link.content, before) != link.own:
            return f"Entry {number} was changed after it was written."
        before = link.own
    return None
