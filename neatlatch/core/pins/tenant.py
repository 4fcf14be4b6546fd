"""Tenant and other slots: filled in, and the same in every address."""

from __future__ import annotations

import re

from .. import addresses
from .base import Act, Fit, Halves, Pin, differs, missing

KEY = "tenant"


def pins(halves: Halves) -> tuple[Pin, ...]:
    """One pin where the application's addresses have slots.

    Tenant or account numbers sit inside the authorization and the token address; one of the two is
    often left unchanged (common practice, no source).
    """
    slots = sorted({slot for pattern in halves.patterns.values() for slot in _slots(pattern)})
    return (_pin(halves, slots),) if slots else ()


def _slots(pattern: str) -> list[str]:
    return re.findall(r"\{(\w+)\}", pattern)


def _pin(halves: Halves, slots: list[str]) -> Pin:
    label = slots[0].replace("_", " ") if len(slots) == 1 else "slots"
    found: dict[str, dict[str, str]] = {slot: {} for slot in slots}
    for key, pattern in halves.patterns.items():
        ours = halves.caller.values.get(key, "")
        if left := addresses.placeholders(ours):
            return Pin(
                KEY,
                label,
                Fit.DIFFERS,
                pattern,
                ours,
                (f"{left[0]} is still in our {key.replace('_', ' ')}; it has not been filled in."),
                acts=(Act("edit", "Fill it in"),),
            )
        for slot, value in _read(pattern, ours).items():
            found[slot][key] = value
    for slot, by_address in found.items():
        given = halves.caller.slots.get(slot, "")
        if not given:
            return missing(
                KEY,
                label,
                "",
                "",
                f"Which {slot.replace('_', ' ')} is ours has not been filled in.",
                Act("edit", "Fill it in"),
            )
        for key, value in by_address.items():
            if value != given:
                return differs(
                    KEY,
                    label,
                    given,
                    value,
                    f"Our {key.replace('_', ' ')} has {value}, the other addresses have {given}.",
                    Act("fill_slots", f"Put {given} everywhere", slot),
                )
    shown = ", ".join(halves.caller.slots.get(slot, "") for slot in slots)
    return halves.agreed(KEY, label, shown, shown, "The same in every address.")


def _read(pattern: str, address: str) -> dict[str, str]:
    """What stands in an address where its pattern has slots; empty where the address is of another
    shape.
    """
    parts = re.split(r"\{(\w+)\}", pattern)
    expression = "".join(
        re.escape(part)
        if place % 2 == 0
        else f"(?P<{part}>[^/?#.]+)"
        if parts.index(part) == place
        else f"(?P={part})"
        for place, part in enumerate(parts)
    )
    match = re.fullmatch(expression, address)
    return match.groupdict() if match else {}
