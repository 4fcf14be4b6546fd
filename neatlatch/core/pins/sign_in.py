"""Client sign-in: a method the provider allows; a public client sends no secret."""

from __future__ import annotations

from .base import Act, Halves, Pin, differs, missing, not_known, unwritten

KEY, LABEL = "client_sign_in", "client sign-in"


def pin(halves: Halves) -> Pin:
    """``token_endpoint_auth_method`` (RFC 7591 §2), RFC 6749 §2.3.1; the default is
    client_secret_basic.
    """
    ours = halves.caller.sign_in_method
    if not halves.provider.known:
        return not_known(KEY, LABEL, ours)
    allowed = sorted(halves.provider.sign_in_methods)
    theirs = ", ".join(allowed)
    take = tuple(Act("take_provider", f"Use {text}", text) for text in allowed)
    if not allowed:
        return unwritten(
            KEY,
            LABEL,
            ours,
            "It is not known how the client signs in to the provider.",
            Act("open_client", "Enter value"),
        )
    if not ours:
        return missing(KEY, LABEL, theirs, "", "It is not said how our client signs in.", *take)
    if ours not in halves.provider.sign_in_methods:
        return differs(
            KEY,
            LABEL,
            theirs,
            ours,
            f"We sign in by {ours}; the provider takes {theirs} from this client.",
            *take,
        )
    if halves.provider.public and ours != "none":
        return differs(
            KEY,
            LABEL,
            "none",
            ours,
            "A public client sends no secret.",
            Act("take_provider", "Use none", "none"),
        )
    return halves.agreed(KEY, LABEL, theirs, ours, "The provider accepts this method.")
