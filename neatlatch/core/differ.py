"""Two texts that should be one, with what differs marked character by character."""

from __future__ import annotations

from dataclasses import dataclass
from difflib import SequenceMatcher

# Beyond this many characters only the common start and end are found; quadratic matching would take
# seconds.
_FINE_LIMIT = 2000


@dataclass(frozen=True)
class Piece:
    """A run of characters and whether the other text has it too."""

    text: str
    same: bool


@dataclass(frozen=True)
class MarkedPair:
    """Both texts cut into pieces; joined, the pieces of a side give that side's text back."""

    provider: tuple[Piece, ...]
    caller: tuple[Piece, ...]


def mark(provider: str, caller: str) -> MarkedPair:
    """Mark where two texts differ.

    >>> mark("https://a.example/return", "https://a.example/return/").caller[-1]
    Piece(text='/', same=False)
    """
    if max(len(provider), len(caller)) > _FINE_LIMIT:
        return _coarse(provider, caller)
    left: list[Piece] = []
    right: list[Piece] = []
    for tag, i, j, k, m in SequenceMatcher(None, provider, caller, autojunk=False).get_opcodes():
        same = tag == "equal"
        if i != j:
            left.append(Piece(provider[i:j], same))
        if k != m:
            right.append(Piece(caller[k:m], same))
    return MarkedPair(tuple(left), tuple(right))


def _coarse(provider: str, caller: str) -> MarkedPair:
    shorter = min(len(provider), len(caller))
    head = 0
    while head < shorter and provider[head] == caller[head]:
        head += 1
    tail = 0
    while tail < shorter - head and provider[-1 - tail] == caller[-1 - tail]:
        tail += 1

    def cut(text: str) -> tuple[Piece, ...]:
        pieces = (
            Piece(text[:head], True),
            Piece(text[head : len(text) - tail], False),
            Piece(text[len(text) - tail :], True),
        )
        return tuple(piece for piece in pieces if piece.text)

    return MarkedPair(cut(provider), cut(caller))
