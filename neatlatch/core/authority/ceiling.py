"""How far a client may change itself by protocol (RFC 7592 §2.2): never beyond what its
registration right allowed, nor back to what an administrator has taken from it since. Without this,
anyone who holds a registration access token could give the client any right again.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from ..registration import ClientMetadata

FIELDS = ("scopes", "grants", "redirect_uris")


@dataclass(frozen=True)
class Ceiling:
    """The most of each that a client may have; ``None``: any."""

    scopes: frozenset[str] | None = None
    grants: frozenset[str] | None = None
    redirect_uris: frozenset[str] | None = None

    def scopes_of(self, known: Iterable[str]) -> frozenset[str]:
        """Those of the known scopes that may be asked for."""
        return frozenset(known) if self.scopes is None else frozenset(known) & self.scopes

    def grants_of(self, served: Iterable[str]) -> frozenset[str]:
        """Those of the grants that are served here."""
        return frozenset(served) if self.grants is None else frozenset(served) & self.grants

    def beyond(self, fields: ClientMetadata) -> str | None:
        """The first field that goes beyond it, by its name; ``None``: none does."""
        for name in FIELDS:
            most = getattr(self, name)
            if most is not None and not frozenset(getattr(fields, name)) <= most:
                return name
        return None

    def after_edit(self, before: ClientMetadata, after: ClientMetadata) -> Ceiling:
        """What it becomes by an administrator's edit: what was taken away stays away, what was
        added may be had.
        """
        return Ceiling(
            *(
                _edited(
                    getattr(self, name),
                    frozenset(getattr(before, name)),
                    frozenset(getattr(after, name)),
                )
                for name in FIELDS
            )
        )

    def as_plain(self) -> dict[str, list[str]]:
        """As it is kept."""
        return {name: sorted(most) for name in FIELDS if (most := getattr(self, name)) is not None}


def read(kept: Mapping[str, Any]) -> Ceiling:
    """What :meth:`Ceiling.as_plain` answered."""
    return Ceiling(*(frozenset(kept[name]) if name in kept else None for name in FIELDS))


def _edited(
    most: frozenset[str] | None, before: frozenset[str], after: frozenset[str]
) -> frozenset[str] | None:
    if before - after:
        # Of what it could have had beside, nothing is known to be wanted: it keeps what it has.
        return after
    return most if most is None else most | after
