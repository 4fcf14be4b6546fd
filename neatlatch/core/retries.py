"""When a call may be repeated, and after how long; and the pace of calls."""

from __future__ import annotations

from dataclasses import dataclass, replace

# RFC 9110 §9.2.2
IDEMPOTENT = frozenset({"GET", "HEAD", "OPTIONS", "TRACE", "PUT", "DELETE"})
MOST_TRIES = 3
FIRST_WAIT = 0.5
LONGEST_WAIT = 8.0
# A server that asks for a longer pause than this is reported, not waited for.
LONGEST_ASKED_WAIT = 20.0
LONGEST_SPREAD_WAIT = 5.0


def repeatable_status(status: int) -> bool:
    """Whether a status says that the same request may do better later (RFC 9110 §15.5.9, §15.6; RFC
    6585 §4).
    """
    return status in (408, 429) or 500 <= status <= 599 and status not in (501, 505)


def may_repeat(method: str, status: int | None, tries: int, safe_anyway: bool = False) -> bool:
    """Whether try number ``tries + 1`` is allowed after ``tries`` tries.

    ``status`` is ``None`` where no answer came at all. ``safe_anyway`` marks a POST known to do
    nothing twice, such as a client credentials token request (RFC 9110 §9.2.2 allows repeating
    where the client knows that).
    """
    if tries >= MOST_TRIES:
        return False
    if method.upper() not in IDEMPOTENT and not safe_anyway:
        return False
    return status is None or repeatable_status(status)


def wait_before(tries: int, asked: float | None, chance: float) -> float | None:
    """Seconds to wait after ``tries`` tries: exponential back-off with full jitter, or what the
    server asked for.

    ``chance`` is a random number in [0, 1). ``None``: the server asks for more than 20 s, so do not
    wait at all.
    """
    if asked is not None:
        return asked if asked <= LONGEST_ASKED_WAIT else None
    return chance * min(LONGEST_WAIT, FIRST_WAIT * 2.0 ** (tries - 1))


def spread_wait(spread: float) -> float:
    """Seconds to wait for a new credential to be known at the application before it is tried again;
    ``spread`` is how long that takes there at most. Three tries cover most of the usual 30 s."""
    return min(LONGEST_SPREAD_WAIT, spread / 3)


def next_wait(
    method: str,
    status: int | None,
    tries: int,
    *,
    asked: float | None = None,
    chance: float,
    left: float,
    safe_anyway: bool = False,
    spread: float | None = None,
) -> float | None:
    """Seconds to wait before try number ``tries + 1``; ``None``: what came is what there is.

    ``status`` as in :func:`may_repeat`, ``asked`` and ``chance`` as in :func:`wait_before`.
    ``left`` are the seconds that the whole call may still take. ``spread``: the answer may only
    mean that a new credential is not known there yet, which takes so many seconds at most.
    """
    if may_repeat(method, status, tries, safe_anyway):
        wait = wait_before(tries, asked, chance)
    elif spread is not None and tries < MOST_TRIES:
        wait = spread_wait(spread)
    else:
        return None
    return wait if wait is not None and wait < left else None


@dataclass(frozen=True)
class Bucket:
    """A token bucket: ``pace`` calls a second, at most ``size`` at once.

    ``at`` is in seconds of any steady clock.
    """

    pace: float
    size: float
    level: float
    at: float

    @classmethod
    def full(cls, pace: float, at: float) -> Bucket:
        """A bucket that allows one second's worth of calls at once."""
        return cls(pace, max(1.0, pace), max(1.0, pace), at)

    def at_pace(self, pace: float) -> Bucket:
        """The same bucket at another pace: what was taken out of it stays taken."""
        return (
            self
            if pace == self.pace
            else replace(
                self, pace=pace, size=max(1.0, pace), level=min(self.level, max(1.0, pace))
            )
        )

    def take(self, at: float) -> tuple[Bucket, float]:
        """Take one call out; returns the bucket afterwards and the seconds to wait before calling
        (0: now).
        """
        level = min(self.size, self.level + max(0.0, at - self.at) * self.pace) - 1
        wait = 0.0 if level >= 0 else -level / self.pace
        return replace(self, level=level, at=max(at, self.at)), wait
