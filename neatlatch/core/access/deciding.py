"""Deciding one request: deny wins, no rule means no."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from heapq import merge

from .rules import ANY, Address, Book, Network, Rule, network


class TooMuch(ValueError):
    """Working the rules out takes more steps than are done for anybody; the message says so."""


@dataclass(frozen=True)
class Decision:
    """Whether a request is allowed, and the rule that decided, by its place (``None``: no rule
    holds for it).

    ``elsewhere`` are the rules that speak of it and hold for other addresses only, where no rule
    decided.
    """

    allowed: bool
    rule: int | None
    elsewhere: tuple[int, ...] = ()

    def why(self, book: Book, address_known: bool) -> str:
        """Say which rules of the book decided, for the end of “may, or may not; …”."""
        if self.rule is not None:
            return f"rule {self.rule + 1}: {book.rules[self.rule].says}"
        if not self.elsewhere:
            return "no rule speaks of it, and no rule means no"
        told = "; ".join(f"rule {text + 1}: {book.rules[text].says}" for text in self.elsewhere[:5])
        where = "from other addresses only"
        if not address_known:
            where = "from certain addresses only, and it is not said where this comes from"
        return f"what speaks of it holds {where} ({told}), and no rule means no"


@dataclass(frozen=True)
class Entry:
    """A rule by its place, with the networks that it holds for (none: anywhere)."""

    place: int
    networks: tuple[Network, ...]

    def reaches(self, address: Address | None) -> bool:
        """Whether the rule holds for a request from an address.

        From an unknown one, only rules for anywhere hold.
        """
        if not self.networks:
            return True
        return address is not None and any(
            address.version == one.version and address in one for one in self.networks
        )


class _RelevantRules:
    """The rules about one principal and operation, found by resource: exact ones in a table,
    prefixes in a table for each length.
    """

    def __init__(
        self, rules: Sequence[tuple[int, Rule]], networks: Sequence[tuple[Network, ...]]
    ) -> None:
        self.exact: dict[str, list[Entry]] = {}
        self.prefixes: dict[int, dict[str, list[Entry]]] = {}
        for place, rule in rules:
            table = self.prefixes.setdefault(len(rule.resource), {}) if rule.prefix else self.exact
            table.setdefault(rule.resource, []).append(Entry(place, networks[place]))
        # A rule for anywhere makes those behind it on the same resource needless.
        for table in (self.exact, *self.prefixes.values()):
            for resource, entries in table.items():
                end = next(
                    (at for at, one in enumerate(entries) if not one.networks), len(entries) - 1
                )
                table[resource] = entries[: end + 1]

    def about(self, resource: str) -> list[Entry]:
        """The rules about a resource, in their order."""
        found = list(self.exact.get(resource, ()))
        for length, table in self.prefixes.items():
            if length <= len(resource):
                found.extend(table.get(resource[:length], ()))
        found.sort(key=lambda entry: entry.place)
        return found


class RuleEvaluator:
    """A rule book made ready for many decisions.

    ``most`` is how many steps may be taken in all, a step being a rule that is looked at; beyond,
    :class:`TooMuch` is raised.
    """

    def __init__(self, book: Book, most: int | None = None) -> None:
        self.book = book
        self._most, self.spent = most, 0
        self._networks = [tuple(network(text) for text in rule.networks) for rule in book.rules]
        # The places of rules by whom they name: a principal, a group, or everybody.
        self._about: dict[str | None, list[int]] = {}
        self._about_group: dict[str, list[int]] = {}
        for place, rule in enumerate(book.rules):
            if rule.group:
                self._about_group.setdefault(rule.who, []).append(place)
            else:
                self._about.setdefault(
                    None if book.is_for_everybody(rule) else rule.who, []
                ).append(place)
        self._groups: dict[str, list[str]] = {}
        for name, members in book.groups.items():
            if name in self._about_group:
                for who in dict.fromkeys(members):
                    self._groups.setdefault(who, []).append(name)
        self._tables: dict[tuple[str, str], tuple[_RelevantRules, _RelevantRules]] = {}

    def spend(self, steps: int) -> None:
        """Count steps. Raises :class:`TooMuch`."""
        self.spent += steps
        if self._most is not None and self.spent > self._most:
            raise TooMuch("These rules are too many to be worked out against one another.")

    def decide(
        self, principal: str, operation: str, resource: str, address: str | None = None
    ) -> Decision:
        """Decide a request.

        ``address`` is where it comes from, as text (``None``: not known). Raises ``ValueError`` for
        one that is no address.
        """
        where = _address(address) if address is not None else None
        deny, allow = self.about(principal, operation, resource)
        found = self.choose(deny, allow, where)
        return (
            found
            if found.rule is not None
            else replace(found, elsewhere=tuple(sorted(entry.place for entry in (*deny, *allow))))
        )

    def about(
        self, principal: str, operation: str, resource: str
    ) -> tuple[list[Entry], list[Entry]]:
        """The rules that deny and those that allow, about a principal, an operation and a resource,
        each in their order.
        """
        tables = self._tables.get((principal, operation))
        if tables is None:
            tables = self._tables[principal, operation] = self._ready(principal, operation)
        self.spend(1 + len(tables[0].prefixes) + len(tables[1].prefixes))
        deny, allow = tables[0].about(resource), tables[1].about(resource)
        self.spend(len(deny) + len(allow))
        return deny, allow

    def choose(
        self, deny: Iterable[Entry], allow: Iterable[Entry], where: Address | None
    ) -> Decision:
        """Decide by what :meth:`about` answers."""
        if (place := self._first(deny, where)) is not None:
            return Decision(False, place)
        place = self._first(allow, where)
        return Decision(place is not None, place)

    def _first(self, entries: Iterable[Entry], where: Address | None) -> int | None:
        """The place of the first rule that holds."""
        for entry in entries:
            self.spend(1 + len(entry.networks))
            if entry.reaches(where):
                return entry.place
        return None

    def _ready(self, principal: str, operation: str) -> tuple[_RelevantRules, _RelevantRules]:
        mine = list(self.relevant(principal, operation))
        deny, allow = (
            [entry for entry in mine if entry[1].allow == verdict] for verdict in (False, True)
        )
        return _RelevantRules(deny, self._networks), _RelevantRules(allow, self._networks)

    def relevant(self, principal: str, operation: str) -> Iterator[tuple[int, Rule]]:
        """The rules about a principal and an operation, in order, with their places."""
        lists = [self._about.get(None, []), self._about.get(principal, [])]
        lists += [self._about_group[name] for name in self._groups.get(principal, ())]
        for place in merge(*lists):
            self.spend(1)
            rule = self.book.rules[place]
            if rule.operation in (operation, ANY):
                yield place, rule


@lru_cache(maxsize=65536)
def _address(text: str) -> Address:
    return ipaddress.ip_address(text)
