"""Deciding one request: deny wins, no rule means no."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from .rules import ANY, Address, Book, Network, Rule, network


@dataclass(frozen=True)
class Decision:
    """Whether a request is allowed, and the rule that decided, by its place (``None``: no rule speaks of it)."""

    allowed: bool
    rule: int | None


@dataclass(frozen=True)
class _Entry:
    place: int
    networks: tuple[Network, ...]

    def reaches(self, address: Address | None) -> bool:
        """Whether the rule holds for a request from an address. From an unknown one, only rules for anywhere hold."""
        if not self.networks:
            return True
        return address is not None and any(address.version == one.version and address in one for one in self.networks)


class _Relevant:
    """The rules about one principal and operation, found by resource: exact ones in a table, prefixes in a table for each length."""

    def __init__(self, rules: list[tuple[int, Rule]]) -> None:
        self.exact: dict[str, list[_Entry]] = {}
        self.prefixes: dict[int, dict[str, list[_Entry]]] = {}
        for place, rule in rules:
            entry = _Entry(place, tuple(network(one) for one in rule.networks))
            table = self.prefixes.setdefault(len(rule.resource), {}) if rule.prefix else self.exact
            table.setdefault(rule.resource, []).append(entry)
        # A rule for anywhere makes those behind it on the same resource needless.
        for table in (self.exact, *self.prefixes.values()):
            for resource, entries in table.items():
                end = next((at for at, one in enumerate(entries) if not one.networks), len(entries) - 1)
                table[resource] = entries[: end + 1]

    def first(self, resource: str, address: Address | None) -> int | None:
        """The place of the first rule that holds."""
        best: int | None = None
        for entry in self.about(resource):
            if (best is None or entry.place < best) and entry.reaches(address):
                best = entry.place
        return best

    def about(self, resource: str) -> Iterator[_Entry]:
        """The rules about a resource, in no order."""
        yield from self.exact.get(resource, ())
        for length, table in self.prefixes.items():
            if length <= len(resource):
                yield from table.get(resource[:length], ())


class Access:
    """A rule book made ready for many decisions."""

    def __init__(self, book: Book) -> None:
        self.book = book
        self._members = [book.members(one) for one in book.rules]
        self._tables: dict[tuple[str, str], tuple[_Relevant, _Relevant]] = {}

    def decide(self, principal: str, operation: str, resource: str, address: str | None = None) -> Decision:
        """Decide a request. ``address`` is where it comes from, as text (``None``: not known). Raises ``ValueError`` for one that is no address."""
        tables = self._tables.get((principal, operation))
        if tables is None:
            tables = self._tables[principal, operation] = self._ready(principal, operation)
        deny, allow = tables
        where = _address(address) if address is not None else None
        if (place := deny.first(resource, where)) is not None:
            return Decision(False, place)
        place = allow.first(resource, where)
        return Decision(place is not None, place)

    def _ready(self, principal: str, operation: str) -> tuple[_Relevant, _Relevant]:
        mine = self.relevant(principal, operation)
        return _Relevant([one for one in mine if not one[1].allow]), _Relevant([one for one in mine if one[1].allow])

    def relevant(self, principal: str, operation: str) -> list[tuple[int, Rule]]:
        """The rules about a principal and an operation, in order, with their places."""
        return [
            (place, rule)
            for place, (rule, members) in enumerate(zip(self.book.rules, self._members, strict=True))
            if rule.operation in (operation, ANY) and (members is None or principal in members)
        ]


@lru_cache(maxsize=65536)
def _address(text: str) -> Address:
    return ipaddress.ip_address(text)
