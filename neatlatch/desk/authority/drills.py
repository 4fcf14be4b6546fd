"""A restore on trial: it proves that a backup opens, with its key, in a folder of its own that is
gone afterwards."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings

from neatlatch import locations

_PREFIX = ".drill-"
# Seconds for each step, and after which what a killed drill left is cleared away.
_LONGEST, _LEFT = 1800, 2 * 3600


@dataclass(frozen=True)
class DrillResult:
    """Whether a backup opened, and what was said; ``seconds`` that it took."""

    opens: bool
    says: str
    seconds: float


def drill(copy: Path, key: Path) -> DrillResult:
    """Restore a copy of the database on trial, by the commands that people use, and check key and
    journal.

    The trial lies in the home of the database for as long as it takes, where the key lies anyhow.
    """
    _clear_left()
    begun = time.monotonic()
    home = Path(tempfile.mkdtemp(prefix=_PREFIX, dir=settings.HOME))
    try:
        for step in (
            ("restore", str(copy.resolve()), "--key", str(key.resolve())),
            ("safe", "check"),
            ("journal", "check"),
        ):
            said = _run(home, step)
            if said is not None:
                return DrillResult(False, said, time.monotonic() - begun)
        return DrillResult(True, "It opens, and its journal holds.", time.monotonic() - begun)
    finally:
        shutil.rmtree(home, ignore_errors=True)


def _run(home: Path, step: tuple[str, ...]) -> str | None:
    """Run a command of ours on a home; ``None``: it did well, else what it said."""
    try:
        done = subprocess.run(
            [sys.executable, "-m", "neatlatch.cli", *step],
            env={**os.environ, "NEATLATCH_HOME": str(home), "NEATLATCH_LOG": "ERROR"},
            cwd=locations.PACKAGE.parent,
            capture_output=True,
            text=True,
            errors="replace",
            timeout=_LONGEST,
            check=False,
        )
    except subprocess.TimeoutExpired:
        return f"{step[0]} took longer than {_LONGEST // 60} minutes."
    if done.returncode == 0:
        return None
    told = (done.stderr.strip() or done.stdout.strip()).splitlines()
    last = told[-1].removeprefix("nlatch: ") if told else f"it ended with {done.returncode}"
    return f"{step[0]}: {last}"[:500]


def _clear_left() -> None:
    for left in Path(settings.HOME).glob(f"{_PREFIX}*"):
        if time.time() - left.stat().st_mtime > _LEFT:
            shutil.rmtree(left, ignore_errors=True)
