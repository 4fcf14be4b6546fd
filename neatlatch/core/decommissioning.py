"""Decommissioning: the order of the work, and what each step waits for.

Who still uses it, revoke there, prove it is refused, forget the secrets and keep the history. What
is revoked while something uses it stops that; what is forgotten before it was proven refused cannot
be tried any more (common practice, no source).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

# What was not seen in use for so long counts as quiet.
QUIET = timedelta(days=14)
Step = Literal["uses", "revoke", "prove", "end"]
STEPS: tuple[Step, ...] = ("uses", "revoke", "prove", "end")
# By the house authority; by a protocol of the application; by a person in its screens; not at all,
# because something else goes on using it.
How = Literal["house", "protocol", "manually", "kept"]


@dataclass(frozen=True)
class Usage:
    """Something that uses what is decommissioned.

    ``seen``: its uses are seen here, and ``last`` is the last of them (``None``: none was).
    ``blocks``: it has to go, or to be moved, before anything else is done.
    """

    kind: str
    name: str
    address: str
    says: str = ""
    last: datetime | None = None
    seen: bool = False
    blocks: bool = False

    def is_quiet(self, now: datetime) -> bool:
        """Whether it would have been seen in use, and was not for :data:`QUIET`."""
        return self.seen and (self.last is None or now - self.last >= QUIET)


@dataclass(frozen=True)
class Revocation:
    """Something that is to be revoked, by how; ``acts`` are what a person does in the
    application's screens. ``provable``: that it is refused afterwards is to be seen.
    """

    key: str
    what: str
    how: How
    says: str = ""
    acts: tuple[str, ...] = ()
    provable: bool = True


@dataclass(frozen=True)
class DecommissioningFacts:
    """How far it is: ``left`` is what is still to be revoked; ``to_prove``: something was revoked
    whose refusal is to be seen; ``proven``: it was, or somebody said why that could not be tried.
    """

    confirmed: bool
    left: tuple[Revocation, ...]
    to_prove: bool
    proven: bool

    @property
    def step(self) -> Step:
        """The step that is to be done now."""
        if not self.confirmed:
            return "uses"
        if any(revocation.how != "kept" for revocation in self.left):
            return "revoke"
        return "prove" if self.to_prove and not self.proven else "end"


def in_use(usages: Iterable[Usage], now: datetime) -> list[Usage]:
    """Those that stop, as far as is known here."""
    return [usage for usage in usages if not usage.is_quiet(now)]


def obstacle(usages: Iterable[Usage], reason: str, now: datetime) -> str:
    """Why it cannot be confirmed that the uses may stop; empty: it can. ``reason`` is why they may,
    where there are some.
    """
    using = in_use(usages, now)
    blocking = [usage for usage in using if usage.blocks]
    if blocking:
        return f"{_named(blocking)} must be decommissioned or moved first."
    if using and not reason:
        still = "still uses" if len(using) == 1 else "still use"
        return f"{_named(using)} {still} it. Say why that may stop."
    return ""


def _named(usages: list[Usage]) -> str:
    names = [usage.name for usage in usages[:3]]
    more = len(usages) - len(names)
    if more:
        return f"{', '.join(names)} and {more} more"
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)
