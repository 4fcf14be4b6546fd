"""Tokens for programs: issued, recognised and revoked. What they may do is a rule of core
(:mod:`neatlatch.core.program_tokens`).

A program is a client of Neat Latch itself, so its tokens are credentials like any other: listed
with their findings, handed over once, replaced side by side, found when they leak.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

import structlog
from django.db import transaction
from django.db.models import Exists, OuterRef, Prefetch, Q, QuerySet
from django.utils import timezone

from neatlatch.core import house_key
from neatlatch.core.addresses import is_network, unsound_return_address
from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.core.program_tokens import BadRights, ProgramGrant, ProgramRight, rights_of
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import BEARER
from neatlatch.desk.authority.records.house.models import ProgramScope
from neatlatch.desk.estate.credentials import owned
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client, Kind, ProgramClient
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common.actors import ProgramCaller
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.people.models import Person

from . import issuing
from .own import own_deployment

log = structlog.get_logger()

_LONGEST_NAME, _LONGEST_ADDRESS = 80, 500


@dataclass(frozen=True)
class ProgramFields:
    """What a person says of a program."""

    name: str
    rights: Sequence[str]
    # Keys of the environments that its rights hold for; ``None``: all of them.
    environments: Sequence[str] | None = None
    # Networks that it may come from (RFC 4632); empty: any.
    allow_list: Sequence[str] = ()
    # Whose it is, by name; empty: nobody's.
    owner: str = ""
    # The workloads that it draws for, each as environment/name.
    draws_for: Sequence[str] = ()
    # Where it may have people sent back to who connect an account.
    return_addresses: Sequence[str] = ()


@transaction.atomic
def register(
    by: Person, environment: Environment, fields: ProgramFields, ends: datetime | None = None
) -> tuple[ProgramClient, Handover]:
    """Register a program, and make its first token.

    ``environment`` is where it runs; ``ends`` is its expiry (``None``: the usual one). Returns it
    and the handover of the token. Raises :class:`Problem`.
    """
    name = fields.name.strip()
    errors: dict[str, str] = {}
    if not name or len(name) > _LONGEST_NAME or "/" in name:
        errors["name"] = f"Give it a name of up to {_LONGEST_NAME} characters, without “/”."
    elif ProgramClient.objects.filter(name=name).exists():
        errors["name"] = f"There is a program {name} already."
    rights: frozenset[ProgramRight] = frozenset()
    try:
        rights = rights_of(fields.rights, fields.environments or (), len(fields.draws_for))
    except BadRights as error:
        errors["rights"] = str(error)
    held = list(Environment.objects.filter(key__in=fields.environments or ()))
    if fields.environments is not None and len(held) != len(set(fields.environments)):
        errors["environments"] = "Choose among the environments that there are."
    elif fields.environments is not None and not held:
        errors["environments"] = "Choose at least one environment, or all."
    for text in fields.return_addresses:
        if said := unsound_return_address(text, _LONGEST_ADDRESS):
            errors.setdefault("return_addresses", f"{text[:80]}: {said}")
    workloads = workloads_named(fields.draws_for)
    if missing := sorted(set(fields.draws_for) - set(workloads)):
        errors["draws_for"] = f"There is no workload {missing[0][:200]}."
    if wrong := [network for network in fields.allow_list if not is_network(network)]:
        errors["allow_list"] = f"{wrong[0][:60]} is no address and no network like 10.2.0.0/16."
    if errors:
        raise wrong_fields(errors)
    deployment = own_deployment(environment)
    client = issuing.new_client(
        by,
        deployment,
        ClientMetadata(name, grants=(), scopes=frozenset(right.value for right in rights)),
        BEARER,
        program=fields.allow_list,
    )
    assert isinstance(client, ProgramClient)
    scope = ProgramScope.objects.create(
        client=client,
        everywhere=fields.environments is None,
        return_addresses=list(dict.fromkeys(fields.return_addresses)),
    )
    scope.environments.set(held)
    scope.workloads.set(workloads.values())
    handover = issuing.add_secret(by, client, ends)
    if fields.owner:
        owned.give(by, handover.credential, fields.owner)
    return client, handover


def may_return_to(program: ProgramCaller, address: str) -> bool:
    """Whether a program may have people sent to an address (RFC 9700 §2.1: compared as it
    stands).
    """
    scope = ProgramScope.objects.filter(client__client_id=program.client_id).first()
    return scope is not None and address in scope.return_addresses


def drawing_for(workload: Workload) -> list[Client]:
    """Return the programs that have a living token and draw for a workload, at most a hundred."""
    rows = Client.objects.filter(
        Exists(
            Credential.objects.filter(
                Q(ends=None) | Q(ends__gt=timezone.now()),
                client=OuterRef("pk"),
                state__in=Credential.LETS_IN,
            )
        ),
        kind=Kind.PROGRAM,
        program_scope__workloads=workload,
    )
    return list(rows.order_by("name")[:100])


def workloads_named(names: Iterable[str]) -> dict[str, Workload]:
    """Return those workloads that there are, by environment/name."""
    asked = set(names)
    where, called = (
        {name.partition("/")[0] for name in asked},
        {name.partition("/")[2] for name in asked},
    )
    rows = Workload.objects.filter(environment__key__in=where, name__in=called)
    found = {
        f"{workload.environment.key}/{workload.name}": workload
        for workload in rows.select_related("environment")
    }
    return {name: workload for name, workload in found.items() if name in asked}


def recognise(text: str, address: str, now: datetime) -> ProgramCaller:
    """Return the program whose token a text is, and record the use.

    ``address`` is where the call comes from. Raises :class:`RequestRefused`, which tells callers
    nothing and the log everything.
    """
    try:
        read = house_key.read(text)
    except house_key.BadKey as error:
        raise _refused(f"token {'unknown' if error.fault == 'foreign' else error.fault}") from error
    found = (
        Credential.objects.defer("value")
        .select_related("client__deployment__application", "client__deployment__environment")
        .filter(secret_id=read.id, client__kind=ProgramClient.KIND)
        .exclude(digest="")
        .first()
    )
    same = house_key.same(found.digest if found else issuing.NO_DIGEST, read.digest)
    if found is None or not isinstance(found.client, ProgramClient):
        raise _refused("token unknown")
    client = found.client
    if not same:
        raise issuing.of_client(_refused("token wrong"), client)
    if problem := issuing.state_of(found, "token", now):
        raise issuing.of_client(_refused(problem), client)
    rights = frozenset(right for right in ProgramRight if right.value in client.scopes)
    scope = ProgramScope.objects.filter(client=client).prefetch_related("environments").first()
    where = scope.keys if scope is not None else frozenset()
    grant = ProgramGrant(rights, where, tuple(client.allow_list))
    if not grant.comes_from(address):
        raise issuing.of_client(_refused("token from an address that is not allowed"), client)
    issuing.record_use(found, address, now)
    return ProgramCaller(client.name, client.client_id, grant)


def valid_tokens(client: ProgramClient, now: datetime) -> list[Credential]:
    """Return the tokens of a program that let it in now, the oldest first."""
    return [
        token for token in client.credentials.all() if not issuing.state_of(token, "token", now)
    ]


def with_tokens() -> QuerySet[ProgramClient]:
    """Return programs with what a list of them shows: a constant number of queries."""
    tokens = (
        Credential.objects.defer("value")
        .filter(state__in=Credential.LETS_IN)
        .select_related("owner")
        .order_by("issued")
    )
    rows: QuerySet[ProgramClient] = ProgramClient.objects.select_related(
        "deployment__environment", "program_scope"
    ).prefetch_related(
        Prefetch("credentials", queryset=tokens),
        "program_scope__environments",
        "program_scope__workloads__environment",
    )
    return rows


def keep_refusal(refused: RequestRefused, address: str) -> None:
    """Log why a token was refused, and keep it where it is known whose it was."""
    client = issuing.client_of(refused)
    if client is None:
        log.warning("request rejected", endpoint="api", what=refused.logged, address=address)
    else:
        environment = client.deployment.environment
        issuing.keep_rejected(environment, "api", refused.logged, client, address=address)


def _refused(what: str) -> RequestRefused:
    return RequestRefused("invalid_token", "", 401, what)
