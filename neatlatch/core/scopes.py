"""Scopes: permitted, requested, granted and needed (RFC 6749 §3.3)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

Alternatives = tuple[frozenset[str], ...]


def split(text: str) -> frozenset[str]:
    """The scopes of a space-delimited list; order and repeats mean nothing (RFC 6749 §3.3)."""
    return frozenset(text.split())


def joined(scopes: Iterable[str]) -> str:
    """A scope parameter in a steady order."""
    return " ".join(sorted(scopes))


def malformed(scope: str) -> bool:
    """Whether a scope holds characters it must not (RFC 6749 §3.3: %x21 / %x23-5B / %x5D-7E)."""
    return not scope or any(
        not (c == "!" or "\x23" <= c <= "\x5b" or "\x5d" <= c <= "\x7e") for c in scope
    )


def closure(scopes: Iterable[str], implies: Mapping[str, Iterable[str]]) -> frozenset[str]:
    """The scopes and everything they imply, however far (DOMAIN §4)."""
    found: set[str] = set()
    waiting = list(scopes)
    while waiting:
        scope = waiting.pop()
        if scope not in found:
            found.add(scope)
            waiting.extend(implies.get(scope, ()))
    return frozenset(found)


def allows(
    held: Iterable[str], alternatives: Alternatives, implies: Mapping[str, Iterable[str]]
) -> bool:
    """Whether scopes allow an operation: one of its alternatives is held in full.

    No alternatives: open to all.
    """
    have = closure(held, implies)
    return not alternatives or any(alternative <= have for alternative in alternatives)


def lacking(
    held: Iterable[str], alternatives: Alternatives, implies: Mapping[str, Iterable[str]]
) -> frozenset[str]:
    """The fewest scopes to add so that an operation is allowed (ties by name); empty if it is."""
    have = closure(held, implies)
    if not alternatives:
        return frozenset()
    return min(
        (alternative - have for alternative in alternatives),
        key=lambda gap: (len(gap), sorted(gap)),
    )
