"""Work for a child process, in a module that it can import: it knows no Django."""

from __future__ import annotations

import os
import tempfile


def sorted_words(text: str) -> list[str]:
    return sorted(text.split())


def divide(one: int, by: int) -> float:
    return one / by


def bytes_of(count: int) -> int:
    return len(bytearray(count))


def environment_of_it() -> set[str]:
    return set(os.environ)


def writes() -> None:
    with tempfile.TemporaryFile() as file:
        file.write(b"a")
        file.flush()
