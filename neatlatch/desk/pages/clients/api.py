"""Client registrations: the provider side."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime
from uuid import UUID

from django.db.models import Count, Q, Window
from django.db.models.functions import RowNumber
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import redirects
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import CERTIFICATE, CODE, REGISTERED, Scheme, Value
from neatlatch.desk.authority.certificates import services as certificates
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.estate.clients import services
from neatlatch.desk.estate.credentials import ends
from neatlatch.desk.estate.lookups import find_client, find_deployment
from neatlatch.desk.estate.records.clients.models import Client, Kind
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import narrowed
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.request_bodies import Moment, RequestBody
from neatlatch.desk.pages.applications.shapes import (
    EnvironmentOut,
    ValueOut,
    environment_out,
    value_out,
)

router = Router(tags=["clients"])
# Connections that are named of a client in a list.
_MOST_NAMED = 5
# What is told of a client on its own page: its newest secrets, and connections that use it.
_MOST_SECRETS, _MOST_CONNECTIONS = 100, 1_000


@dataclass(frozen=True, kw_only=True)
class ClientRow:
    """A client in the list of an application's; some of the connections that use it, and how many
    more.
    """

    id: UUID
    name: str
    client_id: str
    kind: str
    environment: EnvironmentOut
    scheme: str
    grants: list[str]
    managed: bool
    house: bool
    state: str
    connections: list[str]
    more_connections: int


@dataclass(frozen=True, kw_only=True)
class Clients:
    """A page of these rows, and the cursor of the next."""

    items: list[ClientRow]
    next: str | None


class ClientIn(RequestBody):
    """A client to register.

    ``by_house``: issued by the house authority; ``by_protocol``: let the application register it
    (RFC 7591); else its manual steps are listed. ``ends``: when the first secret of the house
    ends. ``request``: a signing request, where the house issues a certificate for its key.
    """

    application: str
    environment: str
    name: str
    contacts: list[str] = []
    public: bool = False
    redirect_uris: list[str] = []
    grants: list[str] = ["authorization_code", "refresh_token"]
    scopes: list[str] = []
    sign_in_method: str = "client_secret_basic"
    by_protocol: bool = True
    by_house: bool = False
    ends: Moment | None = None
    vendor_shared: bool = False
    scheme: str = ""
    request: str = ""


class NoteIn(RequestBody):
    """What the application's own screens show of us; absent: stays."""

    name: str | None = None
    facts: dict[str, str] | None = None
    account: str | None = None
    account_kind: str | None = None
    rights: list[str] | None = None
    switches: list[str] | None = None
    allow_list: list[str] | None = None
    vendor_shared: bool | None = None


class ClientChange(RequestBody):
    """What to change; absent: stays."""

    name: str | None = None
    contacts: list[str] | None = None
    redirect_uris: list[str] | None = None
    grants: list[str] | None = None
    scopes: list[str] | None = None


@dataclass(frozen=True, kw_only=True)
class SecretOut:
    """A secret as it may be known."""

    id: UUID
    kind: str
    hint: str
    state: str
    issued: datetime
    ends: datetime | None
    # Whether people note its end here.
    may_end: bool


@dataclass(frozen=True, kw_only=True)
class StepOut:
    """A numbered act in the application's own screens."""

    key: str
    says: str
    copy_text: str
    done: bool


@dataclass(frozen=True, kw_only=True)
class LintOut:
    """Something wrong with a redirect URI."""

    code: str
    says: str
    grave: bool
    source: str


@dataclass(frozen=True, kw_only=True)
class ClientOut:
    """A client in full. ``kind``: what it is; ``parts``: what there is to see of it."""

    id: UUID
    application: str
    application_name: str
    environment: EnvironmentOut
    name: str
    contacts: list[str]
    public: bool
    client_id: str
    redirect_uris: list[str]
    grants: list[str]
    scopes: list[str]
    sign_in_method: str
    consents: dict[str, dict[str, str]]
    managed: bool
    house: bool
    kind: str
    parts: list[str]
    gets_tokens: bool
    keeps_secrets: bool
    shows_certificate: bool
    state: str
    vendor_shared: bool
    scheme: str
    facts: dict[str, str]
    wanted_facts: list[ValueOut]
    account: str
    account_kind: str
    rights: list[str]
    switches: list[str]
    wanted_switches: list[str]
    allow_list: list[str]
    roles: list[str]
    roles_label: str
    version: int
    changed_at: datetime
    changed_by: str
    secrets: list[SecretOut]
    steps: list[StepOut]
    connections: list[str]
    handover: UUID | None = None
    notes: list[str] = field(default_factory=list)


class StepDone(RequestBody):
    """A step, ticked off or not."""

    key: str
    done: bool


class ClientIdIn(RequestBody):
    """The client ID that the application gave."""

    client_id: str


class ConsentIn(RequestBody):
    """An administrator's consent to a scope."""

    scope: str
    given: bool = True


class UriIn(RequestBody):
    """A redirect URI to look at."""

    uri: str


def shape(client: Client, handover: UUID | None = None, notes: tuple[str, ...] = ()) -> ClientOut:
    """A client in full."""
    profile = client.deployment.application.read_profile()
    credentials = (
        client.credentials.defer("value")
        .select_related("handover")
        .order_by("-issued")[:_MOST_SECRETS]
    )
    scheme = profile.scheme_for(client.scheme)
    open_handovers = [
        credential.handover
        for credential in credentials
        if hasattr(credential, "handover")
        and not (credential.handover.shown or credential.handover.closed)
    ]
    waiting = open_handovers[0].pk if open_handovers else None
    return ClientOut(
        id=client.pk,
        application=client.deployment.application.key,
        application_name=client.deployment.application.name,
        environment=environment_out(client.deployment.environment),
        name=client.name,
        contacts=client.contacts,
        public=client.public,
        client_id=client.client_id,
        redirect_uris=client.redirect_uris,
        grants=client.grants,
        scopes=client.scopes,
        sign_in_method=client.sign_in_method,
        consents=client.consents,
        managed=client.managed,
        house=client.house,
        kind=client.kind,
        parts=list(client.parts),
        gets_tokens=client.gets_tokens,
        keeps_secrets=client.keeps_secrets,
        shows_certificate=client.shows_certificate,
        state=client.state,
        vendor_shared=client.vendor_shared,
        scheme=client.scheme,
        facts=client.facts,
        wanted_facts=[value_out(fact) for fact in _facts(scheme)],
        account=client.account,
        account_kind=client.account_kind,
        rights=client.rights,
        switches=client.switches,
        wanted_switches=list(scheme.switches),
        allow_list=client.allow_list,
        roles=[role.name for role in profile.roles],
        roles_label=profile.roles_label,
        version=client.version,
        changed_at=client.changed_at,
        changed_by=client.changed_by,
        secrets=[
            SecretOut(
                id=c.pk,
                kind=c.kind,
                hint=c.hint,
                state=c.state,
                issued=c.issued,
                ends=c.ends,
                may_end=not ends.told_by(c),
            )
            for c in credentials
        ],
        steps=[]
        if client.managed
        else [
            StepOut(key=s.key, says=s.says, copy_text=s.copy, done=s.key in client.ticks)
            for s in services.steps(client)
        ],
        connections=list(
            client.connections.order_by("ref").values_list("ref", flat=True)[:_MOST_CONNECTIONS]
        ),
        handover=handover or waiting,
        notes=list(notes),
    )


def lint_out(lint: redirects.Lint) -> LintOut:
    """What is wrong with a redirect URI, as the page shows it."""
    return LintOut(code=lint.code, says=lint.says, grave=lint.grave, source=lint.source)


def _facts(scheme: Scheme) -> list[Value]:
    """What the provider's side can tell of us, beside an OAuth client's registration."""
    found = list(scheme.identities())
    if scheme.value("certificate") is not None:
        found.append(
            Value(
                "thumbprint",
                "Thumbprint they hold",
                "text",
                "SHA-256 of the certificate that they know us by.",
                required=False,
            )
        )
    if scheme.value("audience") is not None:
        found.append(
            Value(
                "audience",
                "Audience they want",
                "text",
                "What the assertion must be for; empty: their token endpoint or issuer.",
                required=False,
            )
        )
    return found


@router.get("/clients", response=Clients)
def clients(
    request: HttpRequest,
    application: str,
    environment: str = "",
    live: bool | None = None,
    cursor: str | None = None,
) -> HttpResponse:
    """The clients of an application, by name; those in one environment; ``live``: those that can be
    used, or cannot yet.
    """
    guard.need(request, "look")
    rows = narrowed.within(Client.objects.all(), "deployment__environment__key").filter(
        deployment__application__key=application
    )
    if environment:
        rows = rows.filter(deployment__environment__key=environment)
    if live is not None:
        usable = Q(state="live") & ~Q(kind=Kind.RESOURCE_SERVER)
        rows = rows.filter(usable if live else ~usable)
    found, following = page(
        rows.select_related("deployment__environment"), "name", cursor, then="id"
    )
    workloads = Connection.objects.filter(client__in=[one.pk for one in found])
    ranked = workloads.annotate(
        nth=Window(RowNumber(), partition_by="client", order_by="ref"),
        of_all=Window(Count("pk"), partition_by="client"),
    )
    refs: dict[UUID, list[str]] = {}
    counts: dict[UUID, int] = {}
    for client, ref, count in (
        ranked.filter(nth__lte=_MOST_NAMED)
        .order_by("ref")
        .values_list("client_id", "ref", "of_all")
    ):
        assert client is not None
        refs.setdefault(client, []).append(ref)
        counts[client] = count
    return written(
        Clients(
            items=[_row(one, refs.get(one.pk, []), counts.get(one.pk, 0)) for one in found],
            next=following,
        )
    )


def _row(client: Client, connections: list[str], count: int) -> ClientRow:
    return ClientRow(
        id=client.pk,
        name=client.name,
        client_id=client.client_id,
        kind=client.kind,
        environment=environment_out(client.deployment.environment),
        scheme=client.scheme,
        grants=client.grants,
        managed=client.managed,
        house=client.house,
        state=client.state,
        connections=connections,
        more_connections=count - len(connections),
    )


@router.post("/clients", response={201: ClientOut})
def register(request: HttpRequest, body: ClientIn) -> tuple[int, ClientOut]:
    """Register a client, or begin its record manually."""
    by = guard.need(request, "change")
    deployment = find_deployment(body.application, body.environment)
    fields = ClientMetadata(
        body.name.strip(),
        tuple(contact.strip() for contact in body.contacts if contact.strip()),
        body.public,
        tuple(text for text in body.redirect_uris if text),
        tuple(body.grants),
        frozenset(body.scopes),
        body.sign_in_method,
    )

    def create() -> tuple[int, ClientOut]:
        if body.by_house and body.scheme == CERTIFICATE:
            client, _, made = certificates.register(
                by,
                deployment,
                body.name,
                certificates.CertificateOrder("client", request=body.request),
                contacts=fields.contacts,
            )
            return 201, shape(client, made.pk if made else None)
        if body.by_house:
            client, made = issuing.register(by, deployment, fields, body.scheme or CODE, body.ends)
            return 201, shape(client, made.pk if made else None)
        if body.scheme and body.scheme not in REGISTERED:
            return 201, shape(
                services.prepare_other(
                    by,
                    deployment,
                    body.name.strip(),
                    body.scheme,
                    fields.scopes,
                    body.vendor_shared,
                )
            )
        if body.by_protocol:
            client, handover = services.register(by, deployment, fields)
            return 201, shape(client, UUID(handover) if handover else None)
        return 201, shape(services.prepare(by, deployment, fields, body.vendor_shared))

    return guard.repeatable(request, body.dict(), create, alone=body.by_house)


@router.get("/clients/{identity}", response=ClientOut)
def client(request: HttpRequest, response: HttpResponse, identity: UUID) -> ClientOut:
    """A client."""
    guard.need(request, "look")
    found = find_client(identity)
    guard.tagged(response, found.version)
    return shape(found)


@router.post("/clients/{identity}/facts", response=ClientOut)
def record_facts(request: HttpRequest, identity: UUID, body: NoteIn) -> ClientOut:
    """Record what the application's own screens show of us: names, account, rights, switches,
    allow-list.
    """
    services.record_facts(guard.need(request, "change"), find_client(identity), body.dict())
    return shape(find_client(identity))


@router.patch("/clients/{identity}", response=ClientOut)
def change(
    request: HttpRequest, response: HttpResponse, identity: UUID, body: ClientChange
) -> ClientOut:
    """Change a client: at the application too, where it is managed by protocol."""
    by = guard.need(request, "change")
    found = find_client(identity)
    guard.check_version(request, found.version, found.changed_by, ("client", found.pk))

    def edit(fields: ClientMetadata) -> ClientMetadata:
        return replace(
            fields,
            name=fields.name if body.name is None else body.name,
            contacts=fields.contacts if body.contacts is None else tuple(body.contacts),
            redirect_uris=fields.redirect_uris
            if body.redirect_uris is None
            else tuple(body.redirect_uris),
            grants=fields.grants if body.grants is None else tuple(body.grants),
            scopes=fields.scopes if body.scopes is None else frozenset(body.scopes),
        )

    changed = services.change(by, found, edit)
    guard.tagged(response, changed.version)
    return shape(changed)


@router.delete("/clients/{identity}", response={204: None})
def remove(request: HttpRequest, identity: UUID) -> tuple[int, None]:
    """Remove a client that no connection uses."""
    by, found = guard.need(request, "change"), find_client(identity)
    if found.house:
        issuing.remove(by, found, "the client was removed")
    else:
        services.remove(by, found)
    return 204, None


@router.post("/clients/{identity}/readings", response=ClientOut)
def read_back(request: HttpRequest, identity: UUID) -> ClientOut:
    """Read a managed client as the application holds it now."""
    by, found = guard.need(request, "change"), find_client(identity)
    read = services.read_back(by, found)
    return shape(read)


@router.post("/clients/{identity}/completed-steps", response=ClientOut)
def tick(request: HttpRequest, identity: UUID, body: StepDone) -> ClientOut:
    """Tick a step off."""
    return shape(
        services.tick(guard.need(request, "change"), find_client(identity), body.key, body.done)
    )


@router.post("/clients/{identity}/client-ids", response=ClientOut)
def enter_client_id(request: HttpRequest, identity: UUID, body: ClientIdIn) -> ClientOut:
    """Enter the client ID that the application gave."""
    found, notes = services.enter_client_id(
        guard.need(request, "change"), find_client(identity), body.client_id
    )
    return shape(found, notes=notes)


@router.post("/clients/{identity}/consents", response=ClientOut)
def consent(request: HttpRequest, identity: UUID, body: ConsentIn) -> ClientOut:
    """Record an administrator's consent, or that it was withdrawn."""
    changed = services.record_consent(
        guard.need(request, "change"), find_client(identity), body.scope, body.given
    )
    return shape(changed)


@router.post("/redirect-uris/lint", response=list[LintOut])
def lint(request: HttpRequest, body: UriIn) -> list[LintOut]:
    """What is wrong with a redirect URI, as one types it."""
    guard.need(request, "look")
    return [lint_out(one) for one in redirects.lint(body.uri)]
