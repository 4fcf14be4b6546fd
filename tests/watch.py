"""A clock in place of the ``time`` of one module: anyone who sleeps moves it on, so that nothing
waits and every pause is known.
"""

from __future__ import annotations


class Watch:
    """Stands for ``time``; ``pauses`` are the seconds of each sleep."""

    def __init__(self) -> None:
        self.at, self.pauses = 1_000.0, list[float]()

    def monotonic(self) -> float:
        return self.at

    def time(self) -> float:
        return self.at

    def perf_counter(self) -> float:
        return self.at

    def sleep(self, seconds: float) -> None:
        self.at += seconds
        self.pauses.append(seconds)

    async def later(self, seconds: float) -> None:
        """Stands for ``asyncio.sleep``."""
        self.sleep(seconds)

    @property
    def waited(self) -> float:
        """Seconds in all."""
        return sum(self.pauses)
