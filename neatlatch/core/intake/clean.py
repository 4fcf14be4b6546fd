"""What is wrong with a pasted value at its edges, and the value without it.

A space before or after a pasted value becomes part of it, and so does a line break or a "smart"
quote (common practice, no source). Each thing taken away is said; nothing inside the value is
changed without a word.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass

_QUOTE_PAIRS = {
    '"': '"',
    "'": "'",
    "`": "`",
    "“": "”",
    "”": "”",
    "„": "“",
    "‘": "’",
    "’": "’",
    "«": "»",
}
_ZERO_WIDTH = "\u200b\u200c\u200d\u2060\ufeff\u00ad\u200e\u200f"
_LABEL = re.compile(r"^[\w .-]{1,40}(?:=|:\s)\s*(?=\S)")


@dataclass(frozen=True)
class CleanedValue:
    """A value without what came along with it."""

    value: str
    # A sentence for each thing that was removed.
    notes: tuple[str, ...]


def clean(pasted: str) -> CleanedValue:
    """Clean a single pasted value. Cleaning a clean value changes nothing.

    >>> clean(" abc123\\n").notes
    ('1 space cut from the start', '1 line break cut from the end')
    """
    notes: list[str] = []
    value = pasted
    invisible = sum(value.count(c) for c in _ZERO_WIDTH)
    if invisible:
        value = value.translate({ord(c): None for c in _ZERO_WIDTH})
        notes.append(_count(invisible, "invisible character") + " taken out")
    while True:
        before = value
        value = _trim(value, notes)
        if len(value) > 1 and _QUOTE_PAIRS.get(value[0]) == value[-1]:
            value = value[1:-1]
            notes.append("quotes round it taken off")
        if value == before:
            return CleanedValue(value, tuple(notes))


def _trim(value: str, notes: list[str]) -> str:
    kept = value.lstrip()
    notes.extend(_edge_words(value[: len(value) - len(kept)], "start"))
    value = kept
    kept = value.rstrip()
    notes.extend(_edge_words(value[len(kept) :], "end"))
    return kept


def _edge_words(cut: str, edge: str) -> list[str]:
    breaks = cut.replace("\r\n", "\n").count("\n") + cut.replace("\r\n", "").count("\r")
    others = len(cut) - cut.count("\n") - cut.count("\r")
    words = []
    if others:
        words.append(f"{_count(others, 'space')} cut from the {edge}")
    if breaks:
        words.append(f"{_count(breaks, 'line break')} cut from the {edge}")
    return words


def _count(number: int, noun: str) -> str:
    return f"{number} {noun}{'' if number == 1 else 's'}"


def suspicions(value: str) -> tuple[str, ...]:
    """What still looks wrong inside a cleaned value; said, not changed."""
    found = []
    if re.search(r"\s", value):
        found.append("There is a space or line break inside it.")
    odd = sorted({c for c in value if ord(c) > 126 or ord(c) < 32} - set(" \t\r\n"))
    if odd:
        names = ", ".join(
            f"“{c}” ({unicodedata.name(c, 'control character').lower()})" for c in odd[:3]
        )
        found.append(f"It holds characters that keys and IDs rarely have: {names}.")
    if _LABEL.match(value) and "://" not in value.split("=")[0].split(" ")[0]:
        found.append("It seems to begin with a label; only the value belongs here.")
    if re.search(r"[•●*]{4,}", value) or re.search(r"(?:…|\.\.\.)", value):
        found.append("It looks like a masked or shortened value, not the value itself.")
    return tuple(found)
