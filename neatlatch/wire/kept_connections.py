"""Transports whose connections are kept open between calls, so that the next call needs no new
handshake.

A transport serves one call at a time. It is taken, used and given back; one that nobody takes for
some seconds is closed.
"""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager

from .transport import Transport

# Seconds that a connection is kept unused, well below what servers keep theirs (RFC 9112 §9.3
# leaves it to them); how many of a name, and in all.
IDLE, MOST_OF_ONE, MOST = 15.0, 4, 64
# Seconds after which a transport is made anew however often it is used: names are looked up again,
# and the authorities that are trusted are read again.
OLDEST = 300.0


class KeptTransports:
    """Transports that wait to be used again, by a name that says all that they are made of."""

    def __init__(
        self, idle: float = IDLE, most_of_one: int = MOST_OF_ONE, most: int = MOST
    ) -> None:
        self._idle, self._most_of_one, self._most = idle, most_of_one, most
        # By name, with the moments of making it and of giving it back; what waits longest comes
        # first.
        self._waiting: list[tuple[Hashable, Transport, float, float]] = []
        self._turn = threading.Lock()
        self._sweeper: threading.Timer | None = None

    def __len__(self) -> int:
        return len(self._waiting)

    @contextmanager
    def transport(self, name: Hashable, make: Callable[[], Transport]) -> Iterator[Transport]:
        """A transport of this name: one that waits, else a new one. It is kept unless the call
        fails.
        """
        transport, made = self._take(name) or (make(), time.monotonic())
        try:
            yield transport
        except BaseException:
            transport.close()
            raise
        self._give_back(name, transport, made)

    def _take(self, name: Hashable) -> tuple[Transport, float] | None:
        with self._turn:
            self._close_idle()
            for place in range(len(self._waiting) - 1, -1, -1):
                if self._waiting[place][0] == name:
                    return self._waiting.pop(place)[1:3]
        return None

    def _give_back(self, name: Hashable, transport: Transport, made: float) -> None:
        now = time.monotonic()
        with self._turn:
            self._close_idle()
            if (
                Counter(waiting[0] for waiting in self._waiting)[name] >= self._most_of_one
                or now - made > OLDEST
            ):
                transport.close()
                return
            self._waiting.append((name, transport, made, now))
            while len(self._waiting) > self._most:
                self._waiting.pop(0)[1].close()
            self._sweep_later()

    def _close_idle(self) -> None:
        before = time.monotonic() - self._idle
        while self._waiting and self._waiting[0][3] <= before:
            self._waiting.pop(0)[1].close()

    def _sweep_later(self) -> None:
        """Close what nobody takes any more, also where no further call comes."""
        if self._sweeper is None:
            self._sweeper = threading.Timer(self._idle + 0.1, self._sweep)
            self._sweeper.daemon = True
            self._sweeper.start()

    def _sweep(self) -> None:
        with self._turn:
            self._sweeper = None
            self._close_idle()
            if self._waiting:
                self._sweep_later()

    def close(self) -> None:
        """Close all that wait."""
        with self._turn:
            while self._waiting:
                self._waiting.pop()[1].close()
