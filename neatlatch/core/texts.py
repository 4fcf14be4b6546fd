"""Texts that come from outside: which of them can be kept at all."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any


def has_surrogate(text: str) -> bool:
    """Whether half of a character is in it: JSON can escape one, and no UTF-8 can hold it (RFC 8259
    §8.2, RFC 3629 §3).
    """
    return not text.isascii() and any("\ud800" <= letter <= "\udfff" for letter in text)


def unsound(value: Any, longest: int, most: int = 20_000) -> str | None:
    """Why a JSON value cannot be kept, in words for the end of “it …”; ``None``: it can.

    ``longest``: of a text, in characters; ``most``: parts of a list or an object.
    """
    if not _is_short(value, most):
        return f"has more than {most} parts"
    for text in within(value):
        if len(text) > longest:
            return f"is longer than {longest} characters"
        if "\0" in text:
            return "holds a NUL character"
        if has_surrogate(text):
            return "holds half of a character (a lone surrogate)"
    return None


def _is_short(value: Any, most: int) -> bool:
    waiting = [value]
    while waiting:
        one = waiting.pop()
        if isinstance(one, dict | list):
            if len(one) > most:
                return False
            waiting += one.values() if isinstance(one, dict) else one
    return True


def within(value: Any) -> Iterator[str]:
    """Every text in a JSON value, names of members included."""
    waiting = [value]
    while waiting:
        one = waiting.pop()
        if isinstance(one, str):
            yield one
        elif isinstance(one, dict):
            waiting += [*one.keys(), *one.values()]
        elif isinstance(one, list):
            waiting += one
