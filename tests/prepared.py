"""A desk's database with all tables and nothing in them: made once for all tests that run side by
side, then copied.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
_FOLDER = ROOT / "var" / "tests"


def migrated() -> Path:
    """The file to copy. It is made anew when a migration is."""
    digest = hashlib.sha256()
    for file in sorted((ROOT / "neatlatch" / "desk").glob("**/migrations/*.py")):
        digest.update(f"{file.name}\n".encode() + file.read_bytes())
    # The triggers that every migrated database gets.
    for file in (ROOT / "neatlatch" / "desk").glob("**/watching.py"):
        digest.update(file.read_bytes())
    digest.update((ROOT / "neatlatch" / "desk" / "ground" / "common" / "marking.py").read_bytes())
    digest.update(
        (ROOT / "requirements.txt").read_bytes()
    )  # Django's own migrations, and those of other apps
    found = _FOLDER / f"migrated-{digest.hexdigest()[:16]}.sqlite3"
    _FOLDER.mkdir(parents=True, exist_ok=True)
    with (_FOLDER / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)  # anyone who comes second waits, and finds it
        if not found.exists():
            _make(found)
    return found


def _make(found: Path) -> None:
    with tempfile.TemporaryDirectory(prefix="neatlatch-migrated-") as home:
        environment = {
            **os.environ,
            "NEATLATCH_HOME": home,
            "DJANGO_SETTINGS_MODULE": "tests.quick",
            "PYTHONPATH": str(ROOT),
        }
        done = subprocess.run(
            [sys.executable, "manage.py", "migrate", "--verbosity", "0"],
            cwd=ROOT,
            env=environment,
            capture_output=True,
            text=True,
        )
        if done.returncode != 0:
            raise RuntimeError(done.stderr)
        for old in _FOLDER.glob("migrated-*.sqlite3"):
            old.unlink()
        half = found.with_suffix(".half")
        shutil.copyfile(Path(home) / "desk.sqlite3", half)
        half.replace(found)
