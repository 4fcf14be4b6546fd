"""The bench of scopes: the matrix, the trim, asking for consent by a signed link, and new
tokens.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router
from ninja.utils import check_csrf

from neatlatch.core import scope_matrix
from neatlatch.core.schemes import CODE, OAUTH2
from neatlatch.core.trim import Trim
from neatlatch.desk.estate.connections import naming
from neatlatch.desk.estate.lookups import find_client, find_connection
from neatlatch.desk.estate.records.clients.models import Client, ConsentRequest
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import links, problems
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out
from neatlatch.desk.work import benches

router = Router(tags=["benches"])


class ScopesIn(RequestBody):
    """The scopes, or roles, that would be left."""

    scopes: list[str]


@dataclass(frozen=True, kw_only=True)
class StoppedOut:
    """A workload that would stop, at which operations, and what it would lack."""

    name: str
    operations: list[str]
    lacks: list[str]


@dataclass(frozen=True, kw_only=True)
class ScopeEffect:
    """Whom a change of scopes would stop at a connection, and what it would still ask
    for in vain.
    """

    ref: str
    workloads: list[StoppedOut]
    asks_in_vain: list[str]


def _effects(effects: list[benches.ScopeEffect]) -> list[ScopeEffect]:
    return [
        ScopeEffect(
            ref=scope_effect.ref,
            workloads=[
                StoppedOut(
                    name=workload.workload,
                    operations=list(workload.operations),
                    lacks=sorted(workload.lacks),
                )
                for workload in scope_effect.workloads
            ],
            asks_in_vain=list(scope_effect.asks_in_vain),
        )
        for scope_effect in effects
    ]


@dataclass(frozen=True, kw_only=True)
class CallOut:
    """An operation that a workload calls."""

    workload: str
    operation: str


@dataclass(frozen=True, kw_only=True)
class KeptOut:
    """A scope of the trim, and who would stop without it."""

    scope: str
    needed_by: list[CallOut]


@dataclass(frozen=True, kw_only=True)
class TrimOut:
    """The smallest set of scopes that still does the work, against what is held."""

    scopes: list[str]
    kept: list[KeptOut]
    can_go: list[str]
    missing: list[str]
    impossible: list[CallOut]
    weight: str
    held_weight: str


@dataclass(frozen=True, kw_only=True)
class ConsentRequestOut:
    """A request for consent."""

    id: UUID
    scopes: list[str]
    asked_of: str
    asked_by: str
    asked_at: datetime
    ends: datetime
    state: str
    given: list[str]
    answered_by: str
    answered_at: datetime | None
    says: str
    link: str


@dataclass(frozen=True, kw_only=True)
class ScopeRowOut:
    """A scope, and a cell for each workload: needed, lacks, serves, or nothing."""

    name: str
    meaning: str
    kind: str
    administrator: bool
    implies: list[str]
    known: bool
    permitted: bool
    implied: bool
    requested: list[str]
    granted: list[str]
    cells: list[str]
    in_trim: bool
    consent: dict[str, str] | None
    consent_state: str


@dataclass(frozen=True, kw_only=True)
class ColumnOut:
    """A workload of one of the client's connections."""

    workload: UUID
    name: str
    owner: str
    ref: str
    operations: list[str]
    unknown: list[str]


@dataclass(frozen=True, kw_only=True)
class HolderOut:
    """A connection of the client."""

    ref: str
    requested: list[str]
    granted: list[str] | None
    made: datetime | None
    changed: datetime | None
    stale: bool
    signs_person_in: bool
    individual: bool
    version: int
    trim: TrimOut


@dataclass(frozen=True, kw_only=True)
class MatrixOut:
    """The scopes of a client, or the roles of its account, against the workloads of its
    connections.
    """

    client: UUID
    name: str
    application: str
    application_name: str
    environment: EnvironmentOut
    managed: bool
    version: int
    word: str
    rows: list[ScopeRowOut]
    columns: list[ColumnOut]
    connections: list[HolderOut]
    trim: TrimOut
    requests: list[ConsentRequestOut]


class ConsentAskIn(RequestBody):
    """Scopes to ask an administrator's consent for, and of whom."""

    scopes: list[str]
    asked_of: str = ""


def _trim(trim: Trim) -> TrimOut:
    return TrimOut(
        scopes=sorted(trim.scopes),
        kept=[KeptOut(scope=kept.scope, needed_by=_calls(kept.needed_by)) for kept in trim.kept],
        can_go=list(trim.can_go),
        missing=list(trim.missing),
        impossible=_calls(trim.impossible),
        weight=scope_matrix.weight_words(trim.weight),
        held_weight=scope_matrix.weight_words(trim.held_weight),
    )


def _calls(found: Any) -> list[CallOut]:
    return [CallOut(workload=call.workload, operation=call.operation) for call in found]


def _request(consent_request: ConsentRequest, show_link: bool) -> ConsentRequestOut:
    over = consent_request.ends <= timezone.now()
    state = (
        "withdrawn"
        if consent_request.withdrawn
        else "answered"
        if consent_request.answered_at
        else "ended"
        if over
        else "waiting"
    )
    return ConsentRequestOut(
        id=consent_request.pk,
        scopes=consent_request.scopes,
        asked_of=consent_request.asked_of,
        asked_by=consent_request.asked_by,
        asked_at=consent_request.asked_at,
        ends=consent_request.ends,
        state=state,
        given=consent_request.given,
        answered_by=consent_request.answered_by,
        answered_at=consent_request.answered_at,
        says=consent_request.says,
        link=links.address("consent", consent_request.pk)
        if show_link and state == "waiting"
        else "",
    )


def _consent_state(client: Client, scope: Any, waiting: set[str]) -> str:
    if not scope.administrator:
        return "person"
    if scope.name in client.consents:
        return "given"
    return "asked" if scope.name in waiting else "wanted"


@router.post("/clients/{identity}/scopes/previews", response=list[ScopeEffect])
def preview_permitting(request: HttpRequest, identity: UUID, body: ScopesIn) -> list[ScopeEffect]:
    """Whom it would stop if the client were permitted these scopes and no others.

    Nothing is changed.
    """
    guard.need(request, "look")
    return _effects(benches.effects_of_permitting(find_client(identity), body.scopes))


@router.post("/connections/{ref:ref}/scopes/previews", response=list[ScopeEffect])
def preview_asking(request: HttpRequest, ref: str, body: ScopesIn) -> list[ScopeEffect]:
    """Whom it would stop if the connection asked for these scopes and no others.

    Nothing is changed.
    """
    guard.need(request, "look")
    return _effects(benches.effects_of_asking(find_connection(ref), body.scopes))


@router.get("/clients/{identity}/scopes", response=MatrixOut)
def scopes(request: HttpRequest, response: HttpResponse, identity: UUID) -> MatrixOut:
    """The scopes of a client against the workloads of its connections, with the trim and
    its reasons.
    """
    by = guard.need(request, "look")
    client = find_client(identity)
    profile, connections, uses, matrix = benches.matrix(client)
    requests = list(client.consent_requests.all()[:20])
    waiting = {
        scope
        for request in requests
        if request.answered_at is None and not request.withdrawn and request.ends > timezone.now()
        for scope in request.scopes
    }
    guard.tagged(response, client.version)
    with_scopes = client.scheme in OAUTH2
    by_ref = {connection.ref: connection for connection in connections}
    return MatrixOut(
        client=client.pk,
        name=client.name,
        application=client.deployment.application.key,
        application_name=client.deployment.application.name,
        environment=environment_out(client.deployment.environment),
        managed=client.managed,
        version=client.version,
        word="scope" if with_scopes else profile.roles_label,
        rows=[
            ScopeRowOut(
                name=row.scope.name,
                meaning=row.scope.meaning,
                kind=row.scope.kind,
                administrator=row.scope.administrator,
                implies=list(row.scope.implies),
                known=row.known,
                permitted=row.permitted,
                implied=row.implied,
                requested=list(row.requested),
                granted=list(row.granted),
                cells=[each.value for each in row.cells],
                in_trim=row.scope.name in matrix.trim.scopes,
                consent=client.consents.get(row.scope.name),
                consent_state=_consent_state(client, row.scope, waiting),
            )
            for row in matrix.rows
        ],
        columns=[
            ColumnOut(
                workload=use.workload_id,
                name=use.name,
                owner=use.owner_name,
                ref=use.connection.ref if use.connection else "",
                operations=use.operations,
                unknown=[each for each in use.operations if profile.operation(each) is None],
            )
            for use in uses
        ],
        connections=[
            HolderOut(
                ref=holder.ref,
                requested=sorted(holder.requested),
                granted=sorted(holder.granted) if holder.granted is not None else None,
                made=holder.made,
                changed=holder.changed,
                stale=holder.stale,
                signs_person_in=by_ref[holder.ref].scheme == CODE,
                individual=by_ref[holder.ref].individual,
                version=by_ref[holder.ref].version,
                trim=_trim(matrix.by_connection[holder.ref]),
            )
            for holder in matrix.holders
        ],
        trim=_trim(matrix.trim),
        requests=[_request(request, guard.may(by, "change")) for request in requests],
    )


@router.post("/clients/{identity}/consent-requests", response={201: ConsentRequestOut})
def ask_consent(
    request: HttpRequest, identity: UUID, body: ConsentAskIn
) -> tuple[int, ConsentRequestOut]:
    """Ask an administrator of the application for consent; returns the signed link to send them."""
    made = benches.ask_consent(
        guard.need(request, "change"), find_client(identity), body.scopes, body.asked_of
    )
    return 201, _request(made, True)


@router.post("/consent-requests/{identity}/withdrawals", response=ConsentRequestOut)
def withdraw(request: HttpRequest, identity: UUID) -> ConsentRequestOut:
    """The link shall no longer serve."""
    by = guard.need(request, "change")
    found = ConsentRequest.objects.filter(pk=identity).first()
    if found is None:
        raise problems.not_found("request for consent")
    return _request(benches.withdraw_request(by, found), True)


@dataclass(frozen=True, kw_only=True)
class ConsentLinkScopeOut:
    """A scope that consent is asked for."""

    name: str
    meaning: str
    kind: str
    why: list[str]


@dataclass(frozen=True, kw_only=True)
class ConsentLinkOut:
    """What an administrator of an application sees who opened the link: no login,
    nothing secret.
    """

    application: str
    environment: str
    client_name: str
    client_id: str
    asked_by: str
    asked_of: str
    asked_at: datetime
    ends: datetime
    over: bool
    scopes: list[ConsentLinkScopeOut]
    answered_at: datetime | None
    answered_by: str
    given: list[str]
    says: str


class ConsentAnswerIn(RequestBody):
    """The answer: the scopes consented to (none: refused), and who says so."""

    given: list[str] = []
    name: str
    says: str = ""


def _consent_link(asked: ConsentRequest) -> ConsentLinkOut:
    client = asked.client
    profile = client.deployment.application.read_profile()
    infos = {scope.name: scope for scope in profile.scopes}
    return ConsentLinkOut(
        application=client.deployment.application.name,
        environment=client.deployment.environment.name,
        client_name=client.name,
        client_id=client.client_id,
        asked_by=asked.asked_by,
        asked_of=asked.asked_of,
        asked_at=asked.asked_at,
        ends=asked.ends,
        over=asked.ends <= timezone.now(),
        answered_at=asked.answered_at,
        answered_by=asked.answered_by,
        given=asked.given,
        says=asked.says,
        scopes=[
            ConsentLinkScopeOut(
                name=scope,
                meaning=infos[scope].meaning if scope in infos else "",
                kind=infos[scope].kind if scope in infos else "read",
                why=asked.why.get(scope, []),
            )
            for scope in asked.scopes
        ],
    )


@router.get("/links/consents/{token}", auth=None, response=ConsentLinkOut)
def consent_link(request: HttpRequest, response: HttpResponse, token: str) -> ConsentLinkOut:
    """What a signed link asks for."""
    response["Cache-Control"] = "no-store"
    return _consent_link(benches.open_request(links.opened("consent", token)))


@router.post("/links/consents/{token}/answers", auth=None, response=ConsentLinkOut)
def answer_consent(request: HttpRequest, token: str, body: ConsentAnswerIn) -> ConsentLinkOut:
    """Answer, once."""
    if check_csrf(request):
        raise problems.page_too_old()
    found = benches.answer(
        benches.open_request(links.opened("consent", token)), body.given, body.name, body.says
    )
    return _consent_link(benches.open_request(str(found.pk)))


@router.post("/connections/{ref:ref}/tokens", response=MatrixOut)
def new_token(request: HttpRequest, response: HttpResponse, ref: str) -> MatrixOut:
    """Have a new token made, so that a change of scopes reaches it; where a person signs in, only
    signing in again does that.
    """
    by = guard.need(request, "test")
    connection = (
        Connection.objects.select_related("deployment__application", "client")
        .filter(ref=ref)
        .first()
    )
    if connection is None or connection.client is None:
        raise naming.no_connection(ref)
    if connection.scheme == CODE:
        raise wrong_fields(
            {"ref": "A person must sign in again; a renewal keeps the scopes of the sign-in."}
        )
    benches.new_token(by, connection)
    return scopes(request, response, connection.client.pk)
