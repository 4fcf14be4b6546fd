"""The relay: a request of a workload, sent through a connection with its credential put on, at its
pace, and repeated where that is safe.
"""

from __future__ import annotations

import math
import secrets
import sqlite3
import time
from collections.abc import Hashable
from dataclasses import dataclass, field, replace
from uuid import UUID

import structlog
from django.conf import settings
from django.utils import timezone

from neatlatch.core import relaying
from neatlatch.core.destinations import origin
from neatlatch.core.oauth2 import Request
from neatlatch.core.schemes import OAUTH2
from neatlatch.core.sending import NotComplete, with_credential
from neatlatch.desk.estate.connections import tokens
from neatlatch.desk.estate.connections.presented import credentials_of
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common import shares, transports
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.wire.kept_connections import KeptTransports
from neatlatch.wire.pace import Paces, SharedPaces
from neatlatch.wire.repeating import sending
from neatlatch.wire.token_source import HeldToken
from neatlatch.wire.transport import StreamedReply, Transport, TransportError

from .quick import ReadyDraw
from .services import incomplete, token_of, transport_of, until_renewed

log = structlog.get_logger()
# One pace for all processes that relay: the desk's, however many, and the TLS listener.
_PACES: Paces | SharedPaces = SharedPaces(settings.HOME / "paces.sqlite3")
# Where that file cannot be used, each process has its own.
_OWN_PACES = Paces()
_KEPT = KeptTransports()


@dataclass(frozen=True)
class RelayTarget:
    """What the relay asks of a connection."""

    id: UUID
    name: str
    base: str
    # Calls a second, and seconds that a call may take in all.
    pace: float
    time_limit: float
    # Header fields that the application's profile lets through.
    further: tuple[str, ...]

    @classmethod
    def of(cls, connection: Connection) -> RelayTarget:
        """The connection's."""
        profile = connection.deployment.application.read_profile()
        base = connection.values.get("api_base", "")
        return cls(
            connection.pk,
            connection.name,
            base,
            connection.pace,
            connection.time_limit,
            profile.relays,
        )

    @classmethod
    def of_quick(cls, name: str, ready: ReadyDraw) -> RelayTarget:
        """That of a connection whose token is ready."""
        return cls(
            UUID(ready.connection), name, ready.base, ready.pace, ready.time_limit, ready.relays
        )


@dataclass(frozen=True)
class RelayRequest:
    """A request as its caller sent it, for an address below the connection's base.

    ``limit``: the pace of the caller's own ``key``, in calls a second, where it is given one.
    """

    method: str
    url: str
    headers: relaying.Headers = field(repr=False)
    body: bytes = field(repr=False)
    limit: float | None = None
    key: UUID | None = None

    @property
    def may_be_repeated(self) -> bool:
        """Whether the application takes it twice for once."""
        return relaying.may_repeat_after_renewal(self.method, self.headers)


@dataclass
class RelayReply:
    """What came back.

    ``tries`` counts the requests that were sent, ``renewed`` whether a token was renewed for it.
    """

    status: int
    headers: relaying.Headers
    body: bytes
    tries: int
    renewed: bool = False


@dataclass
class _Sender:
    """Sends one request, as often as is safe and may help."""

    through: RelayTarget
    asked: RelayRequest
    tries: int = 0

    def send(self, transport: Transport, request: Request) -> shares.Steps[StreamedReply]:
        """Send it. Raises :class:`Problem`."""

        def once() -> StreamedReply:
            self.tries += 1
            return transport.pass_on(request, content=self.asked.body or None)

        def take() -> float:
            return _take_pace(self.through, self.asked, transport.left)

        steps = sending(transport, self.asked.method, once, take=take, now=timezone.now)
        while True:
            try:
                wait = next(steps)
            except StopIteration as end:
                answer: StreamedReply = end.value
                return answer
            except TransportError as broken:
                says = broken.failure.detail or broken.failure.code
                raise Problem(
                    502,
                    "The application could not be reached.",
                    says,
                    code="application-unreachable",
                ) from broken
            yield shares.Wait(wait)

    def with_token(self, token: str) -> Request:
        """The request with a bearer token on."""
        bare = Request(self.asked.method, self.asked.url, (), "")
        return self.with_credential(
            replace(bare, headers=(("Authorization", f"Bearer {token}"),), secrets=(token,))
        )

    def with_credential(self, with_credential: Request) -> Request:
        """The request with what carries the credential; a field of the credential's that the caller
        sent too is the credential's alone.
        """
        headers = relaying.onward(self.asked.headers, self.through.further)
        ours = {name.lower() for name, _ in with_credential.headers}
        return replace(
            with_credential,
            headers=(
                *(header for header in headers if header[0].lower() not in ours),
                *with_credential.headers,
            ),
        )

    def back(self, answer: StreamedReply, renewed: bool = False) -> RelayReply:
        """What the caller is answered."""
        headers = tuple(answer.headers.items())
        place = next((value for name, value in headers if name.lower() == "location"), "")
        start = f"/relay/{self.through.name}"
        there = (
            relaying.location(place, self.asked.url, self.through.base, start) if place else None
        )
        told = (
            *relaying.back(headers, self.through.further),
            *((("Location", there),) if there else ()),
        )
        return RelayReply(answer.status, told, answer.octets, self.tries, renewed)


def _take_pace(through: RelayTarget, asked: RelayRequest, most: float) -> float:
    """Take one call out of the connection's pace, and of that of the caller's own key where it has
    one; the seconds to wait for it.

    Raises :class:`Problem` where the wait would be longer than ``most`` seconds; the call then
    counts for neither.
    """
    paces: dict[Hashable, float] = {("connection", through.id): through.pace}
    if asked.limit:
        paces["key", through.id, asked.key] = asked.limit
    at, longest = time.monotonic(), max(most, 0.0)
    try:
        wait, taken = _PACES.take(paces, at, longest)
    except sqlite3.Error as error:
        log.warning("the file of paces cannot be used", why=str(error))
        wait, taken = _OWN_PACES.take(paces, at, longest)
    if not taken:
        raise Problem(
            429,
            "Too many requests wait for this connection's pace.",
            f"It allows {min(paces.values()):g} a second. Send fewer, or ask for a higher pace.",
            retry_after=math.ceil(wait),
            code="pace-exceeded",
        )
    return wait


@dataclass
class Relay:
    """A request sent through a connection of any kind.

    ``tries`` were made before; ``refused`` is the generation of the token that was refused then.
    """

    connection: Connection
    asked: RelayRequest
    tries: int = 0
    refused: int | None = None

    def run(self) -> RelayReply:
        """Send it, and wait here where that is needed. Raises :class:`Problem`."""
        return shares.run_here(self.steps())

    def steps(self) -> shares.Steps[RelayReply]:
        """Send it, in steps between which it waits. Raises :class:`Problem`."""
        connection = self.connection
        sender = _Sender(RelayTarget.of(connection), self.asked, self.tries)
        yield from until_renewed(connection, force=self.refused is not None)
        with (
            transport_of(connection, connection.time_limit) as transport,
            transport.within(connection.time_limit),
        ):
            held, renewed = None, self.refused is not None
            if renewed:
                held = token_of(connection, transport, True, self.refused)
            elif connection.scheme in OAUTH2:
                held = tokens.live(connection) or token_of(connection, transport, False)
            answer = yield from sender.send(transport, self._request_with_credential(sender, held))
            if (
                answer.status == 401
                and held is not None
                and not renewed
                and self.asked.may_be_repeated
            ):
                # It ended in the middle of a run, or was revoked: once more with a new one, or with
                # the one that another asker renewed meanwhile.
                yield from until_renewed(connection, force=True)
                held, renewed = token_of(connection, transport, True, held.generation), True
                answer = yield from sender.send(
                    transport, self._request_with_credential(sender, held)
                )
        self.tries = sender.tries
        return sender.back(answer, renewed)

    def _request_with_credential(self, sender: _Sender, held: HeldToken | None) -> Request:
        if held is not None:
            return sender.with_token(held.access_token)
        bare = Request(
            self.asked.method, self.asked.url, (), self.asked.body.decode("utf-8", "replace")
        )
        try:
            return sender.with_credential(
                with_credential(
                    bare, credentials_of(self.connection), secrets.token_hex(12), int(time.time())
                )
            )
        except NotComplete as error:
            raise incomplete(error) from error


def quickly(name: str, ready: ReadyDraw, asked: RelayRequest) -> shares.Steps[RelayReply]:
    """Send a request through a connection whose token is ready, on a line that is kept.

    Raises :class:`Problem`.
    """
    through = RelayTarget.of_quick(name, ready)
    sender = _Sender(through, asked)
    place = origin(through.base)

    def make() -> Transport:
        return transports.transport(through.time_limit, goes_to=frozenset((place,)))

    # Who may not be repeated gets a line of its own: one that waited may be closed by the other
    # side in that very moment.
    kept_as = (through.id, place, through.time_limit)
    way_of = _KEPT.transport(kept_as, make) if asked.may_be_repeated else make()
    with way_of as transport, transport.within(through.time_limit):
        answer = yield from sender.send(
            transport, sender.with_token(ready.header.removeprefix("Bearer "))
        )
    if answer.status == 401 and asked.may_be_repeated:
        rows = Connection.objects.select_related(
            "deployment__application", "deployment__environment", "client__deployment"
        )
        connection = rows.get(pk=through.id)
        return (yield from Relay(connection, asked, sender.tries, ready.generation).steps())
    return sender.back(answer)
