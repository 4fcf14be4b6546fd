"""Signing keys take turns without a token being refused: a key is published before it signs, and
stays published until the last token it signed has expired.

RFC 7517 §5 has keys side by side; the times follow from how long receivers keep the key set (common
practice, no source).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Literal

Turn = Literal["waiting", "signing", "leaving", "gone"]


@dataclass(frozen=True)
class Key:
    """When a key is published, signs, and goes.

    ``signs_until`` and ``published_until`` are open until another takes over.
    """

    kid: str
    published_from: datetime
    signs_from: datetime
    signs_until: datetime | None = None
    published_until: datetime | None = None


def turn(key: Key, now: datetime) -> Turn:
    """Where a key stands."""
    if key.published_until is not None and now >= key.published_until:
        return "gone"
    if now < key.signs_from:
        return "waiting"
    return "signing" if key.signs_until is None or now < key.signs_until else "leaving"


def published(keys: Iterable[Key], now: datetime) -> tuple[Key, ...]:
    """The keys that receivers are shown, the one that signs first."""
    shown = [key for key in keys if turn(key, now) != "gone"]
    return tuple(sorted(shown, key=lambda key: (turn(key, now) != "signing", key.signs_from)))


def signer(keys: Iterable[Key], now: datetime) -> Key | None:
    """The key that signs now: of those whose turn it is, the newest."""
    return max(
        (key for key in keys if turn(key, now) == "signing"),
        key=lambda key: key.signs_from,
        default=None,
    )


def take_over(
    keys: Iterable[Key], kid: str, now: datetime, kept_for: timedelta, longest_token: timedelta
) -> tuple[Key, ...]:
    """Another key takes over: published now, signing once every receiver has fetched the set anew
    (``kept_for``), its forerunners published until the last token they signed has ended
    (``longest_token``). The first key of all signs at once. Returns the keys that changed, the new
    one last.

    Raises ``ValueError`` while another is still waiting for its turn.
    """
    known = [key for key in keys if turn(key, now) != "gone"]
    if any(turn(key, now) == "waiting" for key in known):
        raise ValueError("another key waits for its turn already")
    starts = now + kept_for if signer(known, now) else now
    ended = tuple(
        replace(key, signs_until=starts, published_until=starts + longest_token + kept_for)
        for key in known
        if key.signs_until is None
    )
    return (*ended, Key(kid, now, starts))
