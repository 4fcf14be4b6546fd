"""Drawing: a workload of a connection takes a ready request header by the connection's name, or
sends its request through the relay.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
import time
from dataclasses import dataclass
from datetime import datetime

import structlog
from django.db import transaction
from django.utils import timezone

from neatlatch.core import house_key, references
from neatlatch.core.addresses import inside
from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.core.drawn import RIGHTS, Right
from neatlatch.core.oauth2 import Request
from neatlatch.core.program_tokens import ProgramRight
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import BEARER, CERTIFICATE, CLIENT, OAUTH1, OAUTH2, STREAM
from neatlatch.core.sending import NotComplete, with_credential
from neatlatch.desk.authority.certificates import services as certificates
from neatlatch.desk.authority.house import issuing, programs
from neatlatch.desk.authority.house.own import DRAW, RELAY, own_deployment
from neatlatch.desk.authority.records.certificates.models import Authority, Issued
from neatlatch.desk.authority.records.house.models import Access, ProgramScope
from neatlatch.desk.estate.connections import destinations, drawers, naming, tokens
from neatlatch.desk.estate.connections.destinations import DestinationPermission
from neatlatch.desk.estate.connections.presented import credentials_of
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common import shares
from neatlatch.desk.ground.common.actors import Actor, ProgramCaller
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.actors import lacks_right
from neatlatch.wire.token_source import HeldToken, NoToken
from neatlatch.wire.transport import Transport, TransportError

from .ledger import LEDGER, DrawFact

log = structlog.get_logger()
KEY = issuing.OWN_KEY


@transaction.atomic
def give(
    by: Actor,
    workload: Workload,
    kind: str,
    right: Right,
    ends: datetime | None = None,
    addresses: list[str] | None = None,
    request: str = "",
    leave: DestinationPermission | None = None,
) -> tuple[Client, Handover | None]:
    """Give a workload a key, a client or a certificate of its own, to draw with; with a signing
    ``request`` its holder has the key. ``right``: to send requests through the relay only, or to
    draw headers too, which requires ``leave`` where a draw hands out a secret itself. Returns it
    and the handover of its secret, if the house made that.
    """
    if kind not in ("key", "client", "certificate"):
        raise wrong_fields(
            {"kind": "A workload draws with a key, an OAuth 2.0 client, or a certificate."}
        )
    if right not in RIGHTS:
        raise wrong_fields(
            {
                "right": (
                    "Its right is “relay”, for requests through the relay only, or “draw”, for "
                    "headers too."
                )
            }
        )
    allowed, name = (
        frozenset({RELAY} if right == "relay" else {DRAW, RELAY}),
        f"{workload.name}, to draw",
    )
    own = issuing.DrawPermission(workload, addresses or ())
    handover: Handover | None
    if kind == "certificate":
        asked = certificates.CertificateOrder("client", workload.name[:64], request=request)
        client, _, handover = certificates.register(
            by, own_deployment(workload.environment), name, asked, allowed, of=own
        )
    else:
        scheme, grants = (BEARER, ()) if kind == "key" else (CLIENT, ("client_credentials",))
        fields = ClientMetadata(name, grants=grants, scopes=allowed)
        client, handover = issuing.register(
            by, own_deployment(workload.environment), fields, scheme, ends, of=own
        )
    if not workload.draws:
        Workload.objects.filter(pk=workload.pk).update(draws=True)
    if right == "draw":
        drawers.let(
            by,
            workload,
            [
                use.connection
                for use in workload.uses.select_related("connection")
                if use.connection
            ],
            leave,
        )
    write(
        by,
        "issued a key to",
        "workload",
        workload.name,
        {"id": workload.pk, "client": client.client_id, "right": right},
    )
    return client, handover


@transaction.atomic
def take_away(by: Actor, client: Client) -> None:
    """Take away what a workload draws with: every secret and token of it is refused from now on."""
    write(
        by,
        "removed a key of",
        "workload",
        client.workload.name if client.workload else "",
        {"client": client.client_id},
    )
    issuing.remove(by, client, "taken away from its workload")


# Who asks


@dataclass(frozen=True)
class WorkloadCaller:
    """A workload that has said who it is, by which client of its own."""

    workload: Workload
    client: Client
    scopes: frozenset[str]


def _no(what: str, client: Client | None = None) -> RequestRefused:
    refused = RequestRefused("invalid_token", "", 401, what)
    return issuing.of_client(refused, client) if client is not None else refused


def caller(
    authorization: str,
    address: str,
    now: datetime,
    certificate: bytes | None = None,
    workload: str = "",
) -> WorkloadCaller:
    """Who asks: by a key of its own, an access token got with its client, or a certificate (DER)
    that TLS has proven; or a program by its token, for the ``workload`` that it names
    (environment/name; empty: the only one that it draws for).

    Raises :class:`RequestRefused`, which tells callers nothing and the log everything, and
    :class:`Problem` (403) where a token does not draw for that workload.
    """
    scheme, _, text = authorization.partition(" ")
    text = text.strip()
    used: Credential | None = None
    if not authorization and certificate is not None:
        client, scopes, used = _by_certificate(certificate, now)
    elif scheme.lower() != "bearer" or not text:
        raise _no("no key")
    elif text.startswith(f"{house_key.PROGRAM_TOKEN}_"):
        return _by_program(programs.recognise(text, address, now), workload)
    elif text.count(".") == 2 and not text.startswith("nlk_"):
        client, scopes = _by_token(text, now)
    else:
        client, scopes, used = _by_key(text, now)
    if client.workload is None:
        raise _no("key or token of somebody who is no workload", client)
    if client.allow_list and not inside(address, client.allow_list):
        raise _no("from an address that is not allowed", client)
    if used is not None:  # not before: one that is refused was not used
        issuing.record_use(used, address, now)
    return WorkloadCaller(client.workload, client, scopes)


def _by_program(program: ProgramCaller, named: str) -> WorkloadCaller:
    if not program.grant.holds(ProgramRight.DRAW):
        raise lacks_right(ProgramRight.DRAW)
    scope = ProgramScope.objects.select_related("client").get(client__client_id=program.client_id)
    rows = scope.workloads.select_related("environment").order_by("name")
    if program.grant.environments is not None:
        rows = rows.filter(environment__key__in=program.grant.environments)
    if named:
        environment, _, name = named.partition("/")
        rows = rows.filter(environment__key=environment, name=name)
    allowed = list(rows[:2])
    if not allowed:
        raise Problem(
            403,
            f"This token does not draw for {named[:200] or 'any workload'}.",
            "Ask an administrator for a token that names the workload.",
            code="token-draws-for-others",
        )
    if len(allowed) > 1:
        raise Problem(
            422,
            "Say which workload draws.",
            "This token draws for several. Name one in the header field Neatlatch-Workload, as "
            "environment/name, percent-encoded.",
            code="workload-not-named",
        )
    return WorkloadCaller(allowed[0], scope.client, frozenset({DRAW, RELAY}))


def _by_token(text: str, now: datetime) -> tuple[Client, frozenset[str]]:
    row = (
        Access.objects.select_related(
            "client__workload__environment",
            "client__deployment__application",
            "client__deployment__environment",
        )
        .filter(digest=house_key.digest(text))
        .first()
    )
    if row is None:
        raise _no("token unknown")
    why = "token revoked" if row.revoked else "token ended" if row.ends <= now else ""
    if not why and row.client.deployment.application.key != KEY:
        why = "token for another application"
    if why:
        raise _no(why, row.client)
    return row.client, frozenset(row.scopes)


def _by_certificate(der: bytes, now: datetime) -> tuple[Client, frozenset[str], Credential]:
    """By the thumbprint of exactly that certificate (RFC 8705 §3.1): one that the house issued, to
    a client of it, and that lives.
    """
    issued = (
        Issued.objects.filter(
            sha256=hashlib.sha256(der).hexdigest(), credential__client__isnull=False
        )
        .select_related(
            "authority",
            "credential__client__workload__environment",
            "credential__client__deployment__application",
        )
        .select_related("credential__client__deployment__environment")
        .first()
    )
    if issued is None:
        raise _no("certificate unknown")
    credential, client = issued.credential, issued.credential.client
    assert client is not None
    why = "certificate revoked" if issued.revoked is not None else ""
    if not why:
        why = issuing.state_of(credential, "certificate", now)
    if not why and (
        issued.authority.state == Authority.State.RETIRED or issued.authority.not_after <= now
    ):
        why = "certificate of an authority that is gone"
    if not why and (issued.profile != "client" or client.deployment.application.key != KEY):
        why = "certificate for another use"
    if why:
        raise _no(why, client)
    return client, issuing.registered(client).allowed, credential


def _by_key(text: str, now: datetime) -> tuple[Client, frozenset[str], Credential]:
    try:
        read = house_key.read(text)
    except house_key.BadKey as error:
        raise _no(f"key {'unknown' if error.fault == 'foreign' else error.fault}") from error
    environment = Environment.objects.filter(key=read.environment).first()
    if environment is None:
        raise _no("key unknown")
    key = issuing.find_key(environment, text, now)
    client = key.client
    assert client is not None
    if client.deployment.application.key != KEY:
        raise _no("key for another application", client)
    client = Client.objects.select_related(
        "workload__environment", "deployment__application", "deployment__environment"
    ).get(pk=client.pk)
    return client, issuing.registered(client).allowed, key


def connection_of(asker: WorkloadCaller, name: str, wants: str) -> Connection:
    """:func:`used_connection`, if the asker may do what it wants with it, and it can be drawn.
    Raises :class:`Problem`.
    """
    connection = used_connection(asker, name)
    if wants not in asker.scopes:
        raise Problem(
            403,
            f"Your key does not allow you to {wants}.",
            "Ask its administrator for one that does.",
            code="key-forbids",
        )
    if (refusal := undrawable(connection)) is not None:
        raise refusal
    return connection


def used_connection(asker: WorkloadCaller, name: str) -> Connection:
    """The connection of a name in the asker's own environment, if the asker uses it; a former name
    serves too, and its use is recorded. Raises :class:`Problem`, which says in which other
    environments the asker uses the name; whether a connection exists that it does not use is not
    told.
    """
    environment = asker.workload.environment
    connection = _used_by(asker, name) or _used_by_former(asker, name)
    if connection is None:
        elsewhere = sorted(
            asker.workload.uses.filter(connection__name=name)
            .exclude(connection__deployment__environment=environment)
            .values_list("connection__ref", flat=True)
        )
        also = f" You use {', '.join(elsewhere)}, in another environment." if elsewhere else ""
        raise Problem(
            404,
            f"You use no connection {name[: references.LONGEST_NAME]} in {environment.name}.",
            f"A workload draws in its own environment, {environment.name}.{also} An administrator "
            f"can add you on the connection's page.",
            code="connection-not-used",
        )
    return connection


def _used_by(asker: WorkloadCaller, name: str) -> Connection | None:
    reference = references.write(asker.workload.environment.key, name)
    return _use(asker, connection__ref=reference)


def _used_by_former(asker: WorkloadCaller, name: str) -> Connection | None:
    former = naming.drawn_by_former(asker.workload.environment, name)
    if former is None:
        return None
    connection = _use(asker, connection=former.connection)
    if connection is not None:
        naming.record_use(former, asker.workload.name, timezone.now())
    return connection


def _use(asker: WorkloadCaller, **which: object) -> Connection | None:
    """A connection that the asker uses."""
    rows = Use.objects.select_related(
        "connection__deployment__application",
        "connection__deployment__environment",
        "connection__client",
        "connection__client__deployment",
    )
    use = rows.filter(workload=asker.workload, **which).first()
    return use.connection if use is not None else None


def undrawable(connection: Connection) -> Problem | None:
    """Why nobody can draw a connection, nor send a request through it, for any caller;
    ``None`` where one can.
    """
    if connection.individual:
        return Problem(
            409,
            "There each person has an account of their own.",
            "A job cannot borrow one. Use a connection with a service account.",
            code="individual-accounts",
        )
    if connection.scheme == STREAM:
        return Problem(
            409,
            "A stream is not called by requests.",
            "Neither its key nor a request can be drawn; it is signed in to on its own line.",
            code="stream-has-no-requests",
        )
    return None


# Drawing


@dataclass(frozen=True)
class Drawing:
    """A ready way into an application. ``ends``: when the token in it does."""

    base: str
    headers: dict[str, str]
    query: dict[str, str]
    ends: datetime | None
    credential: str

    def __repr__(self) -> str:
        return f"Drawing({self.base!r}, •••)"


def secret_of(connection: Connection) -> str:
    """The ID of the secret a draw is made with; of several, the first that was asked for."""
    held = connection.credential
    return str(held.pk) if held is not None else ""


def incomplete(error: NotComplete) -> Problem:
    """Return the problem of a connection that lacks a value (409)."""
    return Problem(
        409,
        "This connection is not set up to the end.",
        str(error),
        code="connection-incomplete",
    )


def draw(
    workload: Workload,
    connection: Connection,
    method: str = "GET",
    address: str = "",
    refused: str = "",
) -> Drawing:
    """A ready header for a workload.

    A token near its end is renewed under it; anyone who asks meanwhile shares that one renewal.
    ``refused`` is the digest (SHA-256, hexadecimal) of a header value that the application refused
    though its time is not over: a token that is that one is renewed, unless it has just been.
    Raises :class:`Problem`.
    """
    base, secret = connection.values.get("api_base", ""), secret_of(connection)
    try:
        destinations.check(connection)
    except TransportError as error:
        raise Problem(
            409,
            "What it holds was not cleared for where it goes.",
            error.failure.detail,
            code="draw-not-cleared",
        ) from error
    if connection.scheme == CERTIFICATE:
        raise Problem(
            409,
            "This connection shows a certificate on the line itself.",
            "No header can carry that. Send your request through the relay.",
            code="certificate-not-drawable",
        )
    if connection.scheme in OAUTH2:
        held = tokens.live(connection)
        stale = held is not None and _is_refused(held, refused) and not tokens.is_fresh(connection)
        if held is None or stale:
            newer_than = held.generation if held is not None else None
            with transport_of(connection, min(connection.time_limit, 20.0)) as transport:
                held = token_of(connection, transport, stale, newer_than)
        return Drawing(
            base, {"Authorization": f"Bearer {held.access_token}"}, {}, held.ends, secret
        )
    if drawers.not_let(workload, connection):
        says = (
            "Of this connection a draw hands out the secret itself. Send your request through "
            "the relay, or have an administrator let you on the connection's page."
        )
        raise Problem(403, "Nobody let you draw this secret.", says, code="drawing-not-permitted")
    if connection.scheme == OAUTH1 and not address.startswith(base):
        raise Problem(
            422,
            "This connection signs each request.",
            f"Say method and url of the request to sign; url begins with {base}.",
            code="request-signature-required",
        )
    try:
        request = with_credential(
            Request(method, address or base),
            credentials_of(connection),
            secrets.token_hex(12),
            int(time.time()),
        )
    except NotComplete as error:
        raise incomplete(error) from error
    query = request.url.removeprefix(address or base).lstrip("?&")
    return Drawing(
        base,
        dict(request.headers),
        dict(part.split("=", 1) for part in query.split("&") if "=" in part),
        None,
        secret,
    )


def _is_refused(held: HeldToken, refused: str) -> bool:
    value = f"Bearer {held.access_token}"
    return hmac.compare_digest(
        hashlib.sha256(value.encode()).hexdigest().encode(), refused.encode()
    )


# Seconds between two looks whether somebody else has renewed, and how long it is waited for in all:
# as long as a renewal may take.
_LOOK, _RENEWAL = 0.1, 40.0


def until_renewed(connection: Connection, force: bool = False) -> shares.Steps[None]:
    """Wait, without a worker, while somebody else renews the token that is wanted."""
    if connection.scheme not in OAUTH2:
        return
    until = time.monotonic() + _RENEWAL
    while tokens.is_being_renewed(connection, force) and time.monotonic() < until:
        yield shares.Wait(_LOOK)


def transport_of(connection: Connection, total: float) -> Transport:
    """The transport of a connection. Raises :class:`Problem`."""
    try:
        return destinations.transport_of(connection, total, tokens.shown(connection))
    except TransportError as error:
        raise Problem(
            409,
            "This connection cannot be used as it is.",
            error.failure.detail,
            code="connection-unusable",
        ) from error


def token_of(
    connection: Connection, transport: Transport, force: bool, newer_than: int | None = None
) -> HeldToken:
    """The token that is held, or a renewed one, as :func:`tokens.hold` gives it.

    Raises :class:`Problem`.
    """
    try:
        held, _ = tokens.hold(connection, transport, force, newer_than)
    except NoToken as error:
        raise Problem(
            503,
            "No token is to be had.",
            f"{error.failure.detail} Its administrator can see why on the connection's page.",
            code="no-token",
        ) from error
    except TransportError as error:
        raise Problem(
            503,
            "The application's token endpoint could not be reached.",
            error.failure.detail,
            code="token-endpoint-unreachable",
        ) from error
    return held


def record_draw(
    asker: WorkloadCaller, connection: Connection, credential: str, way: str, failed: bool = False
) -> None:
    """Record a draw."""
    LEDGER.record(
        [DrawFact(str(asker.workload.pk), str(connection.pk), credential, way, failed)],
        timezone.now(),
    )
