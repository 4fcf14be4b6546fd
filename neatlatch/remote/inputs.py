"""What commands read and write beside their answers: secrets from files, keys into files."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import IO

_LARGEST_SECRET = 64 * 1024


def secret_from(name: str) -> str:
    """Read a secret from a file, or standard input (-), without the line break that ends it."""
    if name == "-":
        text = sys.stdin.read(_LARGEST_SECRET)
    else:
        with Path(name).open(encoding="utf-8") as file:
            text = file.read(_LARGEST_SECRET)
    return text.removesuffix("\n").removesuffix("\r")


def secret_from_pipe() -> str:
    """Read a secret from standard input; empty where that is a terminal."""
    return "" if sys.stdin.isatty() else secret_from("-")


def new_private_file(file: Path) -> IO[str]:
    """Open a new file that only its owner may read. Raises ``OSError`` where it is there."""
    return os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w")
