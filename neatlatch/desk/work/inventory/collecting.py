"""The whole inventory as plain values, out of the database.

Secrets are named by reference, and never opened.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

from django.db.models import Model, Prefetch

from neatlatch.core import profiles
from neatlatch.core.access import formats
from neatlatch.core.annotating import TagsAndNotes
from neatlatch.core.inventory.shape import ANNOTATIONS, BY_NAME, KINDS, Content, full
from neatlatch.desk.estate import object_notes, reaches
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client, of_their_kinds
from neatlatch.desk.estate.records.connections.models import Account, Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.fetched import those_of
from neatlatch.desk.ground.common.quick_rows import Reading, hang, join
from neatlatch.desk.ground.people.models import Owner, Person, Team
from neatlatch.desk.work.access.models import RuleBook

from .plain import PlainFields


def deployment_key(deployment: Deployment) -> str:
    """How a deployment is named in the file."""
    return f"{deployment.application.key}/{deployment.environment.key}"


def client_keys(clients: list[Client]) -> dict[Any, str]:
    """How clients are named in the file: deployment and name, and a number where that is taken."""
    found: dict[Any, str] = {}
    taken: set[str] = set()
    for one in sorted(
        clients,
        key=lambda client: (
            client.deployment.application.key,
            client.deployment.environment.order,
            client.name,
            client.created,
            str(client.pk),
        ),
    ):
        key, number = f"{deployment_key(one.deployment)}/{one.name}", 2
        while key in taken:
            key, number = f"{deployment_key(one.deployment)}/{one.name} ({number})", number + 1
        taken.add(key)
        found[one.pk] = key
    return found


def workload_key(workload: Workload) -> str:
    """How a workload is named in the file."""
    return f"{workload.name}/{workload.environment.key}"


def _moment(at: datetime | None) -> str:
    return at.astimezone(UTC).isoformat() if at else ""


_environments = Reading(Environment, order='t."order"')
_people = Reading(
    Person,
    only=("username", "first_name", "last_name", "role", "is_active", "email", "limits"),
    order="t.id",
)
_owners = Reading(Owner, order="t.name, t.id")
_applications = Reading(Application, order="t.name")
_deployments = Reading(Deployment, order="t.id")
_books = Reading(RuleBook, only=("deployment", "content"))
_credentials = Reading(
    Credential,
    only=(
        "client",
        "kind",
        "hint",
        "secret_id",
        "issued",
        "ends",
        "state",
        "source",
        "put_in_by",
        "public_key",
    ),
    order="t.issued, t.id",
)
_clients = Reading(
    Client,
    but=("management_token", "management_digest", "ceiling", "planned"),
    order="t.name, t.id",
    also={"manageable": "t.managed AND t.management_token IS NOT NULL"},
)
_connections = Reading(
    Connection,
    only=(
        "ref",
        "deployment",
        "client",
        "team",
        "scheme",
        "values",
        "slots",
        "scopes",
        "individual",
        "tests_as",
        "pace",
        "time_limit",
        "paused",
        "test_interval",
        "work_in_rounds",
        "scopes_changed_at",
    ),
    order="t.ref",
)
_held = Reading(HeldSecret, order="t.id")
_accounts = Reading(Account, order="t.id")
_workloads = Reading(Workload, order="t.name, t.id")
_uses = Reading(Use, order="t.id")


@dataclass(frozen=True)
class CurrentState:
    """Everything as it is now."""

    content: Content
    # The primary key of each object's row, as text, by kind and name.
    rows: dict[tuple[str, str], str]
    # The clients that are changed at their application by protocol, by name.
    managed: frozenset[str]


def collect() -> Content:
    """Everything, in full. A constant number of queries."""
    return collected().content


def row_of(instance: Model) -> str:
    """The primary key of a row as the database has it, as text."""
    return instance.pk.hex if isinstance(instance.pk, UUID) else str(instance.pk)


def collected() -> CurrentState:
    """Everything, in full, with the rows that it is from. A constant number of queries."""
    people = {person.pk: person for person in _people()}
    owners = {owner.pk: owner for owner in _owners()}
    teams = list(Team.objects.prefetch_related("people"))
    environments, applications = (
        {environment.pk: environment for environment in _environments()},
        {application.pk: application for application in _applications()},
    )
    join(owners.values(), "person", people)
    join(owners.values(), "team", {team.pk: team for team in teams})
    join(owners.values(), "deputy", owners)
    join(applications.values(), "owner", owners)
    deployments = {deployment.pk: deployment for deployment in _deployments()}
    join(deployments.values(), "application", applications)
    join(deployments.values(), "environment", environments)
    clients = [of_kind for of_kind in of_their_kinds(_clients()) if of_kind.state != "asking"]
    join(clients, "deployment", deployments)
    keys = client_keys(clients)
    connections = _with_what_they_hold(_connections(), people)
    join(connections, "deployment", deployments)
    join(connections, "team", {team.pk: team for team in teams})
    workloads, uses = _workloads(), _uses()
    join(workloads, "environment", environments)
    join(workloads, "owner", owners)
    join(uses, "application", applications)
    join(uses, "connection", {connection.pk: connection for connection in connections})
    hang(workloads, "uses", uses, "workload_id")
    credentials = _credentials()
    annotated = object_notes.AllAnnotations()
    instances: dict[str, dict[str, Model]] = {
        "environments": {environment.key: environment for environment in environments.values()},
        "people": {person.username: person for person in people.values()},
        "teams": {team.name: team for team in teams},
        "owners": {owner.key: owner for owner in owners.values()},
        "applications": {application.key: application for application in applications.values()},
        "deployments": {
            deployment_key(deployment): deployment for deployment in deployments.values()
        },
        "credentials": {str(credential.pk): credential for credential in credentials},
        "clients": {keys[client.pk]: client for client in clients},
        "connections": {connection.ref: connection for connection in connections},
        "workloads": {workload_key(workload): workload for workload in workloads},
    }
    found: Content = {
        "environments": {
            environment.key: _environment(environment) for environment in environments.values()
        },
        "people": {person.username: _person(person) for person in people.values()},
        "teams": {team.name: _team(team) for team in teams},
        "owners": {
            owner.key: _owner(owner)
            for owner in owners.values()
            if _has_more(owner) or annotated.of(owner) is not None
        },
        "applications": {
            application.key: _application(application) for application in applications.values()
        },
        "deployments": _of_deployments(deployments.values(), _books()),
        "credentials": {
            str(credential.pk): _credential(credential, keys) for credential in credentials
        },
        "clients": {keys[client.pk]: _client(client) for client in clients},
        "connections": {
            connection.ref: _connection(connection, keys) for connection in connections
        },
        "workloads": {workload_key(workload): _workload(workload) for workload in workloads},
    }
    rows = {
        (kind, key): row_of(row) for kind, some in instances.items() for key, row in some.items()
    }
    for kind in KINDS:
        if kind.field(ANNOTATIONS[0]) is not None:
            for key, row in instances[kind.name].items():
                if (notes := annotated.of(row)) is not None:
                    found[kind.name][key] |= object_notes.plain(notes)
    content = {
        kind.name: {key: full(kind, one) for key, one in found[kind.name].items()} for kind in KINDS
    }
    managed = frozenset(keys[client.pk] for client in clients if client.__dict__["manageable"])
    return CurrentState(content, rows, managed)


@dataclass(frozen=True)
class ObjectNow:
    """An object as it is now."""

    key: str
    # ``None``: nothing is said of it in an inventory.
    fields: PlainFields | None


def of_rows(kind: str, rows: Iterable[str]) -> dict[str, ObjectNow]:
    """Some objects of a kind as :func:`collected` has them, by their rows (:func:`row_of`); those
    that are no longer there are left out. A constant number of queries.
    """
    shape, read = BY_NAME[kind], list(_SOME[kind](list(rows)))
    annotated: dict[Any, TagsAndNotes] = {}
    if shape.field(ANNOTATIONS[0]) is not None:
        annotated = object_notes.some([row for row, _, _ in read])
    found = {
        row_of(row): ObjectNow(key, _with_annotations(fields, annotated.get(row.pk)))
        for row, key, fields in read
    }
    return {
        row: replace(now, fields=full(shape, now.fields)) if now.fields is not None else now
        for row, now in found.items()
    }


def _with_annotations(
    fields: PlainFields | None, content: TagsAndNotes | None
) -> PlainFields | None:
    if content is None:
        return fields
    return {**(fields or {}), **object_notes.plain(content)}


Rows = Iterator[tuple[Model, str, PlainFields | None]]


def _some_environments(rows: list[str]) -> Rows:
    return (
        (environment, environment.key, _environment(environment))
        for environment in Environment.objects.filter(pk__in=rows)
    )


def _some_people(rows: list[str]) -> Rows:
    return (
        (person, person.username, _person(person)) for person in Person.objects.filter(pk__in=rows)
    )


def _some_teams(rows: list[str]) -> Rows:
    return (
        (team, team.name, _team(team))
        for team in Team.objects.filter(pk__in=rows).prefetch_related("people")
    )


def _some_owners(rows: list[str]) -> Rows:
    found = Owner.objects.filter(pk__in=rows).select_related(
        "person", "team", "deputy__person", "deputy__team"
    )
    return ((owner, owner.key, _owner(owner) if _has_more(owner) else None) for owner in found)


def _some_applications(rows: list[str]) -> Rows:
    found = Application.objects.filter(pk__in=rows).select_related("owner__person", "owner__team")
    return ((application, application.key, _application(application)) for application in found)


def _some_deployments(rows: list[str]) -> Rows:
    found = list(
        Deployment.objects.filter(pk__in=rows).select_related("application", "environment")
    )
    fields = _of_deployments(found, RuleBook.objects.filter(deployment__in=found))
    return (
        (deployment, deployment_key(deployment), fields[deployment_key(deployment)])
        for deployment in found
    )


def _keys_of(clients: Iterable[UUID | None]) -> dict[Any, str]:
    """How some clients are named: that depends on others of their places."""
    deployments = Client.objects.filter(
        pk__in={client for client in clients if client is not None}
    ).values("deployment")
    beside = (
        Client.objects.filter(deployment__in=deployments)
        .exclude(state="asking")
        .select_related("deployment__application", "deployment__environment")
    )
    return client_keys(list(beside))


def _some_credentials(rows: list[str]) -> Rows:
    found = list(Credential.objects.filter(pk__in=rows).defer("value"))
    keys = _keys_of(credential.client_id for credential in found)
    return ((credential, str(credential.pk), _credential(credential, keys)) for credential in found)


def _some_clients(rows: list[str]) -> Rows:
    wanted = Client.objects.filter(pk__in=rows).exclude(state="asking")
    found = of_their_kinds(
        list(wanted.select_related("deployment__application", "deployment__environment"))
    )
    keys = _keys_of(of_kind.pk for of_kind in found)
    return ((of_kind, keys[of_kind.pk], _client(of_kind)) for of_kind in found)


def _some_connections(rows: list[str]) -> Rows:
    wanted = Connection.objects.filter(pk__in=rows).select_related(
        "deployment__application", "deployment__environment", "team"
    )
    found = list(wanted.prefetch_related("held_secrets", "accounts__person"))
    keys = _keys_of(connection.client_id for connection in found)
    return ((connection, connection.ref, _connection(connection, keys)) for connection in found)


def _some_workloads(rows: list[str]) -> Rows:
    uses = Prefetch("uses", Use.objects.select_related("application", "connection").order_by("pk"))
    found = (
        Workload.objects.filter(pk__in=rows)
        .select_related("environment", "owner__person", "owner__team")
        .prefetch_related(uses)
    )
    return ((workload, workload_key(workload), _workload(workload)) for workload in found)


_SOME: dict[str, Callable[[list[str]], Rows]] = {
    "environments": _some_environments,
    "people": _some_people,
    "teams": _some_teams,
    "owners": _some_owners,
    "applications": _some_applications,
    "deployments": _some_deployments,
    "credentials": _some_credentials,
    "clients": _some_clients,
    "connections": _some_connections,
    "workloads": _some_workloads,
}


def _with_what_they_hold(
    connections: list[Connection], people: dict[int, Person]
) -> list[Connection]:
    accounts = _accounts()
    join(accounts, "person", people)
    hang(connections, "held_secrets", _held(), "connection_id")
    hang(connections, "accounts", accounts, "connection_id")
    return connections


def _environment(environment: Environment) -> PlainFields:
    return {
        "name": environment.name,
        "order": environment.order,
        "look": environment.look,
        "production": environment.production,
        "wants_service_account": environment.wants_service_account,
    }


def _person(person: Person) -> PlainFields:
    return {
        "name": person.get_full_name(),
        "role": person.role,
        "active": person.is_active,
        "email": person.email,
        **{name: list(keys) for name, keys in vars(reaches.Limits.of(person.limits)).items()},
    }


def _team(team: Team) -> PlainFields:
    return {"people": sorted(each.username for each in team.people.all())}


def _has_more(owner: Owner) -> bool:
    """Whether there is more to say of an owner than the name that things of theirs bear."""
    return bool(owner.zone or owner.deputy or (owner.person is None and owner.address))


def _owner(owner: Owner) -> PlainFields:
    mail = "" if owner.person is not None else owner.address
    return {"mail": mail, "zone": owner.zone, "deputy": owner.deputy.key if owner.deputy else ""}


def _application(application: Application) -> PlainFields:
    return {
        "name": application.name,
        "purpose": application.purpose,
        "owner": application.owner.key if application.owner else "",
        "documentation": application.documentation,
        "profile": profiles.brief(application.read_profile()),
    }


def _of_deployments(
    deployments: Iterable[Deployment], rules: Iterable[RuleBook]
) -> dict[str, PlainFields]:
    books = {rule.deployment_id: formats.as_plain(rule.book()) for rule in rules if rule.content}
    return {
        deployment_key(deployment): {
            "application": deployment.application.key,
            "environment": deployment.environment.key,
            "addresses": deployment.by_key(),
            "metadata_address": deployment.metadata_address,
            "metadata": deployment.metadata or {},
            "access_rules": books.get(deployment.pk, {}),
        }
        for deployment in deployments
    }


def _credential(credential: Credential, keys: dict[Any, str]) -> PlainFields:
    return {
        "kind": credential.kind,
        "client": keys.get(credential.client_id, ""),
        "hint": credential.hint,
        "secret_id": credential.secret_id,
        "issued": _moment(credential.issued),
        "ends": _moment(credential.ends),
        "state": credential.state,
        "source": credential.source,
        "put_in_by": credential.put_in_by,
        "public_key": credential.public_key,
    }


def _client(client: Client) -> PlainFields:
    same = (
        "name",
        "contacts",
        "public",
        "client_id",
        "redirect_uris",
        "grants",
        "scopes",
        "sign_in_method",
        "consents",
        "vendor_shared",
        "managed",
        "state",
        "management_address",
        "scheme",
        "facts",
        "account",
        "account_kind",
        "rights",
        "switches",
        "allow_list",
        "ticks",
    )
    return {
        "id": str(client.pk),
        "deployment": deployment_key(client.deployment),
        "management_token": f"safe:client:{client.pk}" if client.managed else "",
        "rights_changed_at": _moment(client.rights_changed_at),
        "scopes_changed_at": _moment(client.scopes_changed_at),
        **{field: getattr(client, field) for field in same},
    }


def _connection(connection: Connection, keys: dict[Any, str]) -> PlainFields:
    return {
        "deployment": deployment_key(connection.deployment),
        "client": keys.get(connection.client_id, ""),
        "scheme": connection.scheme,
        "values": {k: v for k, v in connection.values.items() if v},
        "slots": connection.slots,
        "scopes": connection.scopes,
        "secrets": {
            held.key: f"safe:{held.credential_id}" for held in those_of(connection, "held_secrets")
        },
        "individual": connection.individual,
        "tests_as": connection.tests_as,
        "team": connection.team.name if connection.team else "",
        "pace": connection.pace,
        "time_limit": connection.time_limit,
        "left_out_of_rounds": connection.paused,
        "test_interval": connection.test_interval,
        "work_in_rounds": connection.work_in_rounds,
        "accounts": {
            each.person.username: each.expected for each in those_of(connection, "accounts")
        },
        "scopes_changed_at": _moment(connection.scopes_changed_at),
    }


def _workload(workload: Workload) -> PlainFields:
    uses = []
    for use in those_of(workload, "uses"):
        kept: PlainFields = {"application": use.application.key}
        if use.connection is not None:
            kept["connection"] = use.connection.ref
        if use.operations:
            kept["operations"] = use.operations
        if use.seen:
            kept["seen"] = use.seen
        if use.seen_at:
            kept["seen_at"] = _moment(use.seen_at)
        uses.append(kept)
    return {
        "name": workload.name,
        "environment": workload.environment.key,
        "kind": workload.kind,
        "owner": workload.owner.key if workload.owner else "",
        "runs": workload.runs,
        "windows": workload.windows,
        "notice_days": workload.notice_days,
        "draws": workload.draws,
        "uses": uses,
    }
