"""The trim: the scopes of least weight that still do the work (DOMAIN §4).

A scope once held brings everything it implies. An operation is allowed when all scopes of one of
its alternatives are held (an OpenAPI security requirement, OpenAPI 3.1.0 §4.8.30). Which scopes of
least weight allow all operations is a weighted hitting set: for every way of taking one scope from
each alternative of an operation, at least one of the scopes so taken must be held, by itself or
because another implies it.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache

from . import hitting
from .profiles import ScopeInfo
from .scopes import Alternatives, closure

# How grave a scope is by its kind (DOMAIN §4); an administrator's consent is one more step to take,
# so it weighs a little.
WEIGHTS = {"read": Fraction(1), "write": Fraction(3), "admin": Fraction(10)}
CONSENT_WEIGHT = Fraction(1, 4)
# Beyond so many ways of taking one scope from each alternative, an operation's sets are made only
# as they are needed.
_MOST_WAYS = 256


@dataclass(frozen=True)
class WeighedScope:
    """A scope with its weight, not below 0, and what it implies at once."""

    weight: Fraction
    implies: tuple[str, ...] = ()


@dataclass(frozen=True)
class Call:
    """An operation somebody calls: who, which, and its alternatives of scopes.

    No alternatives: nothing can allow it.
    """

    workload: str
    operation: str
    alternatives: Alternatives


@dataclass(frozen=True)
class SmallestSet:
    """A set of scopes of least weight (``None``: none allows all), and the operations that no known
    scopes allow.
    """

    scopes: frozenset[str] | None
    weight: Fraction
    impossible: tuple[str, ...] = ()


def weigh(scope: ScopeInfo) -> WeighedScope:
    """A profile's scope with its weight."""
    return WeighedScope(
        WEIGHTS[scope.kind] + (CONSENT_WEIGHT if scope.administrator else 0), scope.implies
    )


def smallest(
    scopes: Mapping[str, WeighedScope], operations: Sequence[tuple[str, Alternatives]]
) -> SmallestSet:
    """The scopes of least weight whose closure meets one alternative of each operation; exact.

    Of several sets of the same weight, the one is answered that does without the last name, in the
    order of names, in which they differ.
    """
    names = sorted(scopes)
    givers = _givers(scopes, names)
    needs: list[tuple[tuple[int, ...], ...]] = []
    impossible = []
    for name, alternatives in operations:
        usable = _least(
            [
                sorted(alternative)
                for alternative in alternatives
                if all(scope in givers for scope in alternative)
            ],
            givers,
        )
        if usable is None:
            continue
        if not usable:
            impossible.append(name)
        needs.append(usable)
    if impossible:
        return SmallestSet(None, Fraction(0), tuple(dict.fromkeys(impossible)))
    chosen = hitting.cheapest(_prices(scopes, names), *_sets(needs))
    # Every operation has an alternative of scopes that are brought: holding all of them would do.
    assert chosen is not None
    found = frozenset(names[element] for element in hitting.elements(chosen))
    return SmallestSet(found, sum((scopes[number].weight for number in found), Fraction(0)))


def _givers(scopes: Mapping[str, WeighedScope], names: list[str]) -> dict[str, int]:
    """For each scope, the mask of those that bring it: itself, and all that imply it.

    One that is only implied, and cannot be asked for by itself, counts like any other.
    """
    implies = {name: one.implies for name, one in scopes.items()}
    givers: dict[str, int] = {}
    for place, name in enumerate(names):
        for brought in closure({name}, implies):
            givers[brought] = givers.get(brought, 0) | 1 << place
    return givers


def _least(
    alternatives: list[list[str]], givers: Mapping[str, int]
) -> tuple[tuple[int, ...], ...] | None:
    """The alternatives as sets of givers, without those that ask for more than another does.

    ``None``: nothing is needed.
    """
    found: list[frozenset[int]] = []
    for alternative in alternatives:
        if not alternative:
            return None
        # Who brings a scope with fewer givers and all of them among another's brings that other
        # too.
        found.append(frozenset(hitting.minimal(givers[scope] for scope in alternative)))
    kept: list[frozenset[int]] = []
    for wanted in sorted(set(found), key=lambda scopes: (len(scopes), sorted(scopes))):
        if not any(other <= wanted for other in kept):
            kept.append(wanted)
    return tuple(tuple(sorted(scopes)) for scopes in kept)


def _prices(scopes: Mapping[str, WeighedScope], names: list[str]) -> list[int]:
    """Whole prices by scope, in which the names break ties: a unit of weight is dearer than all
    names together.
    """
    scale = math.lcm(*(scopes[name].weight.denominator for name in names)) if names else 1
    return [
        (int(scopes[name].weight * scale) << len(names)) + (1 << place)
        for place, name in enumerate(names)
    ]


def _sets(needs: list[tuple[tuple[int, ...], ...]]) -> tuple[list[int], hitting.Further | None]:
    """What must be hit, and how to find more of it where it was not all written out."""
    written: list[int] = []
    large = []
    for alternatives in dict.fromkeys(needs):
        if math.prod(len(alternative) for alternative in alternatives) <= _MOST_WAYS:
            written += [_union(way) for way in itertools.product(*alternatives)]
        else:
            large.append(alternatives)

    def further(chosen: int) -> Iterable[int]:
        for alternatives in large:
            lacking = [
                next((givers for givers in alternative if not givers & chosen), 0)
                for alternative in alternatives
            ]
            if all(lacking):
                yield _union(lacking)

    return written, further if large else None


def _union(masks: Iterable[int]) -> int:
    found = 0
    for mask in masks:
        found |= mask
    return found


@lru_cache(maxsize=2_000)
def _smallest_of(
    known: tuple[ScopeInfo, ...], operations: tuple[tuple[str, Alternatives], ...]
) -> SmallestSet:
    """:func:`smallest`, once for all whose calls are the same: many clients of an application do
    the same work.
    """
    return smallest({scope_info.name: weigh(scope_info) for scope_info in known}, operations)


@dataclass(frozen=True)
class KeptScope:
    """A scope of the trim, and the calls that would stop without it."""

    scope: str
    needed_by: tuple[Call, ...]


@dataclass(frozen=True)
class Trim:
    """The trim of what is held.

    ``kept`` is the smallest set with its reasons; ``can_go`` what is held beyond it; ``missing``
    what it requires and is not held; ``impossible`` the calls that no scope of the application
    allows. ``weight`` and ``held_weight`` are before and after.
    """

    kept: tuple[KeptScope, ...]
    can_go: tuple[str, ...]
    missing: tuple[str, ...]
    impossible: tuple[Call, ...]
    weight: Fraction
    held_weight: Fraction

    @property
    def scopes(self) -> frozenset[str]:
        """The smallest set."""
        return frozenset(kept.scope for kept in self.kept)


@dataclass(frozen=True)
class Needed:
    """What calls need of what is held.

    ``possible`` and ``impossible`` are the calls that some scope of the application allows, and
    those that none does; ``can_go`` and ``missing`` are as in :class:`Trim`.
    """

    smallest: SmallestSet
    possible: tuple[Call, ...]
    impossible: tuple[Call, ...]
    can_go: tuple[str, ...]
    missing: tuple[str, ...]


def needed(known: Sequence[ScopeInfo], held: frozenset[str], calls: Sequence[Call]) -> Needed:
    """The smallest set of scopes for the calls, against what is ``held`` now.

    A call without alternatives is open to all (OpenAPI 3.1.0 §4.8.10: an empty list of
    requirements).
    """
    implies = {scope_info.name: scope_info.implies for scope_info in known}
    brought = closure(implies, implies)
    possible: list[Call] = []
    impossible: list[Call] = []
    for call in calls:
        if call.alternatives:
            allowed = any(some <= brought for some in call.alternatives)
            (possible if allowed else impossible).append(call)
    found = _smallest_of(
        tuple(known), tuple((call.operation, call.alternatives) for call in possible)
    )
    chosen = found.scopes or frozenset()
    return Needed(
        found,
        tuple(possible),
        tuple(impossible),
        tuple(sorted(held - chosen)),
        tuple(sorted(chosen - closure(held, implies))),
    )


def trim(known: Sequence[ScopeInfo], held: frozenset[str], calls: Sequence[Call]) -> Trim:
    """The smallest set of scopes for the calls, against what is ``held`` now, with its reasons.

    Calls that nothing allows are set apart and the rest is worked out.
    """
    found, implies = (
        needed(known, held, calls),
        {scope_info.name: scope_info.implies for scope_info in known},
    )
    weighed = {scope_info.name: weigh(scope_info) for scope_info in known}
    chosen, kept = found.smallest.scopes or frozenset(), []
    for scope in sorted(chosen):
        without = closure(chosen - {scope}, implies)
        stopped = [
            call
            for call in found.possible
            if not any(some <= without for some in call.alternatives)
        ]
        kept.append(KeptScope(scope, tuple(stopped)))
    return Trim(
        tuple(kept),
        found.can_go,
        found.missing,
        found.impossible,
        found.smallest.weight,
        sum((weighed[text].weight for text in held if text in weighed), Fraction(0)),
    )
