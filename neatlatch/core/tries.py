"""How many wrong log-ins are let through before anyone who makes them must wait (NIST SP 800-63B
§5.2.2 asks for a limit; the numbers are common practice, no source).

Three counts: of a name from an address, of an address, and of a name from wherever. The first two
lock for a while. The third only slows, else anybody could keep a person out by trying their name;
and it slows nobody at an address from which they have logged in before.
"""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from datetime import datetime, timedelta


@dataclass(frozen=True)
class Limit:
    """After ``most`` wrong ones ``within`` a time there is a ``rest``; ``slows``: and another after
    each further one, in place of beginning to count anew.
    """

    most: int
    within: timedelta
    rest: timedelta
    slows: bool = False


_QUARTER = timedelta(minutes=15)
PAIR, ADDRESS = Limit(5, _QUARTER, _QUARTER), Limit(30, _QUARTER, _QUARTER)
NAME = Limit(20, _QUARTER, timedelta(seconds=10), slows=True)


@dataclass(frozen=True)
class TryCount:
    """Wrong ones since the first of them, and until when nobody is let through."""

    wrong: int = 0
    since: datetime | None = None
    until: datetime | None = None


def after_wrong(count: TryCount, limit: Limit, now: datetime) -> tuple[TryCount, bool]:
    """The count after one more, and whether a rest begins with it."""
    fresh = count.since is None or now - count.since >= limit.within or now < count.since
    wrong, since = (1, now) if fresh else (count.wrong + 1, count.since)
    if wrong < limit.most:
        return TryCount(wrong, since, count.until), False
    begins = wrong == limit.most
    return (
        TryCount(wrong, since, now + limit.rest)
        if limit.slows
        else TryCount(0, None, now + limit.rest)
    ), begins


def wait(count: TryCount, now: datetime) -> float:
    """The seconds until somebody is let through again; 0: now."""
    return max(0.0, (count.until - now).total_seconds()) if count.until is not None else 0.0


def network_of(address: str) -> str:
    """What counts as one address: an IPv6 caller has a whole network of 2^64 (RFC 6177 §2), an IPv4
    one a single address.
    """
    try:
        found = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return address
    if isinstance(found, ipaddress.IPv6Address):
        if found.ipv4_mapped is not None:
            return str(found.ipv4_mapped)
        return str(ipaddress.ip_network((found, 64), strict=False))
    return str(found)
