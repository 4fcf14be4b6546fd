"""The pace of calls that come from many threads, or processes, at once: the buckets of
:mod:`neatlatch.core.retries`, kept by name.
"""

from __future__ import annotations

import os
import sqlite3
from collections import OrderedDict
from collections.abc import Hashable, Mapping
from pathlib import Path
from threading import Lock

from neatlatch.core.retries import Bucket


class Paces:
    """Buckets by name, for any number of threads.

    Beyond ``most`` of them, the one that was taken from longest ago is forgotten.
    """

    def __init__(self, most: int = 4_096) -> None:
        self._buckets: OrderedDict[Hashable, Bucket] = OrderedDict()
        self._turn, self._most = Lock(), most

    def __len__(self) -> int:
        return len(self._buckets)

    def take(
        self, paces: Mapping[Hashable, float], at: float, longest: float
    ) -> tuple[float, bool]:
        """Take one call out of each bucket, named with its pace in calls a second; returns the
        seconds to wait before calling, and whether it was taken: where the wait would be longer
        than ``longest``, nothing is taken out of any. ``at`` is in seconds of any steady clock.
        """
        with self._turn:
            after: dict[Hashable, Bucket] = {}
            wait = 0.0
            for name, pace in paces.items():
                bucket = self._buckets.get(name, Bucket.full(pace, at)).at_pace(pace)
                after[name], own = bucket.take(at)
                wait = max(wait, own)
            if wait > longest:
                return wait, False
            for name, bucket in after.items():
                self._buckets[name] = bucket
                self._buckets.move_to_end(name)
            while len(self._buckets) > self._most:
                self._buckets.popitem(last=False)
            return wait, True


class SharedPaces:
    """The same for any number of processes of one machine: the buckets are kept in a file of their
    own, which nothing is lost with.

    Steady clocks begin anew when a machine starts, and so do the buckets.
    """

    def __init__(self, file: Path, most: int = 4_096) -> None:
        self._file, self._most = file, most
        self._turn = Lock()
        self._held: tuple[int, sqlite3.Connection] | None = None

    def take(
        self, paces: Mapping[Hashable, float], at: float, longest: float
    ) -> tuple[float, bool]:
        """As :meth:`Paces.take`. Raises ``sqlite3.Error`` where the file cannot be used."""
        named = {repr(name): pace for name, pace in paces.items()}
        with self._turn:
            database = self._opened()
            database.execute("BEGIN IMMEDIATE")
            try:
                told = self._take(database, named, at, longest)
                database.execute("COMMIT")
                return told
            except BaseException:
                database.execute("ROLLBACK")
                raise

    def _take(
        self, database: sqlite3.Connection, paces: Mapping[str, float], at: float, longest: float
    ) -> tuple[float, bool]:
        after: list[tuple[str, float, float, float, float]] = []
        wait = 0.0
        for name, pace in paces.items():
            row = database.execute(
                "SELECT pace, size, level, at FROM bucket WHERE name = ?", (name,)
            ).fetchone()
            bucket, own = (Bucket(*row) if row else Bucket.full(pace, at)).at_pace(pace).take(at)
            after.append((name, bucket.pace, bucket.size, bucket.level, bucket.at))
            wait = max(wait, own)
        if wait > longest:
            return wait, False
        database.executemany(
            "INSERT OR REPLACE INTO bucket (name, pace, size, level, at) VALUES (?, ?, ?, ?, ?)",
            after,
        )
        if any(
            number % self._most == 0
            for (number,) in database.execute("SELECT max(rowid) FROM bucket")
        ):
            database.execute(
                "DELETE FROM bucket WHERE rowid <= (SELECT max(rowid) FROM bucket) - ?",
                (self._most,),
            )
        return wait, True

    def _opened(self) -> sqlite3.Connection:
        """The file, opened once in each process: what was opened before a fork is the parent's."""
        if self._held is None or self._held[0] != os.getpid():
            database = sqlite3.connect(
                self._file, timeout=5, isolation_level=None, check_same_thread=False
            )
            os.chmod(self._file, 0o600)
            # Nothing in it outlives the machine's run, so nothing waits for the disk.
            for say in ("PRAGMA synchronous = OFF", "PRAGMA journal_mode = MEMORY"):
                database.execute(say).fetchall()
            database.execute(
                "CREATE TABLE IF NOT EXISTS bucket (name TEXT UNIQUE, pace REAL, size REAL, "
                "level REAL, at REAL)"
            )
            database.execute("CREATE TABLE IF NOT EXISTS boot (id TEXT)")
            now = _BOOT.read_text().strip() if _BOOT.exists() else ""
            if database.execute("SELECT id FROM boot").fetchall() != [(now,)]:
                for say in ("BEGIN IMMEDIATE", "DELETE FROM bucket", "DELETE FROM boot"):
                    database.execute(say)
                database.execute("INSERT INTO boot VALUES (?)", (now,))
                database.execute("COMMIT")
            self._held = (os.getpid(), database)
        return self._held[1]


# Names a run of the machine (Linux, random(4)).
_BOOT = Path("/proc/sys/kernel/random/boot_id")
