"""Where a secret goes: the origins of all addresses that it is sent to.

An origin is scheme, host and port (RFC 6454 §4); what differs only in the path is the same server.
A secret that was cleared for some origins is not sent to others until somebody says so: anyone who
can change an address could otherwise read every secret that is held, by having it sent to a server
of their own.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from .addresses import take_apart
from .schemes import SIGNING_SECRET, Scheme

# People are sent to it, and no secret is.
_BY_PEOPLE = "authorization_endpoint"


def origin(address: str) -> str:
    """The origin of a web address or of ``tls://host:port``, with its port; empty: it has none that
    could be called.
    """
    parts = take_apart(address.strip())
    return origin_of(parts.scheme or "", parts.host or "", parts.effective_port or "")


def origin_of(scheme: str, host: str, port: str | int) -> str:
    """The origin out of its three parts; ``host`` with or without brackets.

    Empty: one of them is missing or is none.
    """
    bare = host.strip("[]").lower()
    if (
        scheme.lower() not in ("http", "https", "tls")
        or not bare.isascii()
        or not bare
        or not str(port).isdecimal()
        or len(str(port)) > 5
    ):
        return ""
    return f"{scheme.lower()}://{f'[{bare}]' if ':' in bare else bare}:{int(port)}"


def origins(addresses: Iterable[str]) -> frozenset[str]:
    """The origins of some addresses.

    One that still has slots in its host, or is not filled in, has none.
    """
    return frozenset(
        found for address in addresses if "{" not in (found := origin(address)) and found
    )


def of_application(addresses: Iterable[str]) -> frozenset[str]:
    """The origins of an application's addresses; a bare ``host:port`` is one that is called over
    TLS.
    """
    return origins(
        address if "://" in address else f"tls://{address}" for address in addresses if address
    )


def of_secret(scheme: Scheme, key: str, values: Mapping[str, str]) -> frozenset[str]:
    """Where a secret goes, by its key: that of a further endpoint (``register.password``) to its
    address alone, any other, and every token got with it (``key`` empty), to all addresses of the
    connection's own. :data:`SIGNING_SECRET` goes nowhere.
    """
    if key == SIGNING_SECRET:
        return frozenset()
    prefix = key.rpartition(".")[0]
    own = [
        address
        for address in scheme.addresses()
        if address.key.rpartition(".")[0] == prefix and address.key != _BY_PEOPLE
    ]
    return origins(
        f"tls://{values.get(value.key, '')}" if value.type == "host" else values.get(value.key, "")
        for value in own
    )


def beyond(goes_to: Iterable[str], cleared: Iterable[str]) -> tuple[str, ...]:
    """The origins that nobody cleared, in order."""
    return tuple(sorted(set(goes_to) - set(cleared)))


def origins_in_words(places: Iterable[str]) -> str:
    """Origins as people read them: without the port that is the scheme's own."""
    usual = {"https": ":443", "http": ":80"}
    return (
        ", ".join(
            place.removesuffix(usual.get(place.partition(":")[0], "")) for place in sorted(places)
        )
        or "nowhere yet"
    )
