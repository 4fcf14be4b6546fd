"""Effective rights as a matrix, and rules that never decide anything."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from .deciding import Entry, RuleEvaluator, TooMuch
from .rules import ANY, EVERYBODY, Address, Book, Rule


class AccessDecision(StrEnum):
    """Allowed from anywhere, from some addresses, or not at all."""

    YES = "yes"
    SOME = "some"
    NO = "no"


@dataclass(frozen=True)
class Cell:
    """One right: the verdict, and the rules that decide it by their places; for *some*, from where
    it is allowed.
    """

    verdict: AccessDecision
    rules: tuple[int, ...]
    allowed_from: tuple[str, ...] = ()


@dataclass(frozen=True)
class Matrix:
    """Principal × resource, with a cell for each operation:
    ``cells[principal][resource][operation]`` in the order of the three lists.
    """

    principals: tuple[str, ...]
    resources: tuple[str, ...]
    operations: tuple[str, ...]
    cells: tuple[tuple[tuple[Cell, ...], ...], ...]


# Cells of a matrix, and rules looked at on the way to it; what needs more is refused.
MOST_CELLS, MOST_STEPS = 200_000, 2_000_000


def work_out(
    book: Book, principals: Sequence[str], resources: Sequence[str], operations: Sequence[str]
) -> Matrix:
    """The effective rights.

    A resource that ends in ``*`` stands for one that begins so and that nothing more exact names.

    Raises :class:`TooMuch`.
    """
    check_size(principals, resources, operations)
    access, loose = RuleEvaluator(book, MOST_STEPS), loose_end(book.rules)
    cells = tuple(
        tuple(
            tuple(cell(access, who, operation, resource, loose) for operation in operations)
            for resource in resources
        )
        for who in principals
    )
    return Matrix(tuple(principals), tuple(resources), tuple(operations), cells)


@dataclass(frozen=True)
class KnownRules:
    """What there is beside the rules: accounts, resources (``…*``: all that begin so) and
    operations.
    """

    accounts: tuple[str, ...] = ()
    resources: tuple[str, ...] = ()
    operations: tuple[str, ...] = ()

    def principals_of(self, *books: Book) -> tuple[str, ...]:
        """Everybody whom the rules name, and the accounts."""
        return tuple(
            sorted({*self.accounts, *(who for book in books for who in book.principals())})
        )

    def resources_of(self, *books: Book) -> tuple[str, ...]:
        """The resources that there are and those that rules name; a prefix stands for others that
        begin so.
        """
        return tuple(
            sorted(
                {
                    *self.resources,
                    *(
                        one.resource + ("*" if one.prefix else "")
                        for book in books
                        for one in book.rules
                    ),
                }
            )
        )

    def operations_of(self, *books: Book) -> tuple[str, ...]:
        """The operations that there are, and others that rules name."""
        return tuple(
            dict.fromkeys(
                (
                    *self.operations,
                    *(
                        one.operation
                        for book in books
                        for one in book.rules
                        if one.operation != ANY
                    ),
                )
            )
        )


@dataclass(frozen=True)
class EffectiveRights:
    """A book's effective rights and the rules that never decide; where that is too much work,
    neither, and ``unknown`` says why.
    """

    matrix: Matrix
    idle: tuple[int, ...] = ()
    unknown: str = ""


def stand(book: Book, known: KnownRules, with_idle: bool = True) -> EffectiveRights:
    """Both at once, for anyone who shows them.

    ``with_idle``: rules that never decide are looked for, too.
    """
    principals, operations = known.principals_of(book), known.operations_of(book)
    try:
        matrix = work_out(book, principals, known.resources_of(book), operations)
        return EffectiveRights(
            matrix, never_decide(book, operations, principals) if with_idle else ()
        )
    except TooMuch as error:
        return EffectiveRights(Matrix((), (), (), ()), (), str(error))


def count_idle(books: Sequence[tuple[Book, KnownRules]]) -> list[int | None]:
    """How many rules of each book never decide. ``None``: not worked out.

    One budget serves for all of them, so that a list of many books is answered soon.
    """
    left, found = MOST_STEPS, list[int | None]()
    for book, known in books:
        access = RuleEvaluator(book, min(left, MOST_STEPS // 10))
        try:
            found.append(
                len(_never_decide(access, known.operations_of(book), known.principals_of(book)))
            )
        except TooMuch:
            found.append(None)
        left -= access.spent
    return found


def check_size(
    principals: Sequence[str], resources: Sequence[str], operations: Sequence[str]
) -> None:
    """Raises :class:`TooMuch` where there would be more cells than are worked out."""
    if (cells := len(principals) * len(resources) * len(operations)) > MOST_CELLS:
        raise TooMuch(
            f"{len(principals):,} principals, {len(resources):,} resources and "
            f"{len(operations):,} operations make {cells:,} rights; "
            f"{MOST_CELLS:,} are the most that are worked out."
        )


def cell(access: RuleEvaluator, who: str, operation: str, resource: str, loose: str) -> Cell:
    """One right. ``loose`` is what :func:`loose_end` answers. Raises :class:`TooMuch`."""
    deny, allow = access.about(
        who, operation, resource[:-1] + loose if resource.endswith("*") else resource
    )
    places = _addresses((*deny, *allow))
    found = [access.choose(deny, allow, place) for place in places]
    deciding = tuple(sorted({entry.rule for entry in found if entry.rule is not None}))
    yes = [entry for entry in found if entry.allowed]
    if len(yes) == len(places):
        return Cell(AccessDecision.YES, deciding)
    if not yes:
        return Cell(AccessDecision.NO, deciding)
    allowing = {entry.rule for entry in yes if entry.rule is not None}
    named = dict.fromkeys(
        text for place in sorted(allowing) for text in access.book.rules[place].networks
    )
    return Cell(AccessDecision.SOME, deciding, tuple(named))


def _addresses(entries: Iterable[Entry]) -> list[Address]:
    """An address for each way in which networks of some rules can hold it: where any of them
    begins, or has just ended.
    """
    found: set[Address] = {ipaddress.IPv4Address(0), ipaddress.IPv6Address(0)}
    for known_network in {network for entry in entries for network in entry.networks}:
        found.add(known_network.network_address)
        if int(known_network.broadcast_address) + 1 < 2**known_network.max_prefixlen:
            found.add(known_network.broadcast_address + 1)
    return sorted(found, key=lambda address: (address.version, int(address)))


def loose_end(rules: Iterable[Rule]) -> str:
    """An ending that no rule's resource goes on with, so that a resource that has it is held by
    nothing longer.
    """
    used = {letter for rule in rules for letter in rule.resource}
    return next(chr(code) for code in range(0xE000, 0xF8FF) if chr(code) not in used)


def never_decide(
    book: Book, operations: Sequence[str], principals: Sequence[str] = ()
) -> tuple[int, ...]:
    """The places of rules that decide no request at all, for any caller and any purpose, from
    anywhere: others always come before them.

    Exact: requests fall into finitely many kinds, by which rules hold for them, and one of each
    kind is tried. ``operations`` and ``principals`` are those that exist beside the ones that rules
    name. Raises :class:`TooMuch`.
    """
    return _never_decide(RuleEvaluator(book, MOST_STEPS), operations, principals)


def _never_decide(
    access: RuleEvaluator, operations: Sequence[str], principals: Sequence[str]
) -> tuple[int, ...]:
    book, loose = access.book, loose_end(access.book.rules)
    names = tuple(
        dict.fromkeys(
            (*operations, *(rule.operation for rule in book.rules if rule.operation != ANY))
        )
    ) or (ANY + loose,)
    # Somebody whom nothing names stands for everybody else.
    people = tuple(dict.fromkeys((*principals, *book.principals(), f"somebody{loose}")))
    return tuple(
        place
        for place, rule in enumerate(book.rules)
        if not _decides(access, place, rule, people, names, loose)
    )


def _decides(
    access: RuleEvaluator,
    place: int,
    rule: Rule,
    people: Sequence[str],
    names: Sequence[str],
    loose: str,
) -> bool:
    members = access.book.members(rule)
    for who in people if members is None else sorted(members):
        for operation in names if rule.operation == ANY else (rule.operation,):
            others = [one for _, one in access.relevant(who, operation)] if rule.prefix else []
            for resource in _resources(rule, others, loose):
                deny, allow = access.about(who, operation, resource)
                own = next((entry for entry in (*deny, *allow) if entry.place == place), None)
                # One for anywhere that stands before it on the same resource has put it out of the
                # table.
                if own and any(
                    access.choose(deny, allow, address).rule == place
                    for address in _addresses((*deny, *allow))
                    if own.reaches(address)
                ):
                    return True
    return False


def _resources(rule: Rule, others: Iterable[Rule], loose: str) -> list[str]:
    """A resource of each kind that a rule speaks of."""
    if not rule.prefix:
        return [rule.resource]
    inside = {
        entry.resource + (loose if entry.prefix else "")
        for entry in others
        if entry.resource.startswith(rule.resource)
    }
    return sorted({rule.resource + loose, *inside})


__all__ = ["EVERYBODY", "AccessDecision", "Cell", "Matrix", "never_decide", "work_out"]
