"""Scopes × workloads of one client: what is permitted, requested, granted and needed, and what the
trim makes of it (DOMAIN §4).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from fractions import Fraction

from .profiles import ScopeInfo
from .scopes import Alternatives, closure
from .trim import Call, Trim, needed, trim


class Cell(StrEnum):
    """What a scope is to a workload: it would stop without it; it is stopped because it has it not;
    it would serve it; nothing.
    """

    NEEDED = "needed"
    LACKS = "lacks"
    SERVES = "serves"
    NONE = ""


@dataclass(frozen=True)
class Holder:
    """A connection of the client: what it requests, and what its tokens were granted (``None``: it
    holds none).

    ``made`` is when the oldest of its tokens was made, ``changed`` when scopes or consent were last
    changed on either side.
    """

    ref: str
    requested: frozenset[str]
    granted: frozenset[str] | None = None
    made: datetime | None = None
    changed: datetime | None = None

    @property
    def stale(self) -> bool:
        """Whether a token was made before the last change, which therefore does not reach it
        (common practice, no source).
        """
        return (
            self.granted is not None
            and self.made is not None
            and self.changed is not None
            and self.made < self.changed
        )


@dataclass(frozen=True)
class WorkloadOf:
    """A workload, the connection it takes, and its operations with their alternatives."""

    name: str
    ref: str
    operations: tuple[tuple[str, Alternatives], ...]


@dataclass(frozen=True)
class Row:
    """A scope: whether it is permitted (``implied``: brought by another that is), which connections
    request and hold it, and a cell for each workload.
    """

    scope: ScopeInfo
    known: bool
    permitted: bool
    implied: bool
    requested: tuple[str, ...]
    granted: tuple[str, ...]
    cells: tuple[Cell, ...]


@dataclass(frozen=True)
class Matrix:
    """All of it: a row for each scope, the trim of what is permitted, and of what each connection
    requests.
    """

    rows: tuple[Row, ...]
    holders: tuple[Holder, ...]
    trim: Trim
    by_connection: Mapping[str, Trim]


@dataclass(frozen=True)
class Tally:
    """What a list tells of a client: how many scopes its workloads miss, how many could go, how
    many calls no scope allows, and how many tokens are older than the last change.
    """

    missing: int
    can_go: int
    impossible: int
    stale: int


def tally(
    known: Sequence[ScopeInfo],
    permitted: frozenset[str],
    holders: Sequence[Holder],
    workloads: Sequence[WorkloadOf],
) -> Tally:
    """The counts of a matrix, without its cells."""
    found = needed(
        _scopes(known, permitted, holders),
        permitted,
        [call for workload in workloads for call in _calls(workload)],
    )
    return Tally(
        len(found.missing),
        len(found.can_go),
        len(found.impossible),
        sum(holder.stale for holder in holders),
    )


def _scopes(
    known: Sequence[ScopeInfo], permitted: frozenset[str], holders: Sequence[Holder]
) -> tuple[ScopeInfo, ...]:
    """All that are known or held somewhere; those that the profile does not know come last, as
    reading ones.
    """
    names = {scope_info.name for scope_info in known}
    held = permitted.union(
        *(holder.requested for holder in holders),
        *(holder.granted or frozenset() for holder in holders),
    )
    return (*known, *(ScopeInfo(text) for text in sorted(held - names)))


def _calls(workload: WorkloadOf) -> tuple[Call, ...]:
    return tuple(
        Call(workload.name, name, alternatives) for name, alternatives in workload.operations
    )


def work_out(
    known: Sequence[ScopeInfo],
    permitted: frozenset[str],
    holders: Sequence[Holder],
    workloads: Sequence[WorkloadOf],
) -> Matrix:
    """The matrix of a client."""
    names, scopes = {scope_info.name for scope_info in known}, _scopes(known, permitted, holders)
    implies = {scope_info.name: scope_info.implies for scope_info in known}
    calls = {workload: _calls(workload) for workload in workloads}
    every = [call for workload in workloads for call in calls[workload]]
    whole = trim(scopes, permitted, every)
    held = {
        holder.ref: holder.granted
        if holder.granted is not None
        else holder.requested & closure(permitted, implies)
        for holder in holders
    }
    reach = closure(permitted, implies)
    rows = []
    for scope in scopes:
        cells = tuple(
            _cell(scope.name, workload, held.get(workload.ref, permitted), whole.scopes, implies)
            for workload in workloads
        )
        rows.append(
            Row(
                scope,
                scope.name in names,
                scope.name in permitted,
                scope.name in reach - permitted,
                tuple(holder.ref for holder in holders if scope.name in holder.requested),
                tuple(
                    holder.ref
                    for holder in holders
                    if holder.granted is not None and scope.name in closure(holder.granted, implies)
                ),
                cells,
            )
        )
    by_connection = {
        holder.ref: trim(
            scopes,
            holder.requested,
            [
                call
                for workload in workloads
                if workload.ref == holder.ref
                for call in calls[workload]
            ],
        )
        for holder in holders
    }
    return Matrix(tuple(rows), tuple(holders), whole, by_connection)


def _cell(
    scope: str,
    workload: WorkloadOf,
    held: frozenset[str],
    wanted: frozenset[str],
    implies: Mapping[str, tuple[str, ...]],
) -> Cell:
    """``held`` is what the workload's calls can show today, ``wanted`` the trim of all workloads:
    what is lacking is told by it, so that one row says the same to everybody.
    """
    calls = [alternatives for _, alternatives in workload.operations if alternatives]
    have, will = closure(held, implies), closure(wanted, implies)
    brings = closure({scope}, implies)
    if scope in wanted and scope not in have:
        for alternatives in calls:
            if any(alternative <= have for alternative in alternatives):
                continue
            # The alternative that the trim will meet; lacking is whatever of the trim brings
            # something of it.
            met = next(
                (alternative for alternative in alternatives if alternative <= will), frozenset()
            )
            if (met - have) & brings:
                return Cell.LACKS
    without = closure(held - {scope}, implies)
    if scope in held and any(
        any(scopes <= have for scopes in some) and not any(scopes <= without for scopes in some)
        for some in calls
    ):
        return Cell.NEEDED
    if any(one & brings for alternatives in calls for one in alternatives):
        return Cell.SERVES
    return Cell.NONE


def weight_words(weight: Fraction) -> str:
    """A weight as people read it: “4”, “4.25”."""
    return str(int(weight)) if weight.denominator == 1 else f"{float(weight):.2f}".rstrip("0")
