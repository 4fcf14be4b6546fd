"""Whom it stops when scopes or roles are taken away."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from .pins import Need
from .scopes import allows, lacking


@dataclass(frozen=True)
class StoppedWorkload:
    """A workload that could work before and could not afterwards: the operations, and what
    they lack.
    """

    workload: str
    operations: tuple[str, ...]
    lacks: frozenset[str]


def stopped_by(
    before: Iterable[str],
    after: Iterable[str],
    needs: Iterable[Need],
    implies: Mapping[str, Iterable[str]],
) -> tuple[StoppedWorkload, ...]:
    """Return who stops when ``before`` becomes ``after``, in the order of the needs.

    Who could not work before either is not stopped by the change (DOMAIN §4: needed ⊆
    closure(granted)).
    """
    held, left = frozenset(before), frozenset(after)
    found: dict[str, StoppedWorkload] = {}
    for need in needs:
        if not allows(held, need.alternatives, implies):
            continue
        gap = lacking(left, need.alternatives, implies)
        if gap:
            known = found.get(need.workload, StoppedWorkload(need.workload, (), frozenset()))
            found[need.workload] = StoppedWorkload(
                need.workload, (*known.operations, need.operation), known.lacks | gap
            )
    return tuple(found.values())
