"""What commands print: lines for people, or JSON for programs."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable, Sequence
from typing import Any

# Widest column of a table, in characters.
_WIDEST = 60


def plain(text: object) -> str:
    """Return a text without control characters: what others named must not steer a terminal."""
    return "".join(
        character if character.isprintable() else "\N{REPLACEMENT CHARACTER}"
        for character in str(text)
    )


def say(text: str) -> None:
    """Print a line for people."""
    print(plain(text))


def complain(text: str) -> None:
    """Print a line on standard error."""
    print(f"nlatch: {plain(text)}", file=sys.stderr)


def ladder(rungs: Iterable[tuple[str, bool, bool, str]], causes: Iterable[str]) -> None:
    """Print the rungs of a test (name, passed, skipped, what was seen), and the likely causes."""
    for name, passed, skipped, says in rungs:
        mark = "-" if skipped else "ok" if passed else "NO"
        say(f"{mark:<3} {name.replace('_', ' '):<8} {says}")
    for cause in list(causes)[:3]:
        say(f"    {cause}")


def as_json(value: Any) -> None:
    """Print a value as JSON."""
    print(json.dumps(value, indent=2, ensure_ascii=False))


def table(rows: Iterable[Sequence[object]]) -> None:
    """Print rows with aligned columns. The last column is not cut."""
    texts = [[plain(cell) for cell in row] for row in rows]
    widths = [
        min(max(len(cell) for cell in column), _WIDEST) for column in zip(*texts, strict=False)
    ]
    for row in texts:
        cells = [cell.ljust(width) for cell, width in zip(row[:-1], widths, strict=False)]
        print("  ".join([*cells, row[-1]]).rstrip())
