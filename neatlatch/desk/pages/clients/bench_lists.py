"""The lists of clients with how their redirect URIs stand, and what they may do against what is
needed.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any
from uuid import UUID

from django.db.models import Q, QuerySet
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.core.redirect_bench import UriComparison
from neatlatch.core.schemes import CODE, OAUTH2
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client, Kind, of_their_kinds
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import filtering
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.quick_rows import Reading, join
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out
from neatlatch.desk.work import benches

router = Router(tags=["benches"])
# Each row is worked out from all connections of its client.
_PAGE = 50
FIELDS = {"env": "env", "environment": "env", "app": "app", "application": "app"}
_LOOKUPS = {
    "env": "deployment__environment__key__startswith",
    "app": "deployment__application__key__contains",
}
_PLAIN = ("name__icontains", "client_id__icontains", "deployment__application__name__icontains")


@dataclass(frozen=True, kw_only=True)
class ScopeBenchRow:
    """A client in the list of scopes."""

    client: UUID
    name: str
    application_name: str
    environment: EnvironmentOut
    word: str
    permitted: int
    workloads: int
    can_go: int
    missing: int
    impossible: int
    stale: int
    consents_missing: int


@dataclass(frozen=True, kw_only=True)
class ScopeBenches:
    """A page of clients and accounts, by name."""

    items: list[ScopeBenchRow]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class UriRow:
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


@dataclass(frozen=True, kw_only=True)
class UriBenches:
    """A page of clients that sign people in, by name."""

    items: list[UriRow]
    next: str | None


_clients = Reading(Client, "t.id IN {keys}", order="t.name, t.id")
_deployments = Reading(Deployment, "t.id IN {keys}", only=("application", "environment"))
_applications = Reading(Application, "t.id IN {keys}", only=("key", "name", "profile"))
_environments = Reading(Environment)


def _page(
    rows: QuerySet[Client], cursor: str | None, words: str
) -> tuple[list[Client], str | None]:
    """Clients of a page with their places, and the cursor of the next. Five queries."""
    fitting = filtering.apply(rows, filter_words.read(words, FIELDS), _LOOKUPS, _PLAIN)
    named: QuerySet[Any] = fitting.values_list("id", "name", named=True)
    keys, following = page(named, "name", cursor, _PAGE, then="id")
    found = of_their_kinds(_clients(key.id for key in keys))
    deployments = _deployments({of_kind.deployment_id for of_kind in found})
    applications = _applications({deployment.application_id for deployment in deployments})
    join(deployments, "application", {application.pk: application for application in applications})
    join(
        deployments, "environment", {environment.pk: environment for environment in _environments()}
    )
    join(found, "deployment", {deployment.pk: deployment for deployment in deployments})
    return found, following


@router.get("/scopes", response=ScopeBenches)
def scope_list(request: HttpRequest, cursor: str | None = None, words: str = "") -> HttpResponse:
    """Clients and accounts by name, with how what they may do stands to what is needed: those whose
    application's scopes or roles are known. ``words`` filters by plain words and field words
    (``env:production app:cargo``)."""
    guard.need(request, "look")
    told = Q(scheme__in=OAUTH2, deployment__application__profile__scopes__0__isnull=False)
    told |= ~Q(scheme__in=OAUTH2) & Q(deployment__application__profile__roles__0__isnull=False)
    rows = Client.objects.exclude(kind=Kind.RESOURCE_SERVER).exclude(state="asking").filter(told)
    found, following = _page(rows, cursor, words)
    items = [_scope_row(*pair) for pair in zip(found, benches.tallies(found), strict=True)]
    return written(ScopeBenches(items=items, next=following))


def _scope_row(client: Client, tally: benches.ClientTally) -> ScopeBenchRow:
    deployment, counts = client.deployment, tally.counts
    return ScopeBenchRow(
        client=client.pk,
        name=client.name,
        application_name=deployment.application.name,
        environment=environment_out(deployment.environment),
        word="scope"
        if client.scheme in OAUTH2
        else deployment.application.read_profile().roles_label,
        permitted=tally.permitted,
        workloads=tally.workloads,
        can_go=counts.can_go,
        missing=counts.missing,
        impossible=counts.impossible,
        stale=counts.stale,
        consents_missing=tally.consents_missing,
    )


@router.get("/redirect-uris", response=UriBenches)
def redirect_uri_list(
    request: HttpRequest, cursor: str | None = None, words: str = ""
) -> HttpResponse:
    """Clients that sign people in, by name, with how their redirect URIs stand.

    ``words`` filters by plain words and field words (``env:production app:cargo``).
    """
    guard.need(request, "look")
    rows = Client.objects.filter(kind=Kind.OAUTH_CLIENT, scheme=CODE).exclude(state="asking")
    found, following = _page(rows, cursor, words)
    items = [_uri_row(*pair) for pair in zip(found, benches.uri_benches(found), strict=True)]
    return written(UriBenches(items=items, next=following))


def _uri_row(client: Client, bench: UriComparison) -> UriRow:
    return UriRow(
        client=client.pk,
        name=client.name,
        client_id=client.client_id,
        application_name=client.deployment.application.name,
        environment=environment_out(client.deployment.environment),
        managed=client.managed,
        registered=len(bench.registered),
        callers=len(bench.callers),
        matched=sum(each.match.match for each in bench.callers),
        near_misses=sum(not each.match.match for each in bench.callers),
        unused=_unused(client, bench),
        faulty=sum(any(lint.grave for lint in each.lint) for each in bench.registered),
        planned=client.planned is not None,
    )


def _unused(client: Client, bench: UriComparison) -> int:
    """Return how many registered URIs nobody sends, where it is seen here who sends any."""
    if client.house and not bench.callers:
        return 0
    return sum(not registered.used_by for registered in bench.registered)
