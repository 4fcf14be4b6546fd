"""How often somebody whom nobody knows may have something written down: a row for each request
would let anybody fill the disk and hold the database.
"""

from __future__ import annotations

import threading
import time
from collections import Counter

_WINDOW = 60.0


class Allowance:
    """So many a minute for one address, and so many for all; counted in this process."""

    def __init__(self, of_one: int, of_all: int) -> None:
        self._of_one, self._of_all = of_one, of_all
        self._lock, self._until = threading.Lock(), 0.0
        self._taken: Counter[str] = Counter()

    def take(self, address: str) -> bool:
        """Whether one more may be written down for an address."""
        with self._lock:
            now = time.monotonic()
            if now >= self._until:
                self._taken.clear()
                self._until = now + _WINDOW
            if self._taken[address] >= self._of_one or self._taken.total() >= self._of_all:
                return False
            self._taken[address] += 1
            return True
