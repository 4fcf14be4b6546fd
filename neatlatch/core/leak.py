"""A credential has leaked: finding it in whatever was pasted, and when revoking it stops whom."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime

from . import house_key
from .schemes import OAUTH2

MOST_WORDS, LONGEST = 500, 20_000
_WORD = re.compile(r"[^\s\"'`<>,;()\[\]{}]{8,4000}")
_END = re.compile(r"^[=:]+|[.,;:!?…]+$")


def candidates(text: str) -> tuple[str, ...]:
    """What in a text may be a credential: keys of the house first, then the whole text, then its words and what stands after ``=`` or ``:`` in them."""
    text = text[:LONGEST]
    found = dict.fromkeys(house_key.find_in(text))
    found.setdefault(text.strip())
    for word in _WORD.findall(text)[:MOST_WORDS]:
        for part in (word, word.partition("=")[2], word.rpartition(":")[2], word.rpartition("=")[2]):
            cleaned = _END.sub("", part)
            if len(cleaned) >= 8:
                found.setdefault(cleaned)
    return tuple(found)


@dataclass(frozen=True)
class Stop:
    """When a connection stops once its credential is revoked, and why then. ``at`` is ``None`` for at once."""

    at: datetime | None
    says: str


def stop(scheme: str, house: bool, token_ends: datetime | None, has_token: bool, now: datetime) -> Stop:
    """When those who use a connection are stopped by the end of its secret. A token that was got with it lives on at an application (RFC 6749 §1.5) unless that
    ends it too; the house authority ends both at once."""
    if house:
        return Stop(None, "at once: the house authority ends the tokens that were got with it, too")
    if scheme in OAUTH2 and has_token and token_ends is not None and token_ends > now:
        return Stop(token_ends, "when the token it holds now ends, unless the application ends that as well")
    if scheme in OAUTH2 and has_token and token_ends is None:
        return Stop(None, "nobody can say: the token it holds has no end")
    return Stop(None, "at once: it is shown with every call" if scheme not in OAUTH2 else "at once: it holds no token that lives")
