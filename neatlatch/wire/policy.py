"""Which addresses may be called, and by which scheme."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass

from neatlatch.core.access.rules import Address, Network

# Where machines in clouds ask for credentials of their own (from memory; no standard lists them).
# Beside link-local addresses (RFC 3927, RFC 4291 §2.5.6).
_PLATFORMS = frozenset(
    ipaddress.ip_address(text)
    for text in ("fd00:ec2::254", "fd20:ce::254", "100.100.100.200", "192.0.0.192", "168.63.129.16")
)
_SITE_LOCAL = ipaddress.ip_network("fec0::/10")  # deprecated, and not to be used (RFC 3879)
# Where IPv6 addresses hold an IPv4 address, and from which bit on: it is that one which is reached
# in the end.
_EMBEDDING: tuple[tuple[Network, int], ...] = tuple(
    (ipaddress.ip_network(network), begin)
    for network, begin in (
        ("::/96", 96),  # IPv4-compatible (RFC 4291 §2.5.5.1)
        ("::ffff:0:0/96", 96),  # IPv4-mapped (RFC 4291 §2.5.5.2)
        ("::ffff:0:0:0/96", 96),  # IPv4-translated (RFC 2765 §2.1)
        ("64:ff9b::/96", 96),  # NAT64 (RFC 6052 §2.1)
        ("64:ff9b:1::/48", 96),  # NAT64 of one's own (RFC 8215), in its usual form
        ("2002::/16", 16),  # 6to4 (RFC 3056 §2)
        ("2001::/32", 32),  # Teredo: its server (RFC 4380 §4)
    )
)
_TEREDO = ipaddress.ip_network("2001::/32")


def embedded(address: Address) -> tuple[ipaddress.IPv4Address, ...]:
    """The IPv4 addresses that an IPv6 address stands for or goes through.

    The unspecified and the loopback address stand for none.
    """
    if address.version == 4 or int(address) <= 1:
        return ()
    bits = int(address)
    found = [
        ipaddress.IPv4Address(bits >> (96 - begin) & 0xFFFFFFFF)
        for network, begin in _EMBEDDING
        if address in network
    ]
    if address in _TEREDO:
        found.append(
            ipaddress.IPv4Address(~bits & 0xFFFFFFFF)
        )  # its client, written the other way round
    return tuple(found)


@dataclass(frozen=True)
class Policy:
    """Which addresses may be called beside public ones.

    Link-local addresses and those of cloud platforms never may.
    """

    allowed: tuple[str, ...] = ()

    def allows(self, address: str) -> bool:
        """Whether an IP address may be called: itself, and each that it holds."""
        ip = ipaddress.ip_address(address.split("%")[0])
        within = embedded(ip)
        if isinstance(ip, ipaddress.IPv6Address) and ip.ipv4_mapped:
            return self._allows(ip.ipv4_mapped)
        return self._allows(ip) and all(self._allows(i_pv4_address) for i_pv4_address in within)

    def _allows(self, ip: Address) -> bool:
        if (
            ip.is_link_local
            or ip.is_multicast
            or ip.is_unspecified
            or ip in _PLATFORMS
            or (ip.version == 6 and ip in _SITE_LOCAL)
        ):
            return False
        if any(ip in ipaddress.ip_network(text) for text in self.allowed):
            return True
        return ip.is_global


def are_of_this_machine(addresses: list[str]) -> bool:
    """Whether all addresses that a name leads to are loopback addresses, which nobody can overhear
    (RFC 1122 §3.2.1.3, RFC 4291 §2.5.3).
    """
    return bool(addresses) and all(
        ipaddress.ip_address(address.split("%")[0]).is_loopback for address in addresses
    )
