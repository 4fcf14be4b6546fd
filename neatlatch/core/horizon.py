"""Laying work out evenly over days (DOMAIN §7).

Jobs of one day each, with a first and a last day. With so many a day, taking the one that is due
earliest first finds a way whenever there is one (Jackson 1955, "Scheduling a production line to
minimize maximum tardiness"); there is none exactly when some span of days holds more jobs that must
be done inside it than it has room (Hall 1935).
"""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Job:
    """Work of one day, to be done on a day from ``release`` to ``due``, both included.

    Days are whole numbers.
    """

    id: str
    release: int
    due: int


@dataclass(frozen=True)
class OverfullSpan:
    """A span of days, both included, with more jobs that lie wholly inside it than it has room."""

    from_day: int
    to_day: int
    jobs: int
    room: int


@dataclass(frozen=True)
class RotationSchedule:
    """The smallest possible busiest day (``None``: impossible), a day for each job in the order
    given, and what proves it impossible.
    """

    peak: int | None
    days: tuple[int, ...] = ()
    overfull: OverfullSpan | None = None


def spread(jobs: Sequence[Job], working_days: Sequence[int], capacity: int) -> RotationSchedule:
    """Lay jobs out over working days, at most ``capacity`` a day, so that the busiest day is as
    quiet as can be.
    """
    days = sorted(set(working_days))
    if not jobs:
        return RotationSchedule(0)
    if _laid_out(jobs, days, capacity) is None:
        return RotationSchedule(None, overfull=_overfull(jobs, days, capacity))
    low, high = 1, min(capacity, len(jobs))
    while low < high:  # if a peak can be kept, so can every higher one
        middle = (low + high) // 2
        low, high = (
            (low, middle) if _laid_out(jobs, days, middle) is not None else (middle + 1, high)
        )
    found = _laid_out(jobs, days, low)
    assert found is not None
    return RotationSchedule(low, found)


def _laid_out(jobs: Sequence[Job], days: list[int], capacity: int) -> tuple[int, ...] | None:
    """A day for each job, earliest due first; ``None``: so many a day are not enough."""
    coming = sorted(range(len(jobs)), key=lambda place: jobs[place].release)
    ready: list[tuple[int, int]] = []
    found = [0] * len(jobs)
    at = 0
    for day in days:
        while at < len(coming) and jobs[coming[at]].release <= day:
            heapq.heappush(ready, (jobs[coming[at]].due, coming[at]))
            at += 1
        for _ in range(min(capacity, len(ready))):
            due, place = heapq.heappop(ready)
            if due < day:
                return None
            found[place] = day
    return None if ready or at < len(coming) else tuple(found)


def _overfull(jobs: Sequence[Job], days: list[int], capacity: int) -> OverfullSpan:
    """The span that is most overfull; of several, the shortest and earliest."""
    spans = []
    for start in {job.release for job in jobs}:
        for end in {job.due for job in jobs}:
            inside = sum(start <= job.release and job.due <= end for job in jobs)
            room = capacity * sum(start <= day <= end for day in days)
            if inside > room:
                spans.append(OverfullSpan(start, end, inside, room))
    return min(
        spans, key=lambda span: (span.room - span.jobs, span.to_day - span.from_day, span.from_day)
    )
