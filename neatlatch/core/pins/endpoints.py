"""Endpoints: authorization, token and API base are protected and equal to what the provider
publishes.
"""

from __future__ import annotations

from neatlatch.core.schemes import lower

from .. import addresses
from .base import Act, Halves, Pin, differs, missing, unwritten

KEY, LABEL = "endpoints", "endpoints"


def pin(halves: Halves) -> Pin:
    """https or loopback (RFC 6749 §3.1, §3.2), filled in, and the same after RFC 3986 §6.2.2
    normalisation. A stream's place is host and port.
    """
    wanted = halves.caller.parts.addresses() if halves.caller.parts else ()
    for value in wanted:
        theirs, ours, name = (
            halves.provider.addresses.get(value.key, ""),
            halves.caller.values.get(value.key, ""),
            lower(value.label),
        )
        take = (
            Act("take_provider", "Use the provider's", value.key)
            if theirs
            else Act("edit", "Edit our side"),
        )
        if not ours:
            return missing(KEY, LABEL, theirs, "", f"Our {name} is not filled in.", *take)
        if (
            wrong := addresses.host_port_mistake(ours)
            if value.type == "host"
            else addresses.unsound_web_address(ours)
        ):
            return differs(
                KEY, LABEL, theirs or "—", ours, f"Our {name} cannot be called. {wrong}", *take
            )
        if value.type != "host" and not addresses.is_protected(ours):
            return differs(
                KEY,
                LABEL,
                theirs or "—",
                ours,
                f"Our {name} is not https; what we send there could be overheard.",
                *take,
            )
        if not theirs:
            return unwritten(
                KEY,
                LABEL,
                ours,
                f"The provider's {name} has not been entered.",
                Act("open_application", "Enter value"),
            )
        if value.type == "host":
            same = theirs.lower() == ours.lower()
        else:
            same = addresses.equivalent(theirs, ours)
        if not same:
            return differs(
                KEY,
                LABEL,
                theirs,
                ours,
                f"The {name} is not the one the provider has.{_how(theirs, ours)}",
                *take,
            )
    if not wanted:
        return missing(
            KEY,
            LABEL,
            "",
            "",
            "No address is described for this scheme.",
            Act("open_application", "Describe it"),
        )
    source = "published" if halves.provider.published else "entered manually"
    count = f"{len(wanted)} addresses are" if len(wanted) > 1 else "The address is"
    shown = next((address for address in wanted if address.key == "token_endpoint"), wanted[0]).key
    return halves.agreed(
        KEY,
        LABEL,
        halves.provider.addresses[shown],
        halves.caller.values[shown],
        f"{count} the same as {source}.",
    )


def _how(theirs: str, ours: str) -> str:
    """The usual slips: the root folder left off, a slash at the end, http for https."""
    a, b = addresses.take_apart(theirs), addresses.take_apart(ours)
    if (a.scheme, a.host, a.port) == (b.scheme, b.host, b.port) and a.path.rstrip(
        "/"
    ) == b.path.rstrip("/"):
        return " Only a slash at the end differs."
    if (a.scheme, a.host, a.port) == (b.scheme, b.host, b.port) and a.path.startswith(
        b.path.rstrip("/") + "/"
    ):
        return f" The folder {a.path[len(b.path.rstrip('/')) :]} is part of their address."
    return ""
