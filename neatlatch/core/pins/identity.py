"""Identity: the names by which the application knows us, where there is no OAuth 2.0 client ID: key
ID, user name, client key, token.
"""

from __future__ import annotations

from neatlatch.core.schemes import lower

from .base import Act, Halves, Pin, differs, missing, not_known, unwritten


def pins(halves: Halves) -> tuple[Pin, ...]:
    """Compared as strings; spaces at the ends, and the ID where the value belongs, are common
    practice, no source.
    """
    wanted = halves.caller.parts.identities() if halves.caller.parts else ()
    return tuple(_pin(halves, identity.key, lower(identity.label)) for identity in wanted)


def _pin(halves: Halves, key: str, label: str) -> Pin:
    theirs, ours = halves.provider.facts.get(key, ""), halves.caller.values.get(key, "")
    if not halves.provider.known:
        return not_known(key, label, ours)
    take = (Act("take_provider", "Use the provider's", key),) if theirs else ()
    if not theirs:
        return unwritten(
            key,
            label,
            ours,
            f"The provider's {label} has not been entered.",
            Act("open_client", "Enter value"),
        )
    if not ours:
        return missing(key, label, theirs, "", f"We send no {label}.", *take)
    if ours != ours.strip():
        return differs(
            key,
            label,
            theirs,
            ours,
            "There is a space or line break at an end of ours; it becomes part of it.",
            *take,
        )
    if ours == theirs:
        return halves.agreed(key, label, theirs, ours, "The same on both sides.")
    right = () if halves.provider.managed else (Act("note_fact", "Ours is what they gave", ours),)
    if ours.casefold() == theirs.casefold():
        return differs(
            key,
            label,
            theirs,
            ours,
            "Only capitals and small letters differ, and they count.",
            *take,
            *right,
        )
    other = next(
        (name for name, value in halves.provider.facts.items() if value == ours and name != key),
        None,
    )
    if other is not None:
        return differs(
            key, label, theirs, ours, f"Ours is what belongs at “{other.replace('_', ' ')}”.", *take
        )
    return differs(
        key, label, theirs, ours, f"We send another {label} than the provider gave.", *take, *right
    )
