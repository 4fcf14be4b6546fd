"""What the worker does on schedule, each in a thread of its own, so that none waits for another: a
round of any length holds no renewal up.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta

import structlog
from django.db import connections as databases
from django.utils import timezone

from neatlatch.desk.ground.common import beats, clock
from neatlatch.desk.ground.common.beats import Beat

log = structlog.get_logger()


class Loop(threading.Thread):
    """Does something at regular intervals, counted from one beginning to the next.

    A failure is logged, and the next time it is tried again.

    ``busy`` says whether something that was begun still goes on elsewhere; a script that steps the
    test clock waits for it.
    """

    def __init__(
        self,
        name: str,
        work: Callable[[], object],
        every: timedelta,
        busy: Callable[[], bool] = lambda: False,
    ) -> None:
        super().__init__(name=f"clock-{name}", daemon=True)
        self._label, self._work, self._every, self._busy = name, work, every, busy
        self._stop_asked = threading.Event()

    def stop(self) -> None:
        """Stop before the next time; what runs now comes to its end."""
        self._stop_asked.set()

    def run(self) -> None:
        """Run the job, wait, repeat."""
        while not self._stop_asked.is_set():
            begun = timezone.now()
            self._run_once(begun)
            following = begun + self._every
            while (
                clock.file() is not None
                and not self._stop_asked.is_set()
                and (now := timezone.now()) < following
            ):
                if not self._asks_busy():
                    clock.idle_at(self._label, now)
                self._stop_asked.wait(0.02)
            clock.wait(self._stop_asked, timezone.now, following, self._every)

    def _run_once(self, begun: datetime) -> None:
        beat = Beat(self._label, begun, self._every.total_seconds(), goes_on=True)
        beats.record(beat)
        failed = ""
        try:
            self._work()
        except Exception as error:
            failed = type(error).__name__
            log.exception("what is done by the clock failed; it is tried again", what=self._label)
        finally:
            beats.record(replace(beat, goes_on=False, failed=failed))
            databases.close_all()

    def _asks_busy(self) -> bool:
        try:
            return self._busy()
        finally:
            databases.close_all()


class Clockwork:
    """The loops of a worker, started and stopped together."""

    def __init__(self, *loops: Loop) -> None:
        self._loops = loops

    def start(self) -> None:
        """Start every loop; the first time comes at once."""
        for loop in self._loops:
            loop.start()

    def stop(self) -> None:
        """Stop them, and give what runs a little time to end."""
        for loop in self._loops:
            loop.stop()
        for loop in self._loops:
            loop.join(3)
