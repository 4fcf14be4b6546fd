"""Filters of lists as people type them: plain words, field words and their opposites (``night
env:production -state:latched owner:"Freight desk"``).
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

_WORD = re.compile(
    r'(?P<not>-?)(?:(?P<field>[a-z_]+):)?(?:"(?P<quoted>[^"]*)"?|(?P<plain>[^\s"]+))', re.IGNORECASE
)
MOST, LONGEST = 20, 2000
# Fields whose values are keys of ours, such as ``not_proven``: people write "not proven" or
# not-proven.
_OF_KEYS = frozenset({"state", "kind", "pin", "mark"})


@dataclass(frozen=True)
class Word:
    """One word of a filter: ``field`` is empty for a plain word; ``without``: rows that have it are
    left out.
    """

    text: str
    field: str = ""
    without: bool = False


def read(text: str, fields: Mapping[str, str]) -> tuple[Word, ...]:
    """Read a filter.

    ``fields`` names the fields that a list has, by what people may write for each; a word with
    another field is a plain word, so that an address or a time can be looked for. A field without a
    value yet filters nothing: one is still typing.
    """
    found = []
    for match in _WORD.finditer(text[:LONGEST]):
        value = match["quoted"] if match["quoted"] is not None else match["plain"]
        written = (match["field"] or "").lower()
        if written in fields:
            if value.strip():
                field = fields[written]
                found.append(
                    Word(
                        _as_key(value) if field in _OF_KEYS else value.lower(),
                        field,
                        bool(match["not"]),
                    )
                )
        else:
            plain = f"{match['field']}:{value}" if match["field"] else value
            if (
                plain
                and not (plain.endswith(":") and plain[:-1].lower() in fields)
                and plain != "-"
            ):
                found.append(Word(plain.lower(), "", bool(match["not"])))
    return tuple(found[:MOST])


def is_complete(text: str, fields: Mapping[str, str]) -> bool:
    """Whether :func:`read` reads every word of a filter: one that is cut off, or has a field
    without a value, fits more rows than it says.
    """
    words = list(_WORD.finditer(text[: LONGEST + 1]))
    return len(text) <= LONGEST and len(words) == len(read(text, fields))


def truth(text: str) -> bool | None:
    """Whether a value says yes (``True``) or no (``False``), also while one is still typing it;
    ``None``: neither."""
    value = text.strip().lower()
    if not value:
        return None
    if value == "1" or "yes".startswith(value) or "true".startswith(value):
        return True
    if value == "0" or "no".startswith(value) or "false".startswith(value):
        return False
    return None


def _as_key(value: str) -> str:
    return value.strip().lower().replace("-", "_").replace(" ", "_")
