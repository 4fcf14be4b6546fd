"""Connections with all that pins are worked out from, read in blocks and quickly.

They are to be looked at, and not to be saved: columns that no summary is worked out from are left
out (:mod:`.watching` names them).
"""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client, of_their_kinds
from neatlatch.desk.estate.records.connections.models import (
    Account,
    Connection,
    HeldSecret,
    TokenSet,
)
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.quick_rows import Reading, hang, join
from neatlatch.desk.ground.people.models import Person, Team

from .halves import elsewhere_in_sql
from .watching import passed_over

MOST = 200
# Of which kind a client is never changes; what it is read as goes by it.
_NOT_OF_CLIENT = frozenset(passed_over(Client)) - {"kind"}

_environments = Reading(Environment, but=passed_over(Environment))
_connections = Reading(Connection, "t.id IN {keys}", but=passed_over(Connection), order="t.ref")
_deployments = Reading(Deployment, "t.id IN {keys}", but=passed_over(Deployment))
_deployments_of = Reading(
    Deployment,
    "t.application_id IN (SELECT application_id FROM applications_place WHERE id IN {keys})",
    but=passed_over(Deployment),
)
_applications = Reading(Application, "t.id IN {keys}", but=passed_over(Application))
_clients = Reading(Client, "t.id IN {keys}", but=_NOT_OF_CLIENT)
_registered = Reading(
    Credential, "t.client_id IN {keys}", but=passed_over(Credential), order="t.issued"
)
_held = Reading(HeldSecret, "t.connection_id IN {keys}", also={"elsewhere": elsewhere_in_sql("t")})
_credentials = Reading(Credential, "t.id IN {keys}", but=passed_over(Credential))
_tokens = Reading(TokenSet, "t.connection_id IN {keys}", but=passed_over(TokenSet))
_accounts = Reading(Account, "t.connection_id IN {keys}", but=passed_over(Account))
_people = Reading(Person, "t.id IN {keys}", only=("username", "first_name", "last_name", "left"))
_uses = Reading(
    Use, "t.connection_id IN {keys}", only=("connection", "workload", "operations"), order="t.id"
)
_workloads = Reading(Workload, "t.id IN {keys}", but=passed_over(Workload))
_of_clients = Reading(
    Connection,
    "t.client_id IN {keys}",
    only=("ref", "client", "scheme", "scopes", "scopes_changed_at", "individual"),
    order="t.ref",
)
_granted = Reading(
    TokenSet,
    "t.connection_id IN {keys}",
    only=("connection", "person", "granted", "signed_in_at", "obtained"),
)


def read_block(keys: Iterable[UUID]) -> list[Connection]:
    """These connections, by reference name; those that are gone are left out. The number of queries
    does not grow with theirs, which is :data:`MOST` at the most."""
    found = _connections(list(keys)[:MOST])
    _with_deployments(found)
    _with_clients(found)
    _with_secrets(found)
    _with_accounts(found)
    _with_workloads(found)
    return found


def read_of_clients(keys: Iterable[UUID]) -> dict[UUID, list[Connection]]:
    """The connections of some clients with their tokens and uses (whose workloads are not read), by
    the client's key, each list by reference name. Three queries.
    """
    found = _of_clients(keys)
    ours = [of_client.pk for of_client in found]
    hang(found, "token_sets", _granted(ours), "connection_id")
    hang(found, "uses", _uses(ours), "connection_id")
    by_client: dict[UUID, list[Connection]] = {}
    for of_client in found:
        assert of_client.client_id is not None
        by_client.setdefault(of_client.client_id, []).append(of_client)
    return by_client


def _with_deployments(connections: list[Connection]) -> None:
    deployments = _deployments_of({connection.deployment_id for connection in connections})
    applications = _applications({deployment.application_id for deployment in deployments})
    join(
        deployments, "environment", {environment.pk: environment for environment in _environments()}
    )
    join(deployments, "application", {application.pk: application for application in applications})
    hang(applications, "deployments", deployments, "application_id")
    join(connections, "deployment", {deployment.pk: deployment for deployment in deployments})


def _with_clients(connections: list[Connection]) -> None:
    keys = {connection.client_id for connection in connections if connection.client_id is not None}
    clients = of_their_kinds(_clients(keys))
    deployments = {connection.deployment_id: connection.deployment for connection in connections}
    # A client that is registered in another environment than its connection has a deployment of its
    # own.
    missing = {client.deployment_id for client in clients} - deployments.keys()
    if missing:
        others = _deployments(missing)
        join(
            others, "environment", {environment.pk: environment for environment in _environments()}
        )
        deployments |= {deployment.pk: deployment for deployment in others}
    join(clients, "deployment", deployments)
    hang(clients, "credentials", _registered(keys), "client_id")
    join(connections, "client", {client.pk: client for client in clients})


def _with_secrets(connections: list[Connection]) -> None:
    held = _held(connection.pk for connection in connections)
    join(
        held,
        "credential",
        {
            credential.pk: credential
            for credential in _credentials({held_secret.credential_id for held_secret in held})
        },
    )
    hang(connections, "held_secrets", held, "connection_id")


def _with_accounts(connections: list[Connection]) -> None:
    keys = [connection.pk for connection in connections]
    tokens, accounts = _tokens(keys), _accounts(keys)
    people = {token.person_id for token in tokens if token.person_id is not None}
    people |= {account.person_id for account in accounts}
    known = {person.pk: person for person in _people(people)}
    join(tokens, "person", known)
    join(accounts, "person", known)
    hang(connections, "token_sets", tokens, "connection_id")
    hang(connections, "accounts", accounts, "connection_id")
    teams = {connection.team_id for connection in connections if connection.team_id is not None}
    with_people = Team.objects.filter(pk__in=teams).prefetch_related("people") if teams else ()
    join(connections, "team", {with_person.pk: with_person for with_person in with_people})


def _with_workloads(connections: list[Connection]) -> None:
    uses = _uses(connection.pk for connection in connections)
    join(
        uses,
        "workload",
        {workload.pk: workload for workload in _workloads({use.workload_id for use in uses})},
    )
    hang(connections, "uses", uses, "connection_id")
