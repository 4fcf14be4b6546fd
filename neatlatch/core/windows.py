"""Change windows: the hours of the week in which something may be changed, as people write them:
``Mon-Fri 20:00-23:00``, ``daily 02:00-04:00``.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_LINE = re.compile(r"(?P<days>[a-z,\- ]+?)\s+(?P<start>\d{1,2}:\d{2})\s*-\s*(?P<end>\d{1,2}:\d{2})")


class BadWindow(ValueError):
    """The text is not a change window; the message says what one looks like."""


@dataclass(frozen=True)
class Window:
    """Days of the week (0: Monday) on which it opens, and minutes after midnight.

    One that ends at or before its start goes on past midnight.
    """

    days: frozenset[int]
    start: int
    end: int

    @property
    def length(self) -> timedelta:
        """How long the window is open."""
        return timedelta(minutes=(self.end - self.start - 1) % 1440 + 1)


def read(text: str) -> Window:
    """Read one window. Raises :class:`BadWindow`."""
    found = _LINE.fullmatch(" ".join(text.lower().split()))
    if found is None:
        raise BadWindow(
            f"“{text.strip()}” is not a window like Mon-Fri 20:00-23:00 or daily 02:00-04:00."
        )
    return Window(
        _days(found["days"], text), _minutes(found["start"], text), _minutes(found["end"], text)
    )


def _minutes(text: str, line: str) -> int:
    hours, minutes = (int(part) for part in text.split(":"))
    if not (hours < 24 and minutes < 60 or (hours, minutes) == (24, 0)):
        raise BadWindow(f"“{text}” in “{line.strip()}” is not a time of day.")
    return hours * 60 + minutes


def _days(text: str, line: str) -> frozenset[int]:
    found: set[int] = set()
    for part in text.replace(" ", "").split(","):
        first, dash, last = part.partition("-")
        if part in ("daily", "everyday"):
            found.update(range(7))
        elif first[:3] in DAYS and (not dash or last[:3] in DAYS):
            start = DAYS.index(first[:3])
            stop = DAYS.index(last[:3]) if dash else start
            found.update((start + step) % 7 for step in range((stop - start) % 7 + 1))
        else:
            raise BadWindow(f"“{part}” in “{line.strip()}” is not a day of the week.")
    return frozenset(found)


def next_open(windows: Iterable[Window], after: datetime) -> tuple[datetime, datetime] | None:
    """The first stretch, from ``after`` on, in which one of the windows is open: its start and end.

    ``after`` is in the firm's own time. ``None``: no windows.
    """
    found = []
    midnight = after.replace(hour=0, minute=0, second=0, microsecond=0)
    for window in windows:
        for ahead in range(-1, 9):
            day = midnight + timedelta(days=ahead)
            start = day + timedelta(minutes=window.start)
            if day.weekday() in window.days and start + window.length > after:
                found.append((max(start, after), start + window.length))
                break
    return min(found, default=None)
