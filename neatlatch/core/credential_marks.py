"""The findings about a credential: it ends soon, has no end, nobody uses it, two environments
share it, it is a person's (common practice, no source).
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

SOON, UNUSED = timedelta(days=30), timedelta(days=90)


@dataclass(frozen=True)
class CredentialFacts:
    """What is known of a credential.

    ``environments`` and ``applications`` are those in which the very same value is held; ``weak``
    says why it is easily guessed; ``last_used`` is its last use or draw, as far as one is seen;
    ``held`` whether a connection holds it; ``draws`` whether a workload draws with it; ``waits``
    whether its handover still waits; ``lives`` whether its state lets it in.
    """

    issued: datetime
    ends: datetime | None
    lives: bool
    held: bool
    last_used: datetime | None
    environments: frozenset[str]
    of_a_person: bool = False
    waits: bool = False
    draws: bool = False
    applications: frozenset[str] = frozenset()
    weak: str = ""


@dataclass(frozen=True)
class Mark:
    """One thing to know. ``grave`` ones stop somebody, or let somebody in who should not be."""

    key: str
    says: str
    grave: bool = False


def marks(known: CredentialFacts, now: datetime) -> tuple[Mark, ...]:
    """The findings, the gravest first.

    Nothing is said of one that no longer lets anybody in, but that something here still holds it.
    """
    if not known.lives:
        return (
            (Mark("dead", "It is no longer accepted, and a connection still holds it.", True),)
            if known.held
            else ()
        )
    found: list[Mark] = []
    if known.ends is not None and known.ends <= now:
        found.append(Mark("over", "It has expired.", known.held or known.draws))
    elif known.ends is not None and known.ends - now <= SOON:
        days = (known.ends - now).days
        found.append(
            Mark(
                "ends_soon",
                f"It expires in {days} {'day' if days == 1 else 'days'}."
                if days
                else "It expires today.",
                days <= 7 and (known.held or known.draws),
            )
        )
    elif known.ends is None:
        found.append(Mark("no_end", "It has no expiry date, or none is known."))
    for sharing in (known.applications, known.environments):
        if len(sharing) > 1:
            found.append(Mark("shared", f"{' and '.join(sorted(sharing))} share it.", True))
            break
    if known.weak:
        found.append(Mark("weak", known.weak, True))
    if known.waits:
        found.append(Mark("waits", "Nobody has taken it yet."))
    elif not known.held and (
        known.last_used is None
        and now - known.issued > timedelta(days=1)
        or known.last_used is not None
        and now - known.last_used > UNUSED
    ):
        since = (
            "No use of it was ever seen."
            if known.last_used is None
            else f"Nobody has used it for {(now - known.last_used).days} days."
        )
        found.append(Mark("unused", since))
    if known.of_a_person:
        found.append(Mark("person", "It belongs to a person, and leaves with them."))
    return tuple(sorted(found, key=lambda mark: not mark.grave))


def next_moment(known: CredentialFacts, now: datetime) -> datetime | None:
    """The next moment at which another mark may stand out by itself (``None``: none is known)."""
    if not known.lives:
        return None
    moments = [] if known.ends is None else [known.ends, known.ends - SOON]
    # Unused is what has been so for longer than that.
    unused = (
        known.issued + timedelta(days=1) if known.last_used is None else known.last_used + UNUSED
    )
    moments.append(unused + timedelta(microseconds=1))
    return min((moment for moment in moments if moment > now), default=None)
