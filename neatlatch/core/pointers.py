"""JSON Pointer (RFC 6901): one value of a JSON document, named by its path."""

from __future__ import annotations

import re
from typing import Any

# RFC 6901 §4: a zero, or digits without a zero before them.
_INDEX = re.compile(r"0|[1-9][0-9]{0,17}")
_WRONG_ESCAPE = re.compile(r"~(?![01])")


class BadPointer(ValueError):
    """A text is no JSON Pointer; the message says why."""


def tokens(pointer: str) -> tuple[str, ...]:
    """The reference tokens of a pointer, unescaped (§3, §4). Raises :class:`BadPointer`."""
    if pointer == "":
        return ()
    if not pointer.startswith("/"):
        raise BadPointer(f"“{pointer[:80]}” is no JSON Pointer: it begins with / (RFC 6901 §3).")
    if _WRONG_ESCAPE.search(pointer):
        raise BadPointer(
            f"“{pointer[:80]}” is not a JSON Pointer: ~ is followed by 0 or 1 (RFC 6901 §3)."
        )
    return tuple(part.replace("~1", "/").replace("~0", "~") for part in pointer[1:].split("/"))


def value_at(document: Any, pointer: str) -> Any:
    """The value that a pointer names in a document as :mod:`json` reads it (§4).

    Raises :class:`LookupError` where there is none, :class:`BadPointer` where it is no pointer.
    """
    found = document
    for token in tokens(pointer):
        if isinstance(found, dict):
            found = found[token]
        elif isinstance(found, list) and _INDEX.fullmatch(token):
            found = found[int(token)]
        else:
            raise LookupError(token)
    return found
