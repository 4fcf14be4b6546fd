"""Is a certificate for this host? (RFC 9525). The common name is never looked at."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable


def matches(host: str, dns_names: Iterable[str], ip_addresses: Iterable[str]) -> bool:
    """Whether a host, a DNS name or an IP address, is one of a certificate's subject alternative
    names.
    """
    try:
        address = ipaddress.ip_address(host.strip("[]"))
    except ValueError:
        return any(_matches_name(host, dns_name) for dns_name in dns_names)
    return any(address == ipaddress.ip_address(ip_address) for ip_address in ip_addresses)


def _matches_name(host: str, presented: str) -> bool:
    """A wildcard matches exactly one whole label, the leftmost (RFC 9525 §6.3); case means
    nothing (RFC 4343).
    """
    ours, theirs = host.rstrip(".").lower().split("."), presented.rstrip(".").lower().split(".")
    if theirs[0] == "*":
        return len(ours) == len(theirs) > 2 and ours[0] != "" and ours[1:] == theirs[1:]
    return "*" not in presented and ours == theirs


def within(name: str, base: str) -> bool:
    """Whether a DNS name lies in the subtree of a constraint (RFC 5280 §4.2.1.10): equal, or with
    labels added at its left.
    """
    name, base = name.rstrip(".").lower(), base.rstrip(".").lower()
    if base.startswith("."):  # not in the standard, yet met: only names below it
        return name.endswith(base)
    return base == "" or name == base or name.endswith(f".{base}")
