"""The bench of redirect URIs: all of a client against all of its callers', trying any, and changing
them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any
from uuid import UUID

from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import redirects
from neatlatch.core.redirect_bench import UriEffect
from neatlatch.desk.estate.clients import services
from neatlatch.desk.estate.lookups import find_client
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out
from neatlatch.desk.pages.connections.shapes import PieceOut
from neatlatch.desk.work import benches

from .api import ClientOut, LintOut, StepOut, UriIn, lint_out, shape

router = Router(tags=["benches"])


@dataclass(frozen=True, kw_only=True)
class UriDifferenceOut:
    """One way in which two URIs differ."""

    piece: str
    says: str


@dataclass(frozen=True, kw_only=True)
class AnswerOut:
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


@dataclass(frozen=True, kw_only=True)
class CallerUriOut(AnswerOut):
    """What a connection sends, and the provider's answer."""

    ref: str
    uri: str
    workloads: list[str]
    signed_in: bool


@dataclass(frozen=True, kw_only=True)
class RegisteredOut:
    """A URI that the provider holds."""

    uri: str
    used_by: list[str]
    lint: list[LintOut]


@dataclass(frozen=True, kw_only=True)
class UriBenchOut:
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


class UrisIn(RequestBody):
    """The redirect URIs that a client shall have (null: leave a planned change)."""

    redirect_uris: list[str] | None


@dataclass(frozen=True, kw_only=True)
class EffectOut:
    """What a change does to a connection."""

    ref: str
    stops: bool
    says: str
    workloads: list[str]


@dataclass(frozen=True, kw_only=True)
class TrialOut(AnswerOut):
    """A trial of any URI, with what is wrong with it in itself."""

    lint: list[LintOut]


def _answer(match: redirects.Match, marked: Any) -> AnswerOut:
    return AnswerOut(
        match=match.match,
        reason_code=match.reason_code,
        reason=match.reason,
        nearest=match.nearest,
        alike=match.alike,
        differences=[
            UriDifferenceOut(piece=difference.piece, says=difference.says)
            for difference in match.differences
        ],
        warnings=list(match.warnings),
        provider_marked=[PieceOut(text=piece.text, same=piece.same) for piece in marked.provider]
        if marked
        else [],
        caller_marked=[PieceOut(text=piece.text, same=piece.same) for piece in marked.caller]
        if marked
        else [],
    )


def _effects(effects: tuple[UriEffect, ...]) -> list[EffectOut]:
    return [
        EffectOut(
            ref=effect.ref, stops=effect.stops, says=effect.says, workloads=list(effect.workloads)
        )
        for effect in effects
    ]


@router.get("/clients/{identity}/redirect-uris", response=UriBenchOut)
def redirect_uri_bench(request: HttpRequest, response: HttpResponse, identity: UUID) -> UriBenchOut:
    """All redirect URIs of a client against all of its callers'."""
    guard.need(request, "look")
    client = find_client(identity)
    bench = benches.bench(client, benches.connections_of(client))
    guard.tagged(response, client.version)
    return UriBenchOut(
        client=client.pk,
        name=client.name,
        application=client.deployment.application.key,
        application_name=client.deployment.application.name,
        environment=environment_out(client.deployment.environment),
        managed=client.managed,
        version=client.version,
        registered=[
            RegisteredOut(
                uri=registered.uri,
                used_by=list(registered.used_by),
                lint=[lint_out(each) for each in registered.lint],
            )
            for registered in bench.registered
        ],
        callers=[
            CallerUriOut(
                **vars(_answer(caller.match, caller.marked)),
                ref=caller.sent.ref,
                uri=caller.sent.uri,
                workloads=list(caller.sent.workloads),
                signed_in=caller.sent.signed_in,
            )
            for caller in bench.callers
        ],
        planned=client.planned["redirect_uris"] if client.planned else None,
        acts=[
            StepOut(
                key=planned_act.key,
                says=planned_act.says,
                copy_text=planned_act.copy,
                done=planned_act.key in client.ticks,
            )
            for planned_act in services.planned_acts(client)
        ],
    )


@router.post("/clients/{identity}/redirect-uris/checks", response=TrialOut)
def try_uri(request: HttpRequest, identity: UUID, body: UriIn) -> TrialOut:
    """Whether the provider would take a redirect URI for this client, and why. Nothing is sent."""
    guard.need(request, "look")
    client = find_client(identity)
    found = benches.try_uri(client, body.uri)
    return TrialOut(
        **vars(_answer(found.match, found.marked)),
        lint=[lint_out(lint) for lint in redirects.lint(body.uri)],
    )


@router.post("/clients/{identity}/redirect-uris/previews", response=list[EffectOut])
def preview(request: HttpRequest, identity: UUID, body: UrisIn) -> list[EffectOut]:
    """What a change of the registered URIs would stop and start. Nothing is changed."""
    guard.need(request, "look")
    return _effects(benches.effects(find_client(identity), body.redirect_uris or []))


@router.put("/clients/{identity}/redirect-uris/plan", response=ClientOut)
def plan(request: HttpRequest, identity: UUID, body: UrisIn) -> ClientOut:
    """Begin a change manually: its acts are listed, with ticks that stay. Null leaves it."""
    by = guard.need(request, "change")
    found = find_client(identity)
    if body.redirect_uris is not None:
        guard.check_version(request, found.version, found.changed_by, ("client", found.pk))
    return shape(benches.plan(by, found, body.redirect_uris))


@router.post("/clients/{identity}/redirect-uris/plan/done", response=ClientOut)
def carry_out(request: HttpRequest, identity: UUID) -> ClientOut:
    """The planned change was entered in the application's screens."""
    return shape(benches.carry_out(guard.need(request, "change"), find_client(identity)))
