"""Redirect URI: one of those registered, character by character (DOMAIN §3)."""

from __future__ import annotations

from .. import redirects
from .base import Act, Halves, Pin, differs, missing, not_known

KEY, LABEL = "redirect_uri", "redirect URI"


def pin(halves: Halves) -> Pin:
    """RFC 6749 §3.1.2.3, RFC 8252 §7.3, RFC 9700 §2.1."""
    ours, registered = halves.caller.redirect_uri, halves.provider.redirect_uris
    if not halves.provider.known:
        return not_known(KEY, LABEL, ours)
    if not ours:
        acts = (Act("take_provider", "Use the provider's", registered[0]),) if registered else ()
        return missing(KEY, LABEL, " ".join(registered), "", "We send no redirect URI.", *acts)
    register = Act(
        "register_ours",
        "Register ours too" if halves.provider.managed else "Note ours as registered",
        ours,
    )
    if not registered:
        return missing(
            KEY, LABEL, "", ours, "The provider has no redirect URI for this client.", register
        )
    found = redirects.match(registered, ours, "native" if halves.provider.public else "web")
    if found.match:
        return halves.agreed(
            KEY, LABEL, found.nearest or ours, ours, f"Registered: {found.reason}."
        )
    nearest = found.nearest or registered[0]
    why = (
        " ".join(difference.says for difference in found.differences)
        or found.reason[:1].upper() + found.reason[1:] + "."
    )
    if found.alike:
        why += " They look alike, but are compared character by character."
    return differs(
        KEY,
        LABEL,
        nearest,
        ours,
        why,
        Act("take_provider", "Use the provider's", nearest),
        register,
    )
