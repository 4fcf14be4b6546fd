"""Route: the outgoing address of the route is inside the provider's allow-list."""

from __future__ import annotations

from ..addresses import inside
from .base import Act, Fit, Halves, Pin, differs, missing

KEY, LABEL = "route", "route"


def pin(halves: Halves) -> Pin:
    """An allow-list holds networks (RFC 4632, RFC 4291 §2.3); every address that our calls may come
    from must be inside one of them.
    """
    allowed, ours = halves.provider.allow_list, halves.caller.outgoing
    shown = f"{halves.caller.route}{' → ' + ', '.join(ours) if ours else ''}"
    if not allowed:
        return Pin(
            KEY,
            LABEL,
            Fit.NOT_ASKED,
            "no allow-list recorded",
            shown,
            "Its allow-list is not known.",
        )
    theirs = f"allows {', '.join(allowed)}"
    if not ours:
        return missing(
            KEY,
            LABEL,
            theirs,
            shown,
            "It is not known which address our calls come from.",
            Act("test", "Test it"),
        )
    outside = [text for text in ours if not inside(text, allowed)]
    if outside:
        return differs(
            KEY,
            LABEL,
            theirs,
            shown,
            f"{outside[0]} is outside their allow-list.",
            Act("open_client", "Change their allow-list"),
            marked=False,
        )
    return halves.agreed(KEY, LABEL, theirs, shown, "Inside their allow-list.")
