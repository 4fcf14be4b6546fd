"""From samples to a connection's state: latched, sticking, unlatched or not proven (DOMAIN §10).

Sticking is found by Page's cumulative sum (Page, "Continuous Inspection Schemes", Biometrika 41,
1954) on a failure rate of p0 = 0.01 against p1 = 0.20.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

from .evidence import CauseClass

P0, P1 = 0.01, 0.20
ON_FAILURE = math.log(P1 / P0)
ON_PASS = math.log((1 - P1) / (1 - P0))
THRESHOLD = math.log(100)
CONFIRMED_TIMES = 3
# Passes in a row after which a connection that did not work is latched. Common practice, no source.
PASSES_WANTED = 3


class State(StrEnum):
    """A connection's state."""

    LATCHED = "latched"
    STICKING = "sticking"
    UNLATCHED = "unlatched"
    NOT_PROVEN = "not_proven"


@dataclass(frozen=True)
class Health:
    """What is carried from one sample to the next.

    ``passes``: the passes in a row since it was unlatched; 0 where it was not, or failed meanwhile.
    """

    state: State = State.NOT_PROVEN
    score: float = 0.0
    same_failures: int = 0
    last_class: CauseClass | None = None
    passes: int = 0


@dataclass(frozen=True)
class Sample:
    """One test: passed or failed, and if failed why.

    ``explained``: a pin that differs or is missing is behind it. ``covers``: the test went as far
    as the one that failed last; a pass that did not shows nothing about that failure.
    """

    passed: bool
    cause: CauseClass | None = None
    explained: bool = False
    covers: bool = True


# How many of the last tests are drawn beside a connection.
RECENT = 24


def with_latest(recent: list[int], passed: bool, ms: float) -> list[int]:
    """The last tests with one more, oldest first: whole milliseconds, at least one, and below zero
    where the test failed."""
    took = max(1, round(ms))
    return [*recent, took if passed else -took][-RECENT:]


def after(health: Health, sample: Sample) -> Health:
    """The health after one more sample.

    Three confirmed failures of the same class: unlatched at once. So is a failure that a pin
    explains, or the first test after a change, because neither is a matter of now and then.
    Otherwise the cumulative sum decides: sticking from ln(100), latched again at 0. What was
    unlatched is sticking from its first pass on, and latched after three in a row.
    """
    if sample.passed:
        return _after_pass(health) if sample.covers else health
    same = health.same_failures + 1 if sample.cause == health.last_class else 1
    score = health.score + ON_FAILURE
    state = health.state
    if same >= CONFIRMED_TIMES or sample.explained or state in (State.NOT_PROVEN, State.UNLATCHED):
        # An unlatched connection that fails stays so; one that was never proven does not work.
        state, score = State.UNLATCHED, max(score, THRESHOLD)
    elif score >= THRESHOLD:
        state = State.STICKING
    return Health(state, score, same, sample.cause)


def _after_pass(health: Health) -> Health:
    score = max(0.0, health.score + ON_PASS)
    was_unlatched = health.state is State.UNLATCHED or health.passes > 0
    if was_unlatched and health.passes + 1 < PASSES_WANTED:
        return Health(State.STICKING, score, passes=health.passes + 1)
    if not was_unlatched and health.state is State.STICKING and score > 0:
        return Health(State.STICKING, score)
    return Health(State.LATCHED, score)


def after_change(health: Health) -> Health:
    """After a change on either side nobody has tried yet: not proven, and the past
    counts no more.
    """
    return Health()
