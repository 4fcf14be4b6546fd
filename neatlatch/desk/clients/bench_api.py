"""The benches of a client: redirect URIs, scopes and consent."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from django.db.models import Prefetch
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router, Schema

from neatlatch.core import redirects, scope_matrix
from neatlatch.core.redirect_bench import Effect
from neatlatch.core.schemes import CODE, OAUTH2
from neatlatch.core.trim import Trim
from neatlatch.desk.applications.api import EnvironmentOut, environment_out
from neatlatch.desk.common import guard, links, problems
from neatlatch.desk.common.problems import wrong_fields
from neatlatch.desk.connections.models import Connection
from neatlatch.desk.connections.services import provider_changed
from neatlatch.desk.connections.shapes import PieceOut

from . import benches, services
from .api import ClientOut, LintOut, StepOut, UriIn, find, lint_out, shape
from .models import Client, ConsentRequest

router = Router(tags=["benches"])


class UriDifferenceOut(Schema):
    """One way in which two URIs differ."""

    piece: str
    says: str


class AnswerOut(Schema):
    """A provider's answer to a redirect URI."""

    match: bool
    reason_code: str
    reason: str
    nearest: str | None
    alike: bool
    differences: list[UriDifferenceOut]
    warnings: list[str]
    provider_marked: list[PieceOut]
    caller_marked: list[PieceOut]


class CallerUriOut(AnswerOut):
    """What a connection sends, and the provider's answer."""

    ref: str
    uri: str
    users: list[str]
    signed_in: bool


class RegisteredOut(Schema):
    """A URI that the provider holds."""

    uri: str
    used_by: list[str]
    lint: list[LintOut]


class UriBenchOut(Schema):
    """All redirect URIs of a client against all of its callers'."""

    client: UUID
    name: str
    application: str
    application_name: str
    environment: EnvironmentOut
    managed: bool
    version: int
    registered: list[RegisteredOut]
    callers: list[CallerUriOut]
    planned: list[str] | None
    acts: list[StepOut]


class UriRow(Schema):
    """A client in the list of redirect URIs."""

    client: UUID
    name: str
    client_id: str
    application_name: str
    environment: EnvironmentOut
    managed: bool
    registered: int
    callers: int
    matched: int
    near_misses: int
    unused: int
    faulty: int
    planned: bool


class UrisIn(Schema):
    """The redirect URIs that a client shall have (null: leave a planned change)."""

    redirect_uris: list[str] | None


class EffectOut(Schema):
    """What a change does to a connection."""

    ref: str
    stops: bool
    says: str
    users: list[str]


class TrialOut(AnswerOut):
    """A trial of any URI, with what is wrong with it in itself."""

    lint: list[LintOut]


def _answer(found: redirects.Match, marked: Any) -> dict[str, Any]:
    return {
        "match": found.match, "reason_code": found.reason_code, "reason": found.reason, "nearest": found.nearest, "alike": found.alike,
        "differences": [{"piece": one.piece, "says": one.says} for one in found.differences], "warnings": list(found.warnings),
        "provider_marked": [{"text": one.text, "same": one.same} for one in marked.provider] if marked else [],
        "caller_marked": [{"text": one.text, "same": one.same} for one in marked.caller] if marked else [],
    }  # fmt: skip


def _effects(found: tuple[Effect, ...]) -> list[dict[str, Any]]:
    return [{"ref": one.ref, "stops": one.stops, "says": one.says, "users": list(one.users)} for one in found]


@router.get("/redirect-uris", response=list[UriRow])
def redirect_uri_list(request: HttpRequest) -> list[dict[str, Any]]:
    """All clients that sign people in, with how their redirect URIs stand. Four queries, however many there are."""
    guard.need(request, "look")
    rows = (
        Client.objects.filter(scheme=CODE)
        .exclude(state="asking")
        .select_related("place__application", "place__environment")
        .prefetch_related(Prefetch("connections", Connection.objects.prefetch_related("token_sets", "users__user")))
        .order_by("place__application__name", "place__environment__order", "name")
    )
    found = []
    for one in rows:
        bench = benches.bench(one, list(one.connections.all()))
        found.append({
            "client": one.pk, "name": one.name, "client_id": one.client_id, "application_name": one.place.application.name,
            "environment": environment_out(one.place.environment), "managed": one.managed, "registered": len(bench.registered), "callers": len(bench.callers),
            "matched": sum(each.match.match for each in bench.callers), "near_misses": sum(not each.match.match for each in bench.callers),
            "unused": sum(not each.used_by for each in bench.registered), "faulty": sum(bool(each.lint) for each in bench.registered),
            "planned": one.planned is not None,
        })  # fmt: skip
    return found


@router.get("/clients/{identity}/redirect-uris", response=UriBenchOut)
def redirect_uri_bench(request: HttpRequest, response: HttpResponse, identity: UUID) -> dict[str, Any]:
    """All redirect URIs of a client against all of its callers'."""
    guard.need(request, "look")
    client = find(identity)
    bench = benches.bench(client, benches.connections_of(client))
    guard.tagged(response, client.version)
    return {
        "client": client.pk, "name": client.name, "application": client.place.application.key, "application_name": client.place.application.name,
        "environment": environment_out(client.place.environment), "managed": client.managed, "version": client.version,
        "registered": [{"uri": one.uri, "used_by": list(one.used_by), "lint": [lint_out(each) for each in one.lint]} for one in bench.registered],
        "callers": [{**_answer(one.match, one.marked), "ref": one.sent.ref, "uri": one.sent.uri, "users": list(one.sent.users), "signed_in": one.sent.signed_in}
                    for one in bench.callers],
        "planned": client.planned["redirect_uris"] if client.planned else None,
        "acts": [{"key": one.key, "says": one.says, "copy_text": one.copy, "done": one.key in client.ticks} for one in services.planned_acts(client)],
    }  # fmt: skip


@router.post("/clients/{identity}/redirect-uris/trials", response=TrialOut)
def try_uri(request: HttpRequest, identity: UUID, given: UriIn) -> dict[str, Any]:
    """Whether the provider would take a redirect URI for this client, and why. Nothing is sent."""
    guard.need(request, "look")
    client = find(identity)
    found = benches.try_uri(client, given.uri)
    return {**_answer(found.match, found.marked), "lint": [lint_out(one) for one in redirects.lint(given.uri)]}


@router.post("/clients/{identity}/redirect-uris/previews", response=list[EffectOut])
def preview(request: HttpRequest, identity: UUID, given: UrisIn) -> list[dict[str, Any]]:
    """What a change of the registered URIs would stop and start. Nothing is changed."""
    guard.need(request, "look")
    return _effects(benches.effects(find(identity), given.redirect_uris or []))


@router.put("/clients/{identity}/redirect-uris/plan", response=ClientOut)
def plan(request: HttpRequest, identity: UUID, given: UrisIn) -> dict[str, Any]:
    """Begin a change by hand: its acts are listed, with ticks that stay. Null leaves it."""
    by = guard.need(request, "change")
    found = find(identity)
    if given.redirect_uris is not None:
        guard.check_version(request, found.version, found.changed_by, ("client", found.pk))
    return shape(benches.plan(by, found, given.redirect_uris))


@router.post("/clients/{identity}/redirect-uris/plan/done", response=ClientOut)
def carry_out(request: HttpRequest, identity: UUID) -> dict[str, Any]:
    """The planned change was entered in the application's screens."""
    changed = benches.carry_out(guard.need(request, "change"), find(identity))
    provider_changed(changed)
    return shape(changed)


# Scopes


class CallOut(Schema):
    """An operation that a user calls."""

    user: str
    operation: str


class KeptOut(Schema):
    """A scope of the trim, and who would stop without it."""

    scope: str
    needed_by: list[CallOut]


class TrimOut(Schema):
    """The smallest set of scopes that still does the work, against what is held."""

    scopes: list[str]
    kept: list[KeptOut]
    can_go: list[str]
    missing: list[str]
    impossible: list[CallOut]
    weight: str
    held_weight: str


class ConsentRequestOut(Schema):
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


class ScopeRowOut(Schema):
    """A scope, and a cell for each user: needed, lacks, serves, or nothing."""

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


class ColumnOut(Schema):
    """A user of one of the client's connections."""

    user: UUID
    name: str
    owner: str
    ref: str
    operations: list[str]
    unknown: list[str]


class HolderOut(Schema):
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


class MatrixOut(Schema):
    """The scopes of a client, or the roles of its account, against the users of its connections."""

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


class ScopeBenchRow(Schema):
    """A client in the list of scopes."""

    client: UUID
    name: str
    application_name: str
    environment: EnvironmentOut
    word: str
    permitted: int
    users: int
    can_go: int
    missing: int
    impossible: int
    stale: int
    consents_missing: int


class ConsentAskIn(Schema):
    """Scopes to ask an administrator's consent for, and of whom."""

    scopes: list[str]
    asked_of: str = ""


def _trim(found: Trim) -> dict[str, Any]:
    return {
        "scopes": sorted(found.scopes), "kept": [{"scope": one.scope, "needed_by": _calls(one.needed_by)} for one in found.kept],
        "can_go": list(found.can_go), "missing": list(found.missing), "impossible": _calls(found.impossible),
        "weight": scope_matrix.weight_words(found.weight), "held_weight": scope_matrix.weight_words(found.held_weight),
    }  # fmt: skip


def _calls(found: Any) -> list[dict[str, str]]:
    return [{"user": one.user, "operation": one.operation} for one in found]


def _request(one: ConsentRequest, show_link: bool) -> dict[str, Any]:
    over = one.ends <= timezone.now()
    state = "withdrawn" if one.withdrawn else "answered" if one.answered_at else "ended" if over else "waiting"
    return {"id": one.pk, "scopes": one.scopes, "asked_of": one.asked_of, "asked_by": one.asked_by, "asked_at": one.asked_at, "ends": one.ends, "state": state,
            "given": one.given, "answered_by": one.answered_by, "answered_at": one.answered_at, "says": one.says,
            "link": links.address("consent", one.pk) if show_link and state == "waiting" else ""}  # fmt: skip


def _consent_state(client: Client, scope: Any, waiting: set[str]) -> str:
    if not scope.administrator:
        return "person"
    if scope.name in client.consents:
        return "given"
    return "asked" if scope.name in waiting else "wanted"


@router.get("/scopes", response=list[ScopeBenchRow])
def scope_list(request: HttpRequest) -> list[dict[str, Any]]:
    """All clients and accounts, with how what they may do stands to what is needed."""
    guard.need(request, "look")
    rows = (
        Client.objects.exclude(state="asking")
        .select_related("place__application", "place__environment")
        .order_by("place__application__name", "place__environment__order", "name")
    )
    found = []
    for client, (profile, _, columns, matrix) in benches.matrices(list(rows)):
        scopes = client.scheme in OAUTH2
        held = client.scopes if scopes else client.rights
        if not (profile.scopes if scopes else profile.roles):
            continue
        found.append({
            "client": client.pk, "name": client.name, "application_name": client.place.application.name, "environment": environment_out(client.place.environment),
            "word": "scope" if scopes else profile.roles_label, "permitted": len(held), "users": len(columns), "can_go": len(matrix.trim.can_go),
            "missing": len(matrix.trim.missing), "impossible": len(matrix.trim.impossible), "stale": sum(one.stale for one in matrix.holders),
            "consents_missing": sum(one.administrator and one.name not in client.consents and one.name in client.scopes for one in profile.scopes) if scopes else 0,
        })  # fmt: skip
    return found


@router.get("/clients/{identity}/scopes", response=MatrixOut)
def scopes(request: HttpRequest, response: HttpResponse, identity: UUID) -> dict[str, Any]:
    """The scopes of a client against the users of its connections, with the trim and its reasons."""
    by = guard.need(request, "look")
    client = find(identity)
    profile, connections, uses, matrix = benches.matrix(client)
    requests = list(client.consent_requests.all()[:20])
    waiting = {
        scope for one in requests if one.answered_at is None and not one.withdrawn and one.ends > timezone.now() for scope in one.scopes
    }
    guard.tagged(response, client.version)
    with_scopes = client.scheme in OAUTH2
    by_ref = {one.ref: one for one in connections}
    return {
        "client": client.pk, "name": client.name, "application": client.place.application.key, "application_name": client.place.application.name,
        "environment": environment_out(client.place.environment), "managed": client.managed, "version": client.version,
        "word": "scope" if with_scopes else profile.roles_label,
        "rows": [{"name": one.scope.name, "meaning": one.scope.meaning, "kind": one.scope.kind, "administrator": one.scope.administrator,
                  "implies": list(one.scope.implies), "known": one.known, "permitted": one.permitted, "implied": one.implied, "requested": list(one.requested),
                  "granted": list(one.granted), "cells": [each.value for each in one.cells], "in_trim": one.scope.name in matrix.trim.scopes,
                  "consent": client.consents.get(one.scope.name), "consent_state": _consent_state(client, one.scope, waiting)} for one in matrix.rows],
        "columns": [{"user": one.user_id, "name": one.name, "owner": one.owner, "ref": one.connection.ref if one.connection else "",
                     "operations": one.operations, "unknown": [each for each in one.operations if profile.operation(each) is None]} for one in uses],
        "connections": [{"ref": one.ref, "requested": sorted(one.requested), "granted": sorted(one.granted) if one.granted is not None else None,
                         "made": one.made, "changed": one.changed, "stale": one.stale, "signs_person_in": by_ref[one.ref].scheme == CODE,
                         "individual": by_ref[one.ref].individual, "version": by_ref[one.ref].version, "trim": _trim(matrix.by_connection[one.ref])}
                        for one in matrix.holders],
        "trim": _trim(matrix.trim), "requests": [_request(one, guard.may(by, "change")) for one in requests],
    }  # fmt: skip


@router.post("/clients/{identity}/consent-requests", response={201: ConsentRequestOut})
def ask_consent(request: HttpRequest, identity: UUID, given: ConsentAskIn) -> tuple[int, dict[str, Any]]:
    """Ask an administrator of the application for consent; answers the signed link to send them."""
    made = benches.ask_consent(guard.need(request, "change"), find(identity), given.scopes, given.asked_of)
    return 201, _request(made, True)


@router.post("/consent-requests/{identity}/withdrawals", response=ConsentRequestOut)
def withdraw(request: HttpRequest, identity: UUID) -> dict[str, Any]:
    """The link shall no longer serve."""
    by = guard.need(request, "change")
    found = ConsentRequest.objects.filter(pk=identity).first()
    if found is None:
        raise problems.not_found("request for consent")
    return _request(benches.withdraw_request(by, found), True)


class AskedScopeOut(Schema):
    """A scope that consent is asked for."""

    name: str
    meaning: str
    kind: str
    why: list[str]


class AskedConsentOut(Schema):
    """What an administrator of an application sees who opened the link: no login, nothing secret."""

    application: str
    environment: str
    client_name: str
    client_id: str
    asked_by: str
    asked_of: str
    asked_at: datetime
    ends: datetime
    over: bool
    scopes: list[AskedScopeOut]
    answered_at: datetime | None
    answered_by: str
    given: list[str]
    says: str


class ConsentAnswerIn(Schema):
    """The answer: the scopes consented to (none: refused), and who says so."""

    given: list[str] = []
    name: str
    says: str = ""


def _asked(found: ConsentRequest) -> dict[str, Any]:
    client = found.client
    profile = client.place.application.read_profile()
    infos = {one.name: one for one in profile.scopes}
    return {
        "application": client.place.application.name, "environment": client.place.environment.name, "client_name": client.name, "client_id": client.client_id,
        "asked_by": found.asked_by, "asked_of": found.asked_of, "asked_at": found.asked_at, "ends": found.ends,
        "over": found.ends <= timezone.now(), "answered_at": found.answered_at, "answered_by": found.answered_by, "given": found.given, "says": found.says,
        "scopes": [{"name": one, "meaning": infos[one].meaning if one in infos else "", "kind": infos[one].kind if one in infos else "read",
                    "why": found.why.get(one, [])} for one in found.scopes],
    }  # fmt: skip


@router.get("/asked/consents/{token}", auth=None, response=AskedConsentOut)
def asked_consent(request: HttpRequest, response: HttpResponse, token: str) -> dict[str, Any]:
    """What a signed link asks for."""
    response["Cache-Control"] = "no-store"
    return _asked(benches.open_request(links.opened("consent", token)))


@router.post("/asked/consents/{token}/answers", auth=None, response=AskedConsentOut)
def answer_consent(request: HttpRequest, token: str, given: ConsentAnswerIn) -> dict[str, Any]:
    """Answer, once."""
    found = benches.answer(benches.open_request(links.opened("consent", token)), given.given, given.name, given.says)
    provider_changed(found.client)
    return _asked(benches.open_request(str(found.pk)))


@router.post("/connections/{ref}/tokens", response=MatrixOut)
def new_token(request: HttpRequest, response: HttpResponse, ref: str) -> dict[str, Any]:
    """Have a new token made, so that a change of scopes reaches it; where a person signs in, only signing in again does that."""
    by = guard.need(request, "test")
    connection = Connection.objects.select_related("place__application", "client").filter(ref=ref).first()
    if connection is None or connection.client is None:
        raise problems.not_found("connection")
    if connection.scheme == CODE:
        raise wrong_fields({"ref": "A person must sign in again; a renewal keeps the scopes of the sign-in."})
    benches.new_token(by, connection)
    return scopes(request, response, connection.client.pk)
