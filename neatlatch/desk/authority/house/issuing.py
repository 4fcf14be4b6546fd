"""Clients of the house authority and their secrets: registered, given another,
recognised, revoked.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import structlog
from django.conf import settings
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from neatlatch.core import house_key
from neatlatch.core.addresses import inside
from neatlatch.core.authority import asking
from neatlatch.core.authority.refusing import PresentedClient, RequestRefused
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import BEARER, CERTIFICATE, CLIENT, CODE, HOUSE_ISSUES
from neatlatch.desk.authority.records.house.models import Access, Grant, RejectedRequest
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.clients.services import checked
from neatlatch.desk.estate.credentials.services import forget, keep, new_handover
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import (
    Client,
    Kind,
    ProgramClient,
    ResourceServer,
    WorkloadKey,
    class_of,
)
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common.actors import BY_PROTOCOL, Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.common.strangers import Allowance
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.actors import person_who

from . import certificate_registry as certificates

log = structlog.get_logger()
LIVE_SECRETS = 2
LIFE, LONGEST_LIFE = timedelta(days=180), timedelta(days=366)
TAKEN_WITHIN = timedelta(hours=24)
NOTED_EVERY = timedelta(seconds=60)
_KEPT_REJECTED = 5000
# A digest of nothing: an unknown ID is compared like a known one.
NO_DIGEST = house_key.digest("")
# Schemes whose clients have neither grants nor redirect URIs.
_PLAIN = (BEARER, CERTIFICATE)


def issuer(environment: Environment) -> str:
    """The authority's name for an environment; each has its own, so that what one issues is no good
    in another.
    """
    return f"{settings.PUBLIC_URL}/house/{environment.key}"


# What secrets of the house are called: API keys, and those of clients.
KEY_KIND, SECRET_KIND = "token", "client_secret"
# The key of Neat Latch itself among the applications.
OWN_KEY = "neat-latch"


@dataclass(frozen=True)
class DrawPermission:
    """A workload of connections that a client of the house is for, and the networks that it may
    call from (none: any).
    """

    workload: Workload
    addresses: Sequence[str] = ()


def kind_of(client: Client) -> str:
    """What a client's secrets are called: by the key of the scheme's value that a connection holds
    it as.
    """
    return KEY_KIND if client.scheme == BEARER else SECRET_KIND


def registered(client: Client) -> asking.RegisteredClient:
    """What the rules want to know of a client."""
    profile = client.deployment.application.read_profile()
    administrator = frozenset(scope.name for scope in profile.scopes if scope.administrator)
    return asking.RegisteredClient(
        client.client_id,
        client.public,
        tuple(client.redirect_uris),
        frozenset(client.grants),
        frozenset(client.scopes),
        administrator & frozenset(client.scopes),
        frozenset(client.consents),
        audience_of(client.deployment),
    )


def audience_of(deployment: Deployment) -> str:
    """Whom tokens for an application are for: its API's base address."""
    return deployment.api_base or f"{issuer(deployment.environment)}/{deployment.application.key}"


def new_client(
    by: Actor,
    deployment: Deployment,
    fields: ClientMetadata,
    scheme: str,
    *,
    resource: bool = False,
    of: DrawPermission | None = None,
    program: Sequence[str] | None = None,
    client_id: str = "",
) -> Client:
    """Write a client down, as part of the surrounding transaction; ``resource``: it is the
    application itself, ``of``: a workload's, to draw with, ``program``: a program's that calls our
    API, from these networks (none: from any); ``client_id``: a fixed one, else a new one is made.
    """
    profile = deployment.application.read_profile()
    if not deployment.house:
        raise Problem(
            409,
            (
                f"{deployment.application.name} does not accept what the house authority issues in "
                f"{deployment.environment.name}."
            ),
            "Note on its page that it does, once its people have set it up.",
            code="house-not-accepted",
        )
    if unknown := sorted(fields.scopes - {scope.name for scope in profile.scopes}):
        raise wrong_fields({"scopes": f"{deployment.application.name} has no scope {unknown[0]}."})
    made = class_of(scheme)
    if resource:
        made = ResourceServer
    elif of is not None:
        made = WorkloadKey
    elif program is not None:
        made = ProgramClient
    client = made(
        deployment=deployment,
        house=True,
        managed=True,
        state="live",
        scheme=scheme,
        changed_at=timezone.now(),
        changed_by=by.username,
        client_id=client_id or f"{deployment.application.key}-{secrets.token_hex(5)}",
    )
    client.put(fields)
    if scheme in _PLAIN:
        client.grants, client.redirect_uris = [], []
    if of is not None:
        client.workload, client.allow_list = of.workload, list(of.addresses)
    elif program is not None:
        client.allow_list = list(program)
    client.save(force_insert=True)
    write(
        by,
        "issued",
        "client",
        client.client_id,
        {
            "name": client.name,
            "application": deployment.application.key,
            "environment": deployment.environment.name,
        },
    )
    return client


@transaction.atomic
def register(
    by: Actor,
    deployment: Deployment,
    fields: ClientMetadata,
    scheme: str = CODE,
    ends: datetime | None = None,
    *,
    of: DrawPermission | None = None,
) -> tuple[Client, Handover | None]:
    """Register a client of the house and make its first secret, unless it is public; ``of``: a
    workload's, to draw with. Returns it and the secret's handover.
    """
    if scheme not in HOUSE_ISSUES or scheme == CERTIFICATE:
        raise wrong_fields({"scheme": "The house authority issues for OAuth 2.0 and for keys."})
    if scheme == BEARER:
        if not fields.name.strip():
            raise wrong_fields({"name": "Give it a name that says who calls."})
    else:
        checked(fields)
    client = new_client(by, deployment, fields, scheme, of=of)
    return client, None if client.public and scheme != BEARER else add_secret(by, client, ends)


@transaction.atomic
def accepts(by: Actor, deployment: Deployment, yes: bool) -> None:
    """Record that an application accepts what the house issues, or no longer.

    Refused while clients of the house are registered for it.
    """
    if not yes and (
        count := Client.objects.filter(deployment=deployment, house=True)
        .exclude(kind=Kind.RESOURCE_SERVER)
        .count()
    ):
        raise Problem(
            409,
            "Clients of the house are registered for it.",
            f"{count} would be refused there. Remove them first.",
            code="house-clients-registered",
        )
    if deployment.house != yes:
        Deployment.objects.filter(pk=deployment.pk).update(house=yes)
        write(
            by,
            "recorded that it accepts the house authority"
            if yes
            else "recorded that it no longer accepts the house authority",
            "application",
            deployment.application.key,
            {"environment": deployment.environment.name},
        )


@transaction.atomic
def resource(by: Actor, deployment: Deployment) -> tuple[Client, Handover]:
    """Let an application ask about tokens it is shown: the client it asks as, and a new secret for
    it.
    """
    found = server(by, deployment)
    return found, add_secret(by, found)


def server(by: Actor, deployment: Deployment) -> Client:
    """The application itself: as whom it asks about tokens, and as whom its servers' certificates
    are issued. Part of the surrounding transaction.
    """
    found = ResourceServer.objects.select_for_update().filter(deployment=deployment).first()
    if found is not None:
        return found  # type: ignore[no-any-return]
    name = f"{deployment.application.name} itself"
    return new_client(
        by,
        deployment,
        ClientMetadata(name[:200], grants=(), scopes=frozenset()),
        CLIENT,
        resource=True,
    )


def right_end(ends: datetime | None, now: datetime) -> datetime:
    """A new secret's end: as said, or half a year from now.

    Raises a field error for one in the past or further off than a year.
    """
    if ends is None:
        return now + LIFE
    if not now + timedelta(minutes=1) <= ends <= now + LONGEST_LIFE:
        raise wrong_fields({"ends": f"Choose an end from now to {LONGEST_LIFE.days} days ahead."})
    return ends


@transaction.atomic
def add_secret(by: Actor, client: Client, ends: datetime | None = None) -> Handover:
    """Make another secret of a client. At most two live at once. Returns its handover."""
    client = (
        Client.objects.select_for_update()
        .select_related("deployment__application", "deployment__environment")
        .get(pk=client.pk)
    )
    if not client.house:
        raise Problem(
            409,
            "This client was issued by its application, not by the house authority.",
            "Have the new secret made there.",
            code="client-not-of-house",
        )
    if client.public and client.scheme != BEARER:
        raise Problem(
            409,
            "A public client has no secret.",
            "It proves itself by PKCE (RFC 7636).",
            code="public-client-has-no-secret",
        )
    if client.scheme == CERTIFICATE:
        raise Problem(
            409,
            "This client shows a certificate and has no secret.",
            "Issue it another certificate.",
            code="certificate-client-has-no-secret",
        )
    if client.kind == Kind.PROGRAM:
        person_who(by)  # a program that could would give itself any right
    now = timezone.now()
    live = [credential for credential in alive(client, now) if credential.kind == kind_of(client)]
    if len(live) >= LIVE_SECRETS:
        raise Problem(
            409,
            "Two secrets of this client live already.",
            f"Revoke {' or '.join(credential.hint for credential in live)} first.",
            code="two-secrets-active",
        )
    credential = _mint(by, client, right_end(ends, now), now, replaces=live[0] if live else None)
    return new_handover(by, credential, now + TAKEN_WITHIN)


def alive(client: Client, now: datetime) -> list[Credential]:
    """The secrets of a client that let it in now, the oldest first."""
    rows = (
        client.credentials.exclude(digest="")
        .filter(Q(ends=None) | Q(ends__gt=now))
        .order_by("issued")
    )
    return [row for row in rows if row.lives]


def _mint(
    by: Actor,
    client: Client,
    ends: datetime | None,
    now: datetime,
    replaces: Credential | None = None,
) -> Credential:
    kind = kind_of(client)
    form = house_key.CLIENT_SECRET if kind == "client_secret" else house_key.API_KEY
    if client.kind == Kind.PROGRAM:
        form = house_key.PROGRAM_TOKEN
    value = house_key.make(
        form,
        client.deployment.environment.key,
        os.urandom(house_key.ID_OCTETS),
        os.urandom(house_key.SECRET_OCTETS),
    )
    read = house_key.read(value)
    credential = keep(
        value,
        client=client,
        source="registered",
        by=by.username,
        ends=ends,
        secret_id=read.id,
        kind=kind,
        issued=now,
    )
    credential.digest, credential.replaces = read.digest, replaces
    credential.save(update_fields=["digest", "replaces"])
    write(
        by,
        "made",
        "credential",
        credential.hint,
        {"client": client.client_id, "ends": ends, "id": credential.pk},
    )
    return credential


def mint_for_protocol(client: Client) -> tuple[str, Credential]:
    """The first secret of a client that registered itself: it goes out in the answer and is not
    kept.
    """
    now = timezone.now()
    credential = _mint(BY_PROTOCOL, client, now + LIFE, now)
    value = credential.open().reveal()
    forget(credential)
    return value, credential


@transaction.atomic
def revoke(by: Actor, credential: Credential, why: str, reason: str = "") -> Credential:
    """Revoke a secret, and the tokens that were got with it; a certificate comes on its authority's
    list, with its reason (RFC 5280 §5.3.1). Idempotent.
    """
    credential = (
        Credential.objects.select_for_update().select_related("client").get(pk=credential.pk)
    )
    if credential.client is None or not credential.digest:
        raise Problem(
            409,
            "This credential was not issued by the house authority.",
            "Revoke it where it was issued; then note here that it is gone.",
            code="credential-not-of-house",
        )
    if credential.state == Credential.State.REVOKED:
        return credential
    now = timezone.now()
    credential.state, credential.revoked, credential.why = Credential.State.REVOKED, now, why[:200]
    credential.save(update_fields=["state", "revoked", "why"])
    ended = Access.objects.filter(credential=credential, revoked=None, ends__gt=now).update(
        revoked=now
    )
    certificates.revoked(credential, now, reason or "unspecified")
    forget(credential)
    write(
        by,
        "revoked",
        "credential",
        credential.hint,
        {"client": credential.client.client_id, "why": why, "tokens": ended, "id": credential.pk},
    )
    return credential


@transaction.atomic
def revoke_tokens(by: Actor, client: Client, why: str, numbers: list[int] | None = None) -> int:
    """Revoke the tokens of a client that are alive, or some of them; with all go what people
    allowed it. Returns how many ended.
    """
    now = timezone.now()
    rows = Access.objects.filter(client=client, revoked=None, ends__gt=now)
    if numbers is None:
        Grant.objects.filter(client=client, revoked=None).update(revoked=now, why=why[:200])
    else:
        rows = rows.filter(pk__in=numbers)
    ended = rows.update(revoked=now)
    write(by, "revoked tokens of", "client", client.client_id, {"tokens": ended, "why": why})
    return ended


@transaction.atomic
def end_management(by: Actor, client: Client) -> None:
    """Let nobody manage a client's registration by protocol any more. Idempotent."""
    if (
        Client.objects.filter(pk=client.pk)
        .exclude(management_digest="")
        .update(management_digest="")
    ):
        write(by, "removed the management token of", "client", client.client_id)


def revoke_all(by: Actor, client: Client, why: str) -> None:
    """Revoke every secret and token of a client."""
    for credential in client.credentials.exclude(digest=""):
        revoke(by, credential, why)
    revoke_tokens(by, client, why)


@transaction.atomic
def remove(by: Actor, client: Client, why: str) -> None:
    """Remove a client of the house: every secret and token of it is refused from now on. Refused
    while a connection names it. Raises :class:`Problem`."""
    revoke_all(by, client, why)
    clients.remove(by, client)


# Recognising


_NOTED = Allowance(of_one=60, of_all=600)


def keep_rejected(
    environment: Environment,
    endpoint: str,
    what: str,
    client: Client | None = None,
    named: str = "",
    address: str = "",
) -> None:
    """Keep what was really wrong with a request.

    The log tells it apart, callers are told the same for all. Of what one address is refused in a
    minute the first are kept, the log has the others.
    """
    log.warning(
        "request rejected",
        endpoint=endpoint,
        environment=environment.key,
        what=what,
        client=client.client_id if client else named[:120],
        address=address,
    )
    if not _NOTED.take(address):
        return
    row = RejectedRequest.objects.create(
        at=timezone.now(),
        environment=environment,
        endpoint=endpoint,
        what=what[:60],
        client=client,
        named=named[:120],
        address=address[:45],
    )
    if row.pk % 100 == 0:
        RejectedRequest.objects.filter(pk__lte=row.pk - _KEPT_REJECTED).delete()


def record_use(credential: Credential, address: str, now: datetime) -> None:
    """Record the last use, to the minute: a write for every use would be most of its cost."""
    if credential.last_used is None or now - credential.last_used > NOTED_EVERY:
        Credential.objects.filter(pk=credential.pk).update(
            last_used=now, last_used_from=address[:45]
        )


def _words_for(text: str, what: str) -> str:
    """What is wrong with a secret that is none of the client's."""
    try:
        house_key.read(text)
    except house_key.BadKey as error:
        return f"{what} {'wrong' if error.fault == 'foreign' else error.fault}"
    return (
        f"{what} of somebody else"
        if Credential.objects.filter(digest=house_key.digest(text)).exists()
        else f"{what} unknown"
    )


def sign_in(
    environment: Environment, shown: PresentedClient, address: str
) -> tuple[Client, Credential | None]:
    """The client that signs in at an endpoint, and by which of its secrets (RFC 6749 §2.3, §3.2.1).

    Raises :class:`RequestRefused` with ``invalid_client``.
    """
    client = (
        Client.objects.select_related("deployment__application", "deployment__environment")
        .filter(house=True, deployment__environment=environment, client_id=shown.client_id)
        .first()
    )

    def no(what: str) -> RequestRefused:
        return RequestRefused("invalid_client", "", 401, what)

    kept = (
        list(client.credentials.defer("value").filter(kind="client_secret").exclude(digest=""))
        if client is not None
        else []
    )
    digest = house_key.digest(shown.secret)
    found: Credential | None = None
    for digest_kept, one in [
        (NO_DIGEST, None),
        *((credential.digest, credential) for credential in kept),
    ]:
        if house_key.same(digest_kept, digest) and one is not None:
            found = one
    if client is None:
        raise no("client unknown")
    problem = _why_not(client, shown, found, address)
    if problem:
        raise _RefusedClient(no(problem), client)
    if found is not None:
        record_use(found, address, timezone.now())
    return client, found


class _RefusedClient(RequestRefused):
    """A refusal of a client that is known, so that its page can show it."""

    def __init__(self, refused: RequestRefused, client: Client) -> None:
        super().__init__(refused.error, refused.says, refused.status, refused.logged)
        self.client = client


def of_client(refused: RequestRefused, client: Client) -> RequestRefused:
    """The refusal, with the client whose page is to show it."""
    return _RefusedClient(refused, client)


def client_of(refused: RequestRefused) -> Client | None:
    """Whose refusal it is, if that is known."""
    return refused.client if isinstance(refused, _RefusedClient) else None


def _why_not(
    client: Client, shown: PresentedClient, credential: Credential | None, address: str
) -> str:
    if client.allow_list and not inside(address, client.allow_list):
        return "from an address that is not allowed"
    if client.public:
        return "" if shown.method == "none" else "public client with a secret"
    if shown.method == "none":
        return "client without its secret"
    if shown.method != client.sign_in_method:
        return "client signing in another way than registered"
    if credential is None:
        return _words_for(shown.secret, "secret")
    return state_of(credential, "secret", timezone.now())


def state_of(credential: Credential, what: str, now: datetime) -> str:
    """Why a secret that is known is refused; empty: it is not."""
    if not credential.lives:
        return (
            f"{what} revoked" if credential.state == Credential.State.REVOKED else f"{what} retired"
        )
    return f"{what} ended" if credential.ends is not None and credential.ends <= now else ""


def find_key(environment: Environment, text: str, now: datetime) -> Credential:
    """The API key that a text is, with its client.

    Raises :class:`RequestRefused` whose ``logged`` tells cut, mistyped, unknown, wrong, revoked
    and ended apart.
    """

    def no(what: str) -> RequestRefused:
        return RequestRefused("invalid_token", "", 401, what)

    try:
        read = house_key.read(text)
    except house_key.BadKey as error:
        raise no(f"key {'unknown' if error.fault == 'foreign' else error.fault}") from error
    if read.environment != environment.key:
        raise no("key of another environment")
    found = (
        Credential.objects.defer("value")
        .select_related("client__deployment__application", "client__deployment__environment")
        .filter(secret_id=read.id, kind="token")
        .exclude(digest="")
        .first()
    )
    same = house_key.same(found.digest if found else NO_DIGEST, read.digest)
    if found is None or found.client is None:
        raise no("key unknown")
    problem = state_of(found, "key", now) if same else "key wrong"
    if problem:
        raise _RefusedClient(no(problem), found.client)
    return found
