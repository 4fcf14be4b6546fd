"""A change in words: which fields, from what to what.

For journals, previews, and for telling somebody what another person changed meanwhile.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

_LONGEST = 120
# A thing as changes of it are told: plain values by what people call them, no secret among them.
Plain = dict[str, Any]


def in_words(
    before: Mapping[str, Any], after: Mapping[str, Any], labels: Mapping[str, str] | None = None
) -> list[str]:
    """One phrase for each field that differs; lists of texts are told by what was added and what
    was taken away. Values must hold no secret.
    """
    said = []
    for key in dict.fromkeys((*before, *after)):
        old, new = before.get(key), after.get(key)
        if old == new:
            continue
        label = (labels or {}).get(key) or key.replace("_", " ")
        said.append(f"{label}: {_difference(old, new)}")
    return said


def _difference(old: Any, new: Any) -> str:
    if isinstance(old, Mapping | None) and isinstance(new, Mapping | None) and (old or new):
        return "; ".join(in_words(old or {}, new or {}))
    if (
        isinstance(old, list | tuple)
        and isinstance(new, list | tuple)
        and all(isinstance(item, str) for item in (*old, *new))
    ):
        added, gone = (
            [item for item in new if item not in old],
            [item for item in old if item not in new],
        )
        parts = [f"{_plain(item)} added" for item in added] + [
            f"{_plain(item)} taken away" for item in gone
        ]
        return ", ".join(parts) or "put in another order"
    if old in (None, "", [], {}):
        return f"now {_plain(new)}"
    if new in (None, "", [], {}):
        return f"no longer {_plain(old)}"
    return f"{_plain(old)} became {_plain(new)}"


def _plain(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, Mapping):
        text = ", ".join(f"{key} {_plain(one)}" for key, one in value.items())
    elif isinstance(value, list | tuple):
        text = ", ".join(_plain(item) for item in value)
    else:
        text = str(value)
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"
