"""Issuer or tenant: the same after normalisation, the same tenant in every address, no placeholder
left.
"""

from __future__ import annotations

from .. import addresses
from .base import Act, Halves, Pin, differs, missing, unwritten

KEY, LABEL = "issuer", "issuer"


def pin(halves: Halves) -> Pin:
    """RFC 3986 §6.2.2 for the comparison; RFC 8414 §2 for the issuer."""
    theirs, ours = halves.provider.issuer, halves.caller.issuer
    if not ours:
        return missing(
            KEY, LABEL, theirs, "", "We have no issuer to send people to.", *_take(theirs)
        )
    if slots := addresses.placeholders(ours):
        return differs(
            KEY,
            LABEL,
            theirs or "—",
            ours,
            f"{slots[0]} has not been filled in on our side.",
            *_take(theirs),
        )
    if not theirs:
        return unwritten(
            KEY,
            LABEL,
            ours,
            "The provider's issuer has not been entered.",
            Act("open_application", "Enter value"),
        )
    if not addresses.equivalent(theirs, ours):
        return differs(
            KEY,
            LABEL,
            theirs,
            ours,
            "The two issuers are different servers or different tenants.",
            *_take(theirs),
        )
    return halves.agreed(KEY, LABEL, theirs, ours, "The same issuer on both sides.")


def _take(theirs: str) -> tuple[Act, ...]:
    return (Act("take_provider", "Use the provider's", theirs),) if theirs else ()
