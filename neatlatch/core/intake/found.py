"""What intake finds: named values out of whatever was pasted, and what was left."""

from __future__ import annotations

from dataclasses import dataclass


class IntakeRefused(ValueError):
    """What was pasted is not read; the message says why and what to do.

    ``needs_password``: it is locked.
    """

    def __init__(self, says: str, needs_password: bool = False) -> None:
        super().__init__(says)
        self.needs_password = needs_password


@dataclass(frozen=True)
class Item:
    """A named value.

    ``name`` is as it stood there (``oauth.client_id``); ``notes`` say what was cleaned off the
    value.
    """

    name: str
    value: str
    notes: tuple[str, ...] = ()

    def __repr__(self) -> str:
        return f"Item({self.name!r}, •••)"


@dataclass(frozen=True)
class Recognised:
    """What it is, in words; its values; and what was seen and left, with the reason."""

    kind: str
    says: str
    items: tuple[Item, ...] = ()
    left: tuple[str, ...] = ()
    facts: tuple[tuple[str, str], ...] = ()
