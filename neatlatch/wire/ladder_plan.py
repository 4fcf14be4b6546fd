"""The plain values of a test, what a rung says, and what a way in and the ladder ask of
each other.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Protocol

from neatlatch.core import oauth2
from neatlatch.core.depth import Depth
from neatlatch.core.evidence import Exchange, Failure, Rung
from neatlatch.core.probing import Piece
from neatlatch.core.profiles import Operation, Probe
from neatlatch.core.sending import Credentials

from .token_source import TokenSource
from .transport import HttpReply, Transport


@dataclass(frozen=True)
class Plan:
    """Everything a test needs, as plain values.

    ``mark`` names what the test makes; ``fresh`` says that the credential is newer than the
    provider's spreading time (``spread``, in seconds), so that a refusal is tried again; ``pace``
    is the most calls a second; ``rights`` are an account's roles, where there are no scopes
    (``None``: not known); ``last`` is the rung to stop after: *Sign in* tries the credential alone,
    *Work* the whole ladder; ``depth`` is the most that it does on the way.
    """

    scheme: str
    mark: str
    api_base: str = ""
    token_endpoint: str = ""
    client: oauth2.Client = oauth2.Client("")
    authorization_endpoint: str = ""
    introspection_endpoint: str = ""
    redirect_uri: str = ""
    scopes: frozenset[str] = frozenset()
    implies: dict[str, tuple[str, ...]] = field(default_factory=dict)
    harmless: Operation | None = None
    operations: tuple[Operation, ...] = ()
    needed: tuple[Operation, ...] = ()
    probe: Probe | None = None
    fresh: bool = False
    spread: float = 30.0
    pace: float = 10.0
    held: Credentials = Credentials("")
    stream_address: str = ""
    rights: frozenset[str] | None = None
    further: tuple[FurtherEndpoint, ...] = ()
    last: Rung = Rung.WORK
    depth: Depth = Depth.WORK


@dataclass(frozen=True)
class FurtherEndpoint:
    """A further endpoint, with a credential of its own.

    ``harmless`` is a path that changes nothing.
    """

    label: str
    base: str
    harmless: str
    held: Credentials


@dataclass(frozen=True)
class Leftover:
    """What is known of something that a test makes: yielded before it is made, and again whenever
    an exchange has shown more of it.

    ``address``: where it is cleared away; empty: not known yet. ``status``: the answer to clearing.
    """

    piece: Piece
    address: str
    status: int | None = None

    @property
    def method(self) -> str:
        """How it is cleared away."""
        return self.piece.probe.clear_method


@dataclass(frozen=True)
class RungRemark:
    """What a rung says. ``skipped``: there was nothing to try, and it says why."""

    says: str
    skipped: bool = False


def nothing_to_try(why: str) -> RungRemark:
    """A rung that is passed over, and why."""
    return RungRemark(why, skipped=True)


class TestStopped(Exception):
    """Somebody stopped the test."""


class RungFailed(Exception):
    """This rung failed."""

    def __init__(self, failure: Failure) -> None:
        super().__init__(failure.code)
        self.failure = failure


class LadderCalls(Protocol):
    """What a run lends to the authentication scheme that it tests: its plan, its transport, and
    calls that keep the pace.
    """

    plan: Plan
    transport: Transport
    token_source: TokenSource
    exchanges: list[Exchange]
    facts: dict[str, object]
    tries: int

    @property
    def now(self) -> Callable[[], datetime]:
        """Tells the time."""

    def send(self, request: oauth2.Request, *, safe: bool = False) -> HttpReply:
        """Send a request, again where it may be. Raises :class:`RungFailed`,
        :class:`TransportError`.
        """

    def with_credential(self, request: oauth2.Request, held: Credentials) -> oauth2.Request:
        """Put a credential on. Raises :class:`RungFailed` where one is not complete."""

    def check(self, answer: HttpReply, operation: str) -> None:
        """Raise :class:`RungFailed` where an answer is a refusal."""

    def pause(self, seconds: float) -> None:
        """Wait, unless somebody stops the test meanwhile. Raises :class:`TestStopped`."""

    def wait_to_spread(self) -> bool:
        """Wait for a new credential to be known there; ``False``: it is refused. Raises
        :class:`TestStopped`."""


class SchemeEntry(Protocol):
    """How one scheme lets us in."""

    lacks: str
    # Whether a call shows the secret itself, which may not have spread yet, and not a token that
    # was got with it.
    shows_secret: bool

    def addresses(self) -> tuple[str, ...]:
        """Everything that is called; a place that is no web address begins with ``tls://``."""

    def sign_in(self) -> str:
        """Prove the credential, and say how it went. Raises :class:`RungFailed`,
        :class:`TransportError`.
        """

    def request(self, method: str, address: str, body: dict[str, object] | None) -> oauth2.Request:
        """A call with the credential on."""

    def renew(self) -> bool:
        """Get a newer credential in place of one that a call was refused with (401); ``False``:
        there is none to get. Raises :class:`RungFailed`, :class:`TransportError`.
        """

    def granted(self) -> frozenset[str] | None:
        """The scopes or rights we hold, or ``None`` where nobody knows."""

    def secrets(self) -> tuple[str, ...]:
        """What no evidence may show."""

    def allowed(self) -> RungRemark | None:
        """What the Allowed rung says, where signing in has shown it already."""

    def worked(self) -> RungRemark | None:
        """What the Work rung says, where this way in has work of its own."""
