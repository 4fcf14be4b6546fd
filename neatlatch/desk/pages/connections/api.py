"""Connections: the caller side, and the shear line."""

from __future__ import annotations

from dataclasses import asdict
from typing import NoReturn
from uuid import UUID

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.core.intake.recognise import LARGEST
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.connections import (
    accounts,
    destinations,
    fixes,
    naming,
    profile_effects,
    renewals,
    services,
    set_aside,
    setting_up,
    sign_in,
)
from neatlatch.desk.estate.connections.destinations import permission_of
from neatlatch.desk.estate.lookups import (
    find_application,
    find_client,
    find_connection,
    find_deployment,
)
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, SignIn
from neatlatch.desk.estate.records.workloads.models import Use
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import files as given_files
from neatlatch.desk.ground.common import narrowed, problems, safe
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.pages.applications.shapes import (
    ChangeEffectOut,
    ProfileIn,
    ProfilePreview,
    scheme_out,
    value_out,
)
from neatlatch.desk.pages.connections.shapes import EnvironmentChoice, ScopeChoice

from . import rows as rows_of
from .shapes import (
    ActIn,
    CertificateIn,
    ClientName,
    ConnectionChange,
    ConnectionIn,
    ConnectionOut,
    Connections,
    CopyOut,
    Draft,
    EnvironmentName,
    IntakeIn,
    IntakeTake,
    RenewalOut,
    SchemeName,
    SecretIn,
    SectionOut,
    SetAsideChoice,
    SetUpIn,
    SetUpOut,
    SignInIn,
    SignInOut,
    SignInState,
    UsedByIn,
)
from .shaping import full

router = Router(tags=["connections"])
LARGEST_CERTIFICATE = 1024 * 1024


@router.get("/connections", response=Connections)
def connections(request: HttpRequest, cursor: str | None = None, words: str = "") -> HttpResponse:
    """Connections by reference; ``words`` filters by plain words and field words
    (``env:production state:unlatched pin:scopes app:cargo``).
    """
    guard.need(request, "look")
    asked = filter_words.read(words, rows_of.FIELDS)
    items, following = rows_of.page_of(
        rows_of.fitting(
            narrowed.within(Connection.objects.all(), "deployment__environment__key"), asked
        ),
        cursor,
    )
    return written(Connections(items=items, next=following))


@router.get("/connections/drafts/{application}/{environment}/{scheme}", response=Draft)
def draft(
    request: HttpRequest,
    application: str,
    environment: str,
    scheme: str,
    client: UUID | None = None,
) -> Draft:
    """What a new connection starts from: the values the profile wants, with what is known filled
    in.
    """
    guard.need(request, "look")
    deployment = find_deployment(application, environment)
    profile = deployment.application.read_profile()
    found = profile.scheme(scheme)
    if found is None:
        raise problems.not_found("scheme")
    chosen = (
        Client.objects.filter(pk=client, deployment__application=deployment.application).first()
        if client
        else None
    )
    return Draft(
        scheme=scheme_out(found),
        values=services.defaults(deployment, found, chosen, settings.RETURN_ADDRESS),
        name=naming.free_name(deployment),
        secrets_known=sorted({credential.kind for credential in chosen.credentials.all()})
        if chosen
        else [],
        slots=[value_out(slot) for slot in profile.slots],
        scopes=[
            ScopeChoice(
                name=s.name,
                meaning=s.meaning,
                kind=s.kind,
                administrator=s.administrator,
                permitted=chosen is not None and s.name in chosen.scopes,
            )
            for s in profile.scopes
        ],
    )


@router.post("/connections", response={201: ConnectionOut})
def create(request: HttpRequest, body: ConnectionIn) -> tuple[int, ConnectionOut]:
    """Make a connection."""
    by = guard.need(request, "change")
    deployment = find_deployment(body.application, body.environment)
    client = (
        Client.objects.select_related("deployment__application", "deployment__environment")
        .filter(pk=body.client)
        .first()
        if body.client
        else None
    )
    if body.client and client is None:
        raise wrong_fields({"client": "There is no such client."})
    if client is not None:
        narrowed.check(client.deployment.environment.key, client.deployment.application.key)

    leave = permission_of(request, by)

    def make() -> tuple[int, ConnectionOut]:
        connection, notes = services.create(
            by,
            deployment,
            body.name.strip(),
            body.scheme,
            client,
            body.values,
            body.scopes,
            body.secrets,
            body.secret_ends,
            body.slots,
            leave,
        )
        return 201, full(find_connection(connection.ref), notes)

    # The secrets' keyed fingerprints, never the secrets themselves, take part in telling requests
    # apart.
    fingerprints = {key: safe.fingerprint(value) for key, value in body.secrets.items()}
    return guard.repeatable(
        request, {**body.dict(exclude={"secrets"}), "secrets": fingerprints}, make, alone=True
    )


@router.get("/connections/{ref:ref}", response=ConnectionOut)
def connection(request: HttpRequest, response: HttpResponse, ref: str) -> ConnectionOut:
    """A connection with its shear line."""
    guard.need(request, "look")
    found = find_connection(ref)
    guard.tagged(response, found.version)
    return full(found)


@router.patch("/connections/{ref:ref}", response=ConnectionOut)
def change(
    request: HttpRequest, response: HttpResponse, ref: str, body: ConnectionChange
) -> ConnectionOut:
    """Change the caller side.

    Where that would send what is held to another server, it says so (409, with ``moves``) and wants
    leave in header fields: ``Neatlatch-Code`` with ``Neatlatch-Reason``, or ``Neatlatch-Held:
    let-go``.
    """
    by = guard.need(request, "change")
    found = find_connection(ref)
    guard.check_version(request, found.version, found.changed_by, ("connection", found.pk))
    changed, notes = services.change(
        by, found, body.dict(), leave=permission_of(request, by), seen=found.version
    )
    guard.tagged(response, changed.version)
    return full(find_connection(ref), notes)


@router.delete("/connections/{ref:ref}", response={204: None})
def remove(request: HttpRequest, ref: str, confirm: str = "") -> tuple[int, None]:
    """Take a connection away; ``confirm`` must be its reference name."""
    by = guard.need(request, "change")
    if confirm != ref:
        raise Problem(
            422, "Type the reference to confirm.", f"It is {ref}.", code="confirmation-required"
        )
    services.remove(by, find_connection(ref))
    return 204, None


@router.api_operation(["POST", "PUT"], "/connections/{ref:ref}", include_in_schema=False)
def not_done_to_connections(request: HttpRequest, ref: str) -> NoReturn:
    """Refuse what is not done at this address; or a reference without its environment, which, with
    what is done to it, looks like one.
    """
    guard.need(request, "look")
    if not Connection.objects.filter(ref=ref).exists():
        raise naming.no_connection(ref)
    raise Problem(
        405,
        "This is not done to a connection.",
        "Look whether the address is whole.",
        code="method-not-allowed",
    )


@router.post("/connections/{ref:ref}/acts", response=ConnectionOut)
def act(request: HttpRequest, ref: str, body: ActIn) -> ConnectionOut:
    """Carry out an act that a pin offers."""
    by = guard.need(request, "change")
    fixes.act(by, find_connection(ref), body.pin, body.key, body.value, permission_of(request, by))
    return full(find_connection(ref))


@router.post("/connections/{ref:ref}/clearances", response=ConnectionOut)
def clear(request: HttpRequest, ref: str) -> ConnectionOut:
    """Clear where a connection sends what it holds, or discard that: what ``uncleared`` names.

    The leave stands in header fields, as with a change.
    """
    by = guard.need(request, "change")
    destinations.clear(by, find_connection(ref), permission_of(request, by))
    return full(find_connection(ref))


@router.post("/connections/{ref:ref}/secrets", response=ConnectionOut)
def put_secret(request: HttpRequest, ref: str, body: SecretIn) -> ConnectionOut:
    """Put in a new secret on the caller side."""
    by = guard.need(request, "put_secrets")
    _, notes = services.put_secret(
        by, find_connection(ref), body.secret, body.ends, body.key, permission_of(request, by)
    )
    return full(find_connection(ref), {body.key or "secret": notes} if notes else {})


@router.post("/connections/{ref:ref}/certificates", response=ConnectionOut)
def put_certificate(request: HttpRequest, ref: str, body: CertificateIn) -> ConnectionOut:
    """Put in a certificate with its chain and its private key."""
    by = guard.need(request, "put_secrets")
    too_large = "This is larger than any certificate with its chain."
    data = given_files.octets(body.pem, body.base64, "certificate", LARGEST_CERTIFICATE, too_large)
    _, notes = services.put_certificate(by, find_connection(ref), data, body.password or None)
    return full(find_connection(ref), {"certificate": notes})


@router.post("/connections/{ref:ref}/schemes", response=ConnectionOut)
def change_scheme(request: HttpRequest, ref: str, body: SchemeName) -> ConnectionOut:
    """Take another of the ways the application offers."""
    by = guard.need(request, "change")
    services.change_scheme(by, find_connection(ref), body.scheme, permission_of(request, by))
    return full(find_connection(ref))


@router.post("/connections/{ref:ref}/clients", response=ConnectionOut)
def choose_client(request: HttpRequest, ref: str, body: ClientName) -> ConnectionOut:
    """Name the client registration."""
    by = guard.need(request, "change")
    client = find_client(body.client)
    services.choose_client(by, find_connection(ref), client, permission_of(request, by))
    return full(find_connection(ref))


@router.post("/set-ups", response={201: ConnectionOut})
def begin_set_up(request: HttpRequest, body: SetUpIn) -> tuple[int, ConnectionOut]:
    """Begin a connection with little; its set-up page leads on from there."""
    by = guard.need(request, "change")
    deployment = find_deployment(body.application, body.environment)
    return guard.repeatable(
        request,
        body.dict(),
        lambda: (
            201,
            full(find_connection(setting_up.begin(by, deployment, body.scheme, body.name).ref)),
        ),
        alone=True,
    )


@router.get("/connections/{ref:ref}/set-up", response=SetUpOut)
def set_up(request: HttpRequest, ref: str) -> SetUpOut:
    """Where the set-up stands: its sections in the order of the work, and what is still missing."""
    guard.need(request, "look")
    found = find_connection(ref)
    worked_out = setting_up.standing(found)
    return SetUpOut(
        sections=[SectionOut(**asdict(section)) for section in worked_out.sections],
        missing=list(worked_out.missing),
        next=worked_out.next,
        environments_left=list(setting_up.left_out(found)),
        copies_to=_copies_to(found),
    )


def _copies_to(connection: Connection) -> list[EnvironmentChoice]:
    """Environments where the application has addresses and no connection yet."""
    left = set(setting_up.left_out(connection))
    return [
        EnvironmentChoice(key=deployment.environment.key, name=deployment.environment.name)
        for deployment in connection.deployment.application.deployments.all()
        if deployment.environment.name in left
    ]


@router.post("/connections/{ref:ref}/copies", response={201: CopyOut})
def copy_set_up(request: HttpRequest, ref: str, body: EnvironmentName) -> tuple[int, CopyOut]:
    """Begin the same set-up in another environment."""
    made, told = setting_up.copy(
        guard.need(request, "change"), find_connection(ref), body.environment
    )
    return 201, CopyOut(ref=made.ref, **told)


@router.post("/intakes", response=setting_up.LookedInto)
def look_into(request: HttpRequest, body: IntakeIn) -> setting_up.LookedInto:
    """What a pasted or dropped thing is. Nothing is kept, and no secret is answered."""
    guard.need(request, "change")
    return setting_up.preview(
        find_connection(body.connection) if body.connection else None,
        intake_data(body),
        body.password,
    )


@router.post("/connections/{ref:ref}/intakes", response=ConnectionOut)
def take_in(request: HttpRequest, ref: str, body: IntakeTake) -> ConnectionOut:
    """Put what was recognised where it belongs."""
    guard.need(request, "change")  # of the values beside secrets
    by = guard.need(request, "put_secrets")
    _, notes = setting_up.take(
        by,
        find_connection(ref),
        intake_data(body),
        body.password,
        body.only,
        body.choices,
        permission_of(request, by),
    )
    return full(find_connection(ref), notes)


def intake_data(body: IntakeIn) -> bytes:
    """The octets that were pasted or dropped."""
    too_large = (
        f"More than {LARGEST // 2**20} MiB is not read. Paste only the part with the values."
    )
    return given_files.octets(body.text, body.base64, "text", 3 * LARGEST // 2, too_large)


@router.post("/connections/{ref:ref}/sign-ins", response={201: SignInOut})
def begin_sign_in(request: HttpRequest, ref: str, body: SignInIn) -> tuple[int, SignInOut]:
    """Begin a sign-in: where to send the person."""
    me, found = guard.person_of(request), find_connection(ref)
    if body.for_tests:
        begun, address = sign_in.begin(
            guard.need_person(request, "test"), found, body.back, for_tests=True
        )
        return 201, SignInOut(id=begun.pk, address=address)
    # Where each has their own, anyone who is of the team or was asked connects theirs, whatever
    # their role.
    own = accounts.may_connect(me, found)
    if found.individual and not own:
        raise Problem(
            403,
            "You are not among those who connect an account here.",
            "Ask an administrator to put you into its team or to ask you.",
            code="not-asked-to-connect",
        )
    begun, address = sign_in.begin(
        guard.need_person(request, "look" if own else "test"), found, body.back
    )
    return 201, SignInOut(id=begun.pk, address=address)


@router.post("/connections/{ref:ref}/set-aside", response=ConnectionOut)
def choose(request: HttpRequest, ref: str, body: SetAsideChoice) -> ConnectionOut:
    """Use the tokens of a wrong account that were set aside, or end them."""
    by, found = guard.need(request, "test"), find_connection(ref)
    (set_aside.use if body.use else set_aside.refuse)(by, found)
    return full(find_connection(ref))


@router.post("/connections/{ref:ref}/renewals", response=RenewalOut)
def renew(request: HttpRequest, ref: str) -> RenewalOut:
    """Test renewal alone: get a new access token now.

    Where each has their own account, one's own.
    """
    connection = Connection.objects.filter(ref=ref).first()
    own = (
        connection is not None
        and isinstance(request.user, Person)
        and accounts.may_connect(request.user, connection)
    )
    by = guard.need(request, "look" if own else "test")
    return RenewalOut(**asdict(renewals.renew(by, find_connection(ref))))


@router.get("/sign-ins/{identity}", response=SignInState)
def sign_in_state(request: HttpRequest, identity: UUID) -> SignInState:
    """How a sign-in went."""
    guard.need(request, "look")
    found = SignIn.objects.select_related("connection").filter(pk=identity).first()
    if found is None:
        raise problems.not_found("sign-in")
    return SignInState(
        id=found.pk,
        connection=found.connection.ref,
        outcome=found.outcome,
        says=found.says,
        ended=found.ended,
    )


@router.post("/connections/{ref:ref}/workloads", response={201: ConnectionOut})
def add_workload(request: HttpRequest, ref: str, body: UsedByIn) -> tuple[int, ConnectionOut]:
    """Add a workload that uses this connection."""
    by, found = guard.need(request, "change"), find_connection(ref)
    workloads.use_connection(
        by,
        found,
        workloads.WorkloadFields(body.name, "", body.kind, body.owner, body.runs),
        body.operations,
    )
    return 201, full(find_connection(ref))


@router.delete("/connections/{ref:ref}/workloads/{identity}", response=ConnectionOut)
def remove_workload(request: HttpRequest, ref: str, identity: int) -> ConnectionOut:
    """A workload no longer uses this connection."""
    by = guard.need(request, "change")
    use = (
        Use.objects.select_related("connection", "workload", "application")
        .filter(pk=identity, connection__ref=ref)
        .first()
    )
    if use is None:
        raise problems.not_found("workload of this connection")
    workloads.stop_using(by, use)
    return full(find_connection(ref))


@router.post("/applications/{key}/profile-previews", response=ProfilePreview)
def preview(request: HttpRequest, key: str, body: ProfileIn) -> ProfilePreview:
    """What a changed profile would ask for, and what it would mean for the connections.

    Nothing is saved.
    """
    guard.need(request, "change")
    application = find_application(key)
    profile = applications.read_given(body.profile, body.text)
    meanings = profile_effects.of_change(application, profile)
    refs = {effect.ref for effect in meanings}
    says = (
        f"{len(refs)} of its connections would change."
        if refs
        else "None of its connections would change: their tests would send the same."
    )
    return ProfilePreview(
        schemes=[scheme_out(scheme) for scheme in profile.schemes],
        slots=[value_out(slot) for slot in profile.slots],
        meanings=[ChangeEffectOut(**asdict(effect)) for effect in meanings],
        says=says,
    )
