"""When things end, and when to renew them."""

from __future__ import annotations

from datetime import datetime, timedelta

# Renew when a fifth of the life is left, but never later than a minute and never earlier than ten minutes before
# the end (common practice, no source): a round of five minutes then always finds a token that lasts until the next.
_SHARE = 5
_SHORTEST_AHEAD = timedelta(seconds=60)
_LONGEST_AHEAD = timedelta(minutes=10)
# A token is treated as ended this much early, for clocks that differ and calls that take time.
LEEWAY = timedelta(seconds=5)


def ends(obtained: datetime, expires_in: float | None) -> datetime | None:
    """When a token ends: counted from the moment it was asked for (RFC 6749 §5.1). ``None``: the server did not say."""
    if expires_in is None:
        return None
    try:
        return obtained + timedelta(seconds=expires_in)
    except OverflowError:
        return None  # beyond the year 9999: as good as no end


def renew_at(obtained: datetime, end: datetime | None) -> datetime | None:
    """When to renew a token that ends at ``end``. ``None``: it has no known end."""
    if end is None:
        return None
    life = end - obtained
    ahead = max(_SHORTEST_AHEAD, min(_LONGEST_AHEAD, life / _SHARE))
    return max(obtained + life / 2, end - ahead)


def is_over(end: datetime | None, now: datetime) -> bool:
    """Whether something that ends at ``end`` must be treated as ended."""
    return end is not None and now >= end - LEEWAY


def in_words(span: timedelta) -> str:
    """A duration in words, rounded down to its largest unit: “41 days”, “38 min”.

    >>> in_words(timedelta(minutes=38, seconds=59))
    '38 min'
    """
    seconds = int(abs(span.total_seconds()))
    for unit, one, many in ((86400, "day", "days"), (3600, "h", "h"), (60, "min", "min")):
        if seconds >= unit:
            count = seconds // unit
            return f"{count} {one if count == 1 else many}"
    return f"{seconds} s"
