"""Tokens for programs (``nlp_…``): what a program may do, where, until when, and from where.

Their form is that of a key of the house (:mod:`.house_key`), so that one that was cut or mistyped
is told from an unknown one without a look-up. Only a digest is kept.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from enum import StrEnum

from .addresses import inside


class ProgramRight(StrEnum):
    """A right of a program's token. They are chosen one by one, and few imply another: least
    privilege (NIST SP 800-53 AC-6).
    """

    READ = "read"
    TEST = "test"
    CHANGE = "change"
    PUT_SECRETS = "put-secrets"
    DRAW = "draw"
    METRICS = "metrics"
    PEOPLE = "people"


MEANINGS = {
    ProgramRight.READ: "read what is set up, and how it is",
    ProgramRight.TEST: "test connections, begin rounds, and ask people to connect accounts",
    ProgramRight.CHANGE: "add, change and remove what is set up",
    ProgramRight.PUT_SECRETS: "put secrets in",
    ProgramRight.DRAW: "draw and relay for the workloads that it names",
    ProgramRight.METRICS: "read the metrics",
    ProgramRight.PEOPLE: "add people, and change their roles and access",
}
# A test, a change or a secret cannot be asked for without seeing what it is about, and each answer
# shows it (common practice, no source).
_IMPLIED = {
    right: frozenset({ProgramRight.READ})
    for right in (ProgramRight.TEST, ProgramRight.CHANGE, ProgramRight.PUT_SECRETS)
}


class BadRights(ValueError):
    """These rights cannot be given together; the message says why."""


@dataclass(frozen=True)
class ProgramGrant:
    """What was granted with a token."""

    rights: frozenset[ProgramRight]
    # Keys of the environments it holds for; ``None``: all of them.
    environments: frozenset[str] | None = None
    # Networks that it may come from (RFC 4632); empty: any.
    allow_list: tuple[str, ...] = ()

    def comes_from(self, address: str) -> bool:
        """Whether the token may be used from an address."""
        return not self.allow_list or inside(address, self.allow_list)

    def holds(self, right: ProgramRight) -> bool:
        """Whether the token has a right, wherever it holds."""
        return right in self.rights or any(right in _IMPLIED.get(held, ()) for held in self.rights)


def rights_of(
    names: Iterable[str], environments: Collection[str] = (), draws_for: int = 0
) -> frozenset[ProgramRight]:
    """Read the rights of a token from their names.

    ``environments`` are those that it holds for (empty: all), ``draws_for`` how many workloads it
    names. Raises :class:`BadRights` for a name that is unknown, for none at all, for *people* or
    *metrics* in some environments only: people and metrics belong to none; and for *draw* without
    a workload, or a workload without *draw*.
    """
    known = {right.value for right in ProgramRight}
    chosen = list(names)
    if unknown := sorted({name for name in chosen if name not in known}):
        raise BadRights(
            f"There is no right “{unknown[0][:40]}”. Rights are {', '.join(sorted(known))}."
        )
    if not chosen:
        raise BadRights("Choose at least one right.")
    rights = frozenset(ProgramRight(name) for name in chosen)
    everywhere = sorted(rights & {ProgramRight.PEOPLE, ProgramRight.METRICS})
    if environments and everywhere:
        raise BadRights(
            f"The right “{everywhere[0]}” is for all environments. Leave it out, or choose all."
        )
    if ProgramRight.DRAW in rights and not draws_for:
        raise BadRights("Name the workloads that it draws for.")
    if draws_for and ProgramRight.DRAW not in rights:
        raise BadRights("It draws for a workload only with the right “draw”.")
    return rights
