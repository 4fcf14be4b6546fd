"""A pause between the transactions of a series, so that others write in between.

SQLite has no queue of writers: one that waits looks again after a growing pause, of 100 ms at the
most (``sqliteDefaultBusyCallback`` in sqlite3.c). A series whose transactions follow one another at
once can therefore keep it waiting until it gives up.
"""

from __future__ import annotations

from time import sleep

# Seconds; longer than the longest pause of a writer that waits.
PAUSE = 0.11


def let_others_write() -> None:
    """Wait until every writer that waits has looked once. Call it outside a transaction."""
    sleep(PAUSE)
