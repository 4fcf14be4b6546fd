"""Programs that call this API with tokens of their own."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from urllib.parse import urlsplit
from uuid import UUID

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router
from ninja.security import HttpBearer

from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.core.program_tokens import MEANINGS, ProgramRight
from neatlatch.desk.authority.house import delegated, issuing, programs
from neatlatch.desk.estate.lookups import find_environment
from neatlatch.desk.estate.records.clients.models import ProgramClient
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.actors import ProgramCaller
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.common.request_bodies import Moment, RequestBody
from neatlatch.desk.ground.people.actors import DelegatedCaller

from .applications.shapes import EnvironmentOut, environment_out
from .narrowing import hold, limit

router = Router(tags=["programs"])


class ProgramAuth(HttpBearer):
    """The program whose token is in the Authorization header (RFC 6750 §2.1).

    Where that header is, nothing else is asked: a token that is refused is not replaced by a
    session.
    """

    def authenticate(self, request: HttpRequest, token: str) -> ProgramCaller | DelegatedCaller:
        """Return the program, or somebody's command line. Raises :class:`Problem` (401), the same
        for each refusal.
        """
        caller = recognised(request, token)
        if isinstance(caller, DelegatedCaller):
            limit(request, caller.person)
            return caller
        hold(request, caller.grant.environments)
        return caller


def recognised(request: HttpRequest, token: str) -> ProgramCaller | DelegatedCaller:
    """Return the program whose token was shown, or whose command line it was. Raises
    :class:`Problem` (401), the same for each refusal; why is in the log.
    """
    address = str(request.META.get("REMOTE_ADDR", ""))
    try:
        if token.count(".") == 2:  # a JWT, which a program's token never is
            return delegated.recognise(token.strip(), timezone.now())
        return programs.recognise(token.strip(), address, timezone.now())
    except RequestRefused as refused:
        programs.keep_refusal(refused, address)
        raise Problem(
            401,
            "This token does not let you in.",
            "Look whether it is whole, and ask its administrator.",
            code="token-refused",
            challenge='Bearer realm="Neat Latch", error="invalid_token"',
        ) from refused


def caller_of(request: HttpRequest) -> ProgramCaller | DelegatedCaller:
    """Return who asks by a token outside the API. Raises :class:`Problem` (401)."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    return recognised(request, token if scheme.lower() == "bearer" else "")


class ProgramIn(RequestBody):
    """What a person says of a program."""

    name: str
    # Where it runs.
    environment: str
    rights: list[str]
    # Keys of the environments that its rights hold for; ``None``: all of them.
    environments: list[str] | None = None
    allow_list: list[str] = []
    owner: str = ""
    # The workloads that it draws for, each as environment/name.
    draws_for: list[str] = []
    # Where it may have people sent back to who connect an account.
    return_addresses: list[str] = []
    ends: Moment | None = None


@dataclass(frozen=True, kw_only=True)
class ProgramMade:
    """A program that was registered: its client, and the handover in which its token is shown."""

    client: UUID
    handover: UUID


@dataclass(frozen=True, kw_only=True)
class ProgramRightOut:
    """A right that a token can have."""

    name: str
    meaning: str


@dataclass(frozen=True, kw_only=True)
class ProgramOut:
    """A program in the list."""

    client: UUID
    name: str
    environment: EnvironmentOut
    rights: list[str]
    # Keys of the environments that they hold for; ``None``: all of them.
    holds_for: list[str] | None
    # The workloads that it draws for, as environment/name.
    draws_for: list[str]
    return_addresses: list[str]
    allow_list: list[str]
    owner: str
    # The last four characters of each of its tokens that are valid.
    hints: list[str]
    # The earliest expiry among them; ``None``: it has none.
    expires: datetime | None
    last_used: datetime | None
    last_used_from: str


@dataclass(frozen=True, kw_only=True)
class Programs:
    """A page of programs, and the rights that can be given."""

    items: list[ProgramOut]
    next: str | None
    rights: list[ProgramRightOut]


@router.get("/programs", response=Programs)
def listed(request: HttpRequest, cursor: str | None = None) -> Programs:
    """Programs by name, with the rights of their tokens."""
    guard.need(request, "look")
    found, following = page(programs.with_tokens(), "name", cursor, then="id")
    now = timezone.now()
    return Programs(
        items=[_shape(client, now) for client in found],
        next=following,
        rights=[ProgramRightOut(name=right, meaning=MEANINGS[right]) for right in ProgramRight],
    )


@router.post("/programs", response={201: ProgramMade})
def register(request: HttpRequest, body: ProgramIn) -> tuple[int, ProgramMade]:
    """Register a program, and make its first token. Only a person can."""
    by = guard.need_person(request, "change")
    fields = programs.ProgramFields(
        body.name,
        body.rights,
        body.environments,
        body.allow_list,
        body.owner,
        body.draws_for,
        body.return_addresses,
    )

    def create() -> tuple[int, ProgramMade]:
        client, handover = programs.register(
            by, find_environment(body.environment), fields, body.ends
        )
        return 201, ProgramMade(client=client.pk, handover=handover.pk)

    return guard.repeatable(request, body.dict(), create, alone=True)


def _shape(client: ProgramClient, now: datetime) -> ProgramOut:
    tokens = programs.valid_tokens(client, now)
    used = _newest(tokens)
    where = client.program_scope.keys if hasattr(client, "program_scope") else frozenset()
    return ProgramOut(
        client=client.pk,
        name=client.name,
        environment=environment_out(client.deployment.environment),
        rights=list(client.scopes),
        holds_for=None if where is None else sorted(where),
        draws_for=_draws_for(client),
        return_addresses=client.program_scope.return_addresses
        if hasattr(client, "program_scope")
        else [],
        allow_list=list(client.allow_list),
        owner=next((token.owner.name for token in tokens if token.owner), ""),
        hints=[token.hint for token in tokens],
        expires=min((token.ends for token in tokens if token.ends), default=None),
        last_used=used.last_used if used else None,
        last_used_from=used.last_used_from if used else "",
    )


def _draws_for(client: ProgramClient) -> list[str]:
    if not hasattr(client, "program_scope"):
        return []
    workloads = client.program_scope.workloads.all()
    return sorted(f"{workload.environment.key}/{workload.name}" for workload in workloads)


def _newest(tokens: Iterable[Credential]) -> Credential | None:
    """Which of some tokens was used last; ``None``: none was."""
    used = [(token.last_used, token) for token in tokens if token.last_used is not None]
    return max(used, key=lambda pair: pair[0])[1] if used else None


@dataclass(frozen=True, kw_only=True)
class CommandLineOut:
    """Where the command line asks people to log in (RFC 8414 §2 has the endpoints)."""

    # The issuer's metadata.
    metadata: str
    client_id: str
    scopes: list[str]


@router.get("/command-line", auth=None, response=CommandLineOut)
def command_line(request: HttpRequest) -> CommandLineOut:
    """Where ``nlatch login`` sends people."""
    environment = delegated.environment_of_logins()
    if environment is None:
        raise Problem(
            409,
            "There is no environment yet.",
            "Add one on the Environments page. Its authority issues what a log-in gets.",
            code="no-environment",
        )
    name = issuing.issuer(environment)
    address = urlsplit(name)
    return CommandLineOut(
        metadata=f"{address.scheme}://{address.netloc}"
        f"/.well-known/oauth-authorization-server{address.path}",
        client_id=delegated.COMMAND_LINE,
        scopes=[right.value for right in delegated.RIGHTS],
    )
