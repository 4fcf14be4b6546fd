"""When things end, and when to renew them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

# Renew when a fifth of the life is left, but never later than a minute and never earlier than ten
# minutes before the end (common practice, no source): a round of five minutes then always finds a
# token that lasts until the next.
_SHARE = 5
_SHORTEST_AHEAD = timedelta(seconds=60)
_LONGEST_AHEAD = timedelta(minutes=10)
# A token is treated as ended this much early, for clocks that differ and calls that take time.
LEEWAY = timedelta(seconds=5)


def ends(obtained: datetime, expires_in: float | None) -> datetime | None:
    """When a token ends: counted from the moment it was asked for (RFC 6749 §5.1).

    ``None``: the server did not say.
    """
    if expires_in is None:
        return None
    try:
        return obtained + timedelta(seconds=expires_in)
    except OverflowError:
        return None  # beyond the year 9999: as good as no end


def at_epoch(seconds: object) -> datetime | None:
    """The moment so many seconds after 1970-01-01T00:00:00Z, as an application tells an end (RFC
    7591 §3.2.1: 0 is no end).

    ``None`` too for what is not a positive number, and beyond the year 9999.
    """
    if isinstance(seconds, bool) or not isinstance(seconds, int | float) or not seconds > 0:
        return None
    try:
        return datetime.fromtimestamp(seconds, UTC)
    except (OverflowError, OSError, ValueError):
        return None


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


# The longest life of a public TLS certificate in days, by the moment from which it counts
# (CA/Browser Forum Baseline Requirements §6.3.2, ballot SC-081v3; from memory).
PUBLIC_TLS_DAYS = (
    (datetime(2029, 3, 15, tzinfo=UTC), 47),
    (datetime(2027, 3, 15, tzinfo=UTC), 100),
    (datetime(2026, 3, 15, tzinfo=UTC), 200),
    (datetime(2020, 9, 1, tzinfo=UTC), 398),
    (datetime(2018, 3, 1, tzinfo=UTC), 825),
)


@dataclass(frozen=True)
class PublicTls:
    """The life of a public TLS certificate in seconds and in days as they are counted, and the
    longest that is allowed.
    """

    seconds: int
    days: int
    most: int

    @property
    def within_limit(self) -> bool:
        """Whether it is not longer than it may be."""
        return self.days <= self.most


def public_tls(not_before: datetime, not_after: datetime) -> PublicTls:
    """Count the life of a public TLS certificate: both ends are included, and a day begun is a day
    (Baseline Requirements §6.3.2).

    Raises ``ValueError`` where it ends before it begins, or began before there were such limits.
    """
    if not_after < not_before:
        raise ValueError("it ends before it begins")
    most = next((days for since, days in PUBLIC_TLS_DAYS if not_before >= since), None)
    if most is None:
        raise ValueError("before March 2018 other limits held, which are not known here")
    seconds = int((not_after - not_before).total_seconds()) + 1
    return PublicTls(seconds, -(-seconds // 86400), most)


# RFC 6749 §4.1.2: a maximum of ten minutes is RECOMMENDED.
LONGEST_CODE = 600


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


def reads_otherwise_at(past: datetime, now: datetime) -> datetime:
    """The next moment at which :func:`in_words` of the time since a past moment is another text.

    >>> end = datetime(2026, 11, 30, 8, 0, tzinfo=UTC)
    >>> reads_otherwise_at(end, end + timedelta(hours=1, minutes=20)).isoformat()
    '2026-11-30T10:00:00+00:00'
    """
    seconds = int((now - past).total_seconds())
    unit = next((number for number in (86400, 3600, 60) if seconds >= number), 1)
    return past + timedelta(seconds=(seconds // unit + 1) * unit)
