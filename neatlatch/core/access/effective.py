"""Effective rights as a matrix, and rules that never decide anything."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from .deciding import Access
from .rules import ANY, EVERYBODY, Address, Book, Rule, network


class Verdict(StrEnum):
    """Allowed from anywhere, from some addresses, or not at all."""

    YES = "yes"
    SOME = "some"
    NO = "no"


@dataclass(frozen=True)
class Cell:
    """One right: the verdict, and the rules that decide it by their places; for *some*, from where it is allowed."""

    verdict: Verdict
    rules: tuple[int, ...]
    allowed_from: tuple[str, ...] = ()


@dataclass(frozen=True)
class Matrix:
    """Principal × resource, with a cell for each operation: ``cells[principal][resource][operation]`` in the order of the three lists."""

    principals: tuple[str, ...]
    resources: tuple[str, ...]
    operations: tuple[str, ...]
    cells: tuple[tuple[tuple[Cell, ...], ...], ...]


def work_out(book: Book, principals: Sequence[str], resources: Sequence[str], operations: Sequence[str]) -> Matrix:
    """The effective rights. A resource that ends in ``*`` stands for one that begins so and that nothing more exact names."""
    access, places = Access(book), _addresses(book.rules)
    loose = _loose(book.rules)
    cells = tuple(
        tuple(
            tuple(
                _cell(access, who, operation, resource[:-1] + loose if resource.endswith("*") else resource, places)
                for operation in operations
            )
            for resource in resources
        )
        for who in principals
    )
    return Matrix(tuple(principals), tuple(resources), tuple(operations), cells)


def _cell(access: Access, who: str, operation: str, resource: str, places: Sequence[Address]) -> Cell:
    found = [access.decide(who, operation, resource, str(one)) for one in places]
    deciding = tuple(sorted({one.rule for one in found if one.rule is not None}))
    yes = [place for place, one in zip(places, found, strict=True) if one.allowed]
    if len(yes) == len(places):
        return Cell(Verdict.YES, deciding)
    if not yes:
        return Cell(Verdict.NO, deciding)
    allowing = {one.rule for one in found if one.allowed and one.rule is not None}
    named = dict.fromkeys(one for place in sorted(allowing) for one in access.book.rules[place].networks)
    return Cell(Verdict.SOME, deciding, tuple(named))


def _addresses(rules: Iterable[Rule]) -> list[Address]:
    """An address for each way in which networks of the rules can hold it: where any of them begins, or has just ended."""
    found: set[Address] = {ipaddress.IPv4Address(0), ipaddress.IPv6Address(0)}
    for rule in rules:
        for text in rule.networks:
            one = network(text)
            found.add(one.network_address)
            if int(one.broadcast_address) + 1 < 2**one.max_prefixlen:
                found.add(one.broadcast_address + 1)
    return sorted(found, key=lambda one: (one.version, int(one)))


def _loose(rules: Iterable[Rule]) -> str:
    """An ending that no rule's resource goes on with, so that a resource that has it is held by nothing longer."""
    used = {letter for rule in rules for letter in rule.resource}
    return next(chr(code) for code in range(0xE000, 0xF8FF) if chr(code) not in used)


def never_decide(book: Book, operations: Sequence[str], principals: Sequence[str] = ()) -> tuple[int, ...]:
    """The places of rules that decide no request at all, whoever asks for whatever from anywhere: others always come before them.

    Exact: requests fall into finitely many kinds, by which rules hold for them, and one of each kind is tried. ``operations`` and ``principals`` are
    those that exist beside the ones that rules name.
    """
    access, places, loose = Access(book), _addresses(book.rules), _loose(book.rules)
    names = tuple(dict.fromkeys((*operations, *(one.operation for one in book.rules if one.operation != ANY)))) or (ANY + loose,)
    # Somebody whom nothing names stands for everybody else.
    people = tuple(dict.fromkeys((*principals, *book.principals(), f"somebody{loose}")))
    return tuple(place for place, rule in enumerate(book.rules) if not _decides(access, place, rule, people, names, places, loose))


def _decides(
    access: Access, place: int, rule: Rule, people: Sequence[str], names: Sequence[str], places: Sequence[Address], loose: str
) -> bool:
    members = access.book.members(rule)
    networks = [network(one) for one in rule.networks]
    inside = [one for one in places if not networks or any(one.version == each.version and one in each for each in networks)]
    for who in people if members is None else sorted(members):
        for operation in names if rule.operation == ANY else (rule.operation,):
            for resource in _resources(rule, [one for _, one in access.relevant(who, operation)], loose):
                if any(access.decide(who, operation, resource, str(one)).rule == place for one in inside):
                    return True
    return False


def _resources(rule: Rule, others: Iterable[Rule], loose: str) -> list[str]:
    """A resource of each kind that a rule speaks of."""
    if not rule.prefix:
        return [rule.resource]
    inside = {one.resource + (loose if one.prefix else "") for one in others if one.resource.startswith(rule.resource)}
    return sorted({rule.resource + loose, *inside})


__all__ = ["EVERYBODY", "Cell", "Matrix", "Verdict", "never_decide", "work_out"]
