"""Client ID: equal, without spaces at the ends, and not the ID of the secret."""

from __future__ import annotations

from .base import Act, Halves, Pin, differs, missing, not_known, unwritten

KEY, LABEL = "client_id", "client ID"


def pin(halves: Halves) -> Pin:
    """Compared as strings (RFC 6749 §2.2); the other rules are common practice, no source."""
    theirs, ours = halves.provider.client_id, halves.caller.client_id
    if not halves.provider.known:
        return not_known(KEY, LABEL, ours)
    take = (Act("take_provider", "Use the provider's", theirs),) if theirs else ()
    if not theirs:
        return unwritten(
            KEY,
            LABEL,
            ours,
            "The provider's client ID has not been entered.",
            Act("open_client", "Enter value"),
        )
    if not ours:
        return missing(KEY, LABEL, theirs, "", "We send no client ID.", *take)
    if ours != ours.strip():
        return differs(
            KEY,
            LABEL,
            theirs,
            ours,
            "There is a space or line break at an end of ours; it becomes part of it.",
            *take,
        )
    if ours != theirs:
        if any(ours == secret.secret_id for secret in halves.provider.secrets if secret.secret_id):
            return differs(
                KEY, LABEL, theirs, ours, "Ours is the ID of the secret, not of the client.", *take
            )
        return differs(
            KEY, LABEL, theirs, ours, "We send another client ID than the provider gave.", *take
        )
    return halves.agreed(KEY, LABEL, theirs, ours, "The same on both sides.")
