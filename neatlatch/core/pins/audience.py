"""Audience: the assertion is for the one who will judge it, and the token for the API asked for
(RFC 7523 §3, RFC 8707).
"""

from __future__ import annotations

from .base import Act, Halves, Pin, differs, missing, unwritten

KEY, LABEL = "audience", "audience"


def pin(halves: Halves) -> Pin:
    """``aud`` is compared as a string (RFC 7519 §4.1.3): the token endpoint or the issuer, as the
    provider says.
    """
    theirs, ours = (
        halves.provider.facts.get("audience", ""),
        halves.caller.values.get("audience", ""),
    )
    wanted = (
        [theirs]
        if theirs
        else [
            address
            for address in (
                halves.provider.addresses.get("token_endpoint", ""),
                halves.provider.issuer,
            )
            if address
        ]
    )
    take = tuple(Act("take_provider", "Use the provider's", address) for address in wanted[:1])
    if not ours:
        return missing(
            KEY,
            LABEL,
            theirs or " or ".join(wanted),
            "",
            "It is not said whom the assertion is for.",
            *take,
        )
    if not wanted:
        return unwritten(
            KEY,
            LABEL,
            ours,
            "It is not known what the provider calls itself.",
            Act("open_application", "Enter value"),
        )
    if ours not in wanted:
        slash = (
            " Only a slash at the end differs, and it counts."
            if ours.rstrip("/") in [address.rstrip("/") for address in wanted]
            else ""
        )
        return differs(
            KEY,
            LABEL,
            wanted[0],
            ours,
            f"The assertion is not addressed to the provider.{slash}",
            *take,
        )
    return halves.agreed(KEY, LABEL, ours, ours, "The provider's own name.")
