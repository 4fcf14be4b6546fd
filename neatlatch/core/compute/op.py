"""What an operation is, and how it reads its input."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

Inputs = Mapping[str, Any]
Reader = Callable[[str], bytes]


class BadInput(ValueError):
    """The input lacks something, or holds something of the wrong type."""


# Names that a line may carry for anyone who wrote it.
LABELS = ("id", "note", "title", "what")


@dataclass(frozen=True)
class Op:
    """An operation: its name, its input in words, the source of its rule, and the function.

    ``reads_files``: its input names files, and the function takes a reader beside the input.
    """

    name: str
    takes: str
    source: str
    run: Callable[..., Any]
    reads_files: bool = False

    def wrong_name_in(self, inputs: Inputs) -> str:
        """Say which name in the input the operation does not take; empty: it takes all.

        A mistyped one would otherwise be left out of the computation and change its answer.
        """
        known = {*re.findall(r"\w+", self.takes), *LABELS, "op"}
        name = next((name for name in inputs if name not in known), None)
        return "" if name is None else f"“{name[:40]}” is not known; it takes {self.takes}"


def text(inputs: Inputs, key: str) -> str:
    """A required string."""
    if not isinstance(inputs.get(key), str):
        raise BadInput(f"“{key}” must be a string")
    return str(inputs[key])


def optional_text(inputs: Inputs, key: str) -> str | None:
    """A string, or null, or absent."""
    return None if inputs.get(key) is None else text(inputs, key)


def integer(inputs: Inputs, key: str) -> int:
    """A required whole number."""
    value = inputs.get(key)
    if not isinstance(value, int) or isinstance(value, bool):
        raise BadInput(f"“{key}” must be a whole number")
    return value


def texts(inputs: Inputs, key: str) -> tuple[str, ...]:
    """A required list of strings."""
    value = inputs.get(key)
    if not isinstance(value, list) or not all(isinstance(item, str) for item in value):
        raise BadInput(f"“{key}” must be a list of strings")
    return tuple(value)


def mapping(inputs: Inputs, key: str) -> dict[str, str]:
    """An object whose values are strings; absent: empty."""
    value = inputs.get(key, {})
    if not isinstance(value, dict) or not all(isinstance(item, str) for item in value.values()):
        raise BadInput(f"“{key}” must be an object of strings")
    return value


def moment(inputs: Inputs, key: str) -> datetime | None:
    """A moment by RFC 3339, with its offset; absent: ``None``."""
    value = optional_text(inputs, key)
    if value is None:
        return None
    try:
        found = datetime.fromisoformat(value)
    except ValueError as error:
        raise BadInput(f"“{key}” must be a moment like 2026-06-01T00:00:00+00:00") from error
    if found.tzinfo is None:
        raise BadInput(f"“{key}” needs its offset from UTC, for example Z at the end")
    return found


def pairs(inputs: Inputs, key: str) -> list[tuple[str, str]]:
    """A required list of pairs of strings."""
    value = inputs.get(key)
    if not isinstance(value, list) or not all(
        isinstance(item, list) and len(item) == 2 and all(isinstance(part, str) for part in item)
        for item in value
    ):
        raise BadInput(f"“{key}” must be a list of [name, value]")
    return [(item[0], item[1]) for item in value]


def obj(inputs: Inputs, key: str) -> dict[str, Any]:
    """A required object."""
    value = inputs.get(key)
    if not isinstance(value, dict):
        raise BadInput(f"“{key}” must be an object")
    return value


def number(inputs: Inputs, key: str, default: float | None = None) -> float:
    """A number; required where there is no default."""
    value = inputs.get(key, default)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise BadInput(f"“{key}” must be a number")
    return value


def hexadecimal(inputs: Inputs, key: str) -> bytes:
    """Octets in hexadecimal."""
    try:
        return bytes.fromhex(text(inputs, key))
    except ValueError as error:
        raise BadInput(f"“{key}” must be hexadecimal") from error
