"""Endpoints: authorization, token and API base are protected and equal to what the provider publishes."""

from __future__ import annotations

from .. import addresses
from ..profiles import CODE
from .base import Act, Halves, Pin, differs, missing

KEY, LABEL = "endpoints", "endpoints"
_NAMES = {"authorization_endpoint": "authorization endpoint", "token_endpoint": "token endpoint", "api_base": "API base address"}


def pin(halves: Halves) -> Pin:
    """https or loopback (RFC 6749 §3.1, §3.2), filled in, and the same after RFC 3986 §6.2.2 normalisation."""
    fields = [one for one in _NAMES if one != "authorization_endpoint" or halves.caller.scheme == CODE]
    for field in fields:
        theirs, ours = str(getattr(halves.provider, field)), str(getattr(halves.caller, field))
        name = _NAMES[field]
        take = (Act("take_provider", "Use the provider's", field),) if theirs else ()
        if not ours:
            return missing(KEY, LABEL, theirs, "", f"Our {name} is not filled in.", *take)
        if wrong := addresses.unsound_web_address(ours):
            return differs(KEY, LABEL, theirs or "—", ours, f"Our {name} cannot be called. {wrong}", *take)
        if not addresses.is_protected(ours):
            return differs(KEY, LABEL, theirs or "—", ours, f"Our {name} is not https; what we send there could be overheard.", *take)
        if not theirs:
            return missing(KEY, LABEL, "", ours, f"The provider's {name} has not been entered.", Act("open_application", "Enter it"))
        if not addresses.equivalent(theirs, ours):
            return differs(KEY, LABEL, theirs, ours, f"The {name} is not the one the provider has.", *take)
    source = "published" if halves.provider.published else "entered by hand"
    return halves.agreed(KEY, LABEL, halves.provider.token_endpoint, halves.caller.token_endpoint,
                         f"{len(fields)} addresses are the same as {source}.")  # fmt: skip
