"""How far a test goes: a test shows what works, and must do no harm by it.

Rules: common practice, no source.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from .evidence import Rung


class Depth(StrEnum):
    """The most that a test does."""

    SIGN_IN = "sign_in"  # signs in, and calls nothing
    HARMLESS = "harmless"  # makes the one call that changes nothing
    WORK = "work"  # does the profile's real work

    def tries(self, rung: str) -> bool:
        """Return whether a test of this depth tries a rung; ``rung`` is the value of a ``Rung``."""
        if rung == Rung.WORK:
            return self is Depth.WORK
        return rung != Rung.ALLOWED or self is not Depth.SIGN_IN


@dataclass(frozen=True)
class DepthLimits:
    """What limits the tests of a connection.

    ``personal``: each person has an account of their own there, and no service account is signed
    in for tests. ``environment`` names the environment; ``environment_permits`` and
    ``connection_permits`` say whether rounds may do real work.
    """

    personal: bool
    environment: str
    environment_permits: bool
    connection_permits: bool

    def of_round(self) -> Depth:
        """Return how far a round's test goes."""
        if self.personal:
            return Depth.SIGN_IN
        return (
            Depth.WORK if self.environment_permits and self.connection_permits else Depth.HARMLESS
        )

    def manual(self) -> Depth:
        """Return how far a test goes that a person begins."""
        return Depth.SIGN_IN if self.personal else Depth.WORK

    def says(self) -> str:
        """Say what tests do here and what limits them, in one or two sentences."""
        if self.personal:
            return "Tests sign in and call nothing, because that would be done in a person's name."
        if self.of_round() is Depth.WORK:
            return "Rounds do real work here."
        return f"Rounds make the harmless call only: {self._forbidden_by()}."

    def says_to_its_people(self, tests_as: str) -> str:
        """Say what tests do to anyone who has an account of their own here.

        ``tests_as`` names the service account for tests; empty: none is named.
        """
        if self.personal:
            return "A test may sign in with it. It reads nothing there and makes nothing."
        return f"Tests use {tests_as}, and not your account."

    def _forbidden_by(self) -> str:
        if not (self.environment_permits or self.connection_permits):
            return f"neither {self.environment} nor this connection permits them real work"
        who = "this connection" if self.environment_permits else self.environment
        return f"{who} does not permit them real work"
