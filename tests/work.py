"""Work for a child process, in a module that it can import: it knows no Django."""

from __future__ import annotations

import os
import tempfile


def sorted_words(text: str) -> list[str]:
    return sorted(text.split())


def divide(number: int, by: int) -> float:
    return number / by


def words_of(count: int) -> str:
    """An answer that takes its room twice when it is told."""
    return "x" * count


KEPT: list[str] = []


def keeps(count: int) -> int:
    """A short answer, and much that does not come back."""
    KEPT.append(words_of(count))
    return count


def raises_words_of(count: int) -> str:
    """An error that takes its room twice when it is told."""
    raise ValueError("x" * count)


def bytes_of(count: int) -> int:
    return len(bytearray(count))


def environment_of_it() -> set[str]:
    return set(os.environ)


def writes() -> None:
    with tempfile.TemporaryFile() as file:
        file.write(b"a")
        file.flush()
