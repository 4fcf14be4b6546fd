"""Re-keying: values sealed anew a second, against the bare work in the same run; and what a draw
waits meanwhile.

``python -m bench.safe``: manually, on a machine that does nothing else. The bare work opens and
seals the same values and writes them by plain SQL, one transaction each, without looking whether
anything else was written meanwhile.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from .table import row

ROOT = Path(__file__).resolve().parents[1]
COUNT = 5000
FILL = f"""
import django; django.setup()
from django.core.management import call_command
call_command("migrate", verbosity=0)
from django.db import transaction
from neatlatch.desk.estate.credentials.services import keep
with transaction.atomic():
    for number in range({COUNT}):
        keep(f"a made-up secret, number {{number}}", client=None, source="pasted", by="the bench")
"""
REKEY = """
import time
import django; django.setup()
from neatlatch.desk.authority import rekeying
rekeying.begin()
began = time.perf_counter()
for count in rekeying.seal_anew():
    pass
print(count.done, time.perf_counter() - began)
"""


def bare(home: Path) -> float:
    """Seconds for the same number of values, opened, sealed and written by plain SQL."""
    key, place = AESGCM(os.urandom(32)), b"a place"
    with contextlib.closing(sqlite3.connect(home / "bare.sqlite3", isolation_level=None)) as base:
        base.executescript(
            "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; CREATE TABLE kept (id "
            "INTEGER PRIMARY KEY, value BLOB)"
        )
        nonce = os.urandom(12)
        rows = [
            (
                number,
                nonce + key.encrypt(nonce, f"a made-up secret, number {number}".encode(), place),
            )
            for number in range(COUNT)
        ]
        base.executemany("INSERT INTO kept VALUES (?, ?)", rows)
        began = time.perf_counter()
        for number in range(COUNT):
            (old,) = base.execute("SELECT value FROM kept WHERE id = ?", (number,)).fetchone()
            nonce = os.urandom(12)
            fresh = nonce + key.encrypt(nonce, key.decrypt(old[:12], old[12:], place), place)
            base.execute("UPDATE kept SET value = ? WHERE id = ?", (fresh, number))
        return time.perf_counter() - began


def main() -> None:
    """Measure, and print ratios."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        environment = {
            **os.environ,
            "NEATLATCH_HOME": folder,
            "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
        }

        def python(code: str) -> str:
            return subprocess.run(
                [sys.executable, "-c", code],
                cwd=ROOT,
                env=environment,
                check=True,
                capture_output=True,
                text=True,
            ).stdout

        python(FILL)
        reference = bare(home)
        done, seconds = python(REKEY).split()
        print(
            f"{done} values sealed anew in {float(seconds):.1f} s, "
            f"{int(done) / float(seconds):.0f} a second"
        )
        row(
            f"re-keying {COUNT:,} values while everything goes on",
            f"{int(done) / float(seconds):.0f} a second",
            f"the same bare: {COUNT / reference:.0f} a second",
            float(seconds) / reference,
        )
        print(
            f"bare: {reference:.1f} s, {COUNT / reference:.0f} a second; ratio of times "
            f"{float(seconds) / reference:.2f}"
        )


if __name__ == "__main__":
    main()
