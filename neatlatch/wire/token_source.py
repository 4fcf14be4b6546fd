"""A token that is held, and its keeper: what the ladder, the draw and the relay ask for
before they send.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from neatlatch.core.evidence import Exchange, Failure

from .transport import Transport


@dataclass(frozen=True)
class HeldToken:
    """A token to send.

    ``generation``: which of its connection's tokens it is, counted from the first, where anybody
    counts.
    """

    access_token: str
    granted: frozenset[str]
    ends: datetime | None = None
    renewed: bool = False
    generation: int | None = None

    def __repr__(self) -> str:
        return f"Held(•••, {sorted(self.granted)}, {self.ends})"


class NoToken(Exception):
    """There is no token to be had; ``failure`` says why."""

    def __init__(self, failure: Failure, exchanges: Sequence[Exchange] = ()) -> None:
        super().__init__(failure.code)
        self.failure, self.exchanges = failure, tuple(exchanges)


class TokenSource(Protocol):
    """The keeper of the tokens: gives the one held, renewed if it is near its end or ``force`` says
    so. Raises :class:`NoToken`.
    """

    def token(
        self, transport: Transport, force: bool
    ) -> tuple[HeldToken, tuple[Exchange, ...]]: ...

    def report_account(self, account: str) -> None:
        """The provider said whose token it is."""
