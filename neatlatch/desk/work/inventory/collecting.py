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
from neatlatch.core.inventory.shape import BY_NAME, KINDS, Content, full
from neatlatch.desk.estate.records.applications.models import Application, Environment, Place
from neatlatch.desk.estate.records.clients.models import Client, of_their_kinds
from neatlatch.desk.estate.records.connections.models import Account, Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.fetched import those_of
from neatlatch.desk.ground.common.quick_rows import Reading, hang, join
from neatlatch.desk.ground.people.models import Owner, Person, Team
from neatlatch.desk.work.access.models import RuleBook

from .plain import Given


def place_key(place: Place) -> str:
    """How a place is named in the file."""
    return f"{place.application.key}/{place.environment.key}"


def client_keys(clients: list[Client]) -> dict[Any, str]:
    """How clients are named in the file: place and name, and a number where that is taken."""
    found: dict[Any, str] = {}
    taken: set[str] = set()
    for one in sorted(
        clients,
        key=lambda one: (
            one.place.application.key,
            one.place.environment.order,
            one.name,
            one.created,
            str(one.pk),
        ),
    ):
        key, number = f"{place_key(one.place)}/{one.name}", 2
        while key in taken:
            key, number = f"{place_key(one.place)}/{one.name} ({number})", number + 1
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
    Person, only=("username", "first_name", "last_name", "role", "is_active", "email"), order="t.id"
)
_owners = Reading(Owner, order="t.name, t.id")
_applications = Reading(Application, order="t.name")
_places = Reading(Place, order="t.id")
_books = Reading(RuleBook, only=("place", "content"))
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
        "place",
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
class Collected:
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


def collected() -> Collected:
    """Everything, in full, with the rows that it is from. A constant number of queries."""
    people = {one.pk: one for one in _people()}
    owners = {one.pk: one for one in _owners()}
    teams = list(Team.objects.prefetch_related("people"))
    environments, applications = (
        {one.pk: one for one in _environments()},
        {one.pk: one for one in _applications()},
    )
    join(owners.values(), "person", people)
    join(owners.values(), "team", {one.pk: one for one in teams})
    join(owners.values(), "deputy", owners)
    join(applications.values(), "owner", owners)
    places = {one.pk: one for one in _places()}
    join(places.values(), "application", applications)
    join(places.values(), "environment", environments)
    clients = [one for one in of_their_kinds(_clients()) if one.state != "asking"]
    join(clients, "place", places)
    keys = client_keys(clients)
    connections = _with_what_they_hold(_connections(), people)
    join(connections, "place", places)
    join(connections, "team", {one.pk: one for one in teams})
    workloads, uses = _workloads(), _uses()
    join(workloads, "environment", environments)
    join(workloads, "owner", owners)
    join(uses, "application", applications)
    join(uses, "connection", {one.pk: one for one in connections})
    hang(workloads, "uses", uses, "workload_id")
    credentials = _credentials()
    instances: dict[str, dict[str, Model]] = {
        "environments": {one.key: one for one in environments.values()},
        "people": {one.username: one for one in people.values()},
        "teams": {one.name: one for one in teams},
        "owners": {one.key: one for one in owners.values()},
        "applications": {one.key: one for one in applications.values()},
        "places": {place_key(one): one for one in places.values()},
        "credentials": {str(one.pk): one for one in credentials},
        "clients": {keys[one.pk]: one for one in clients},
        "connections": {one.ref: one for one in connections},
        "workloads": {workload_key(one): one for one in workloads},
    }
    found: Content = {
        "environments": {one.key: _environment(one) for one in environments.values()},
        "people": {one.username: _person(one) for one in people.values()},
        "teams": {one.name: _team(one) for one in teams},
        "owners": {one.key: _owner(one) for one in owners.values() if _has_more(one)},
        "applications": {one.key: _application(one) for one in applications.values()},
        "places": _of_places(places.values(), _books()),
        "credentials": {str(one.pk): _credential(one, keys) for one in credentials},
        "clients": {keys[one.pk]: _client(one) for one in clients},
        "connections": {one.ref: _connection(one, keys) for one in connections},
        "workloads": {workload_key(one): _workload(one) for one in workloads},
    }
    rows = {
        (kind, key): row_of(one) for kind, some in instances.items() for key, one in some.items()
    }
    content = {
        kind.name: {key: full(kind, one) for key, one in found[kind.name].items()} for kind in KINDS
    }
    managed = frozenset(keys[client.pk] for client in clients if client.__dict__["manageable"])
    return Collected(content, rows, managed)


@dataclass(frozen=True)
class ObjectNow:
    """An object as it is now."""

    key: str
    # ``None``: nothing is said of it in an inventory.
    fields: Given | None


def of_rows(kind: str, rows: Iterable[str]) -> dict[str, ObjectNow]:
    """Some objects of a kind as :func:`collected` has them, by their rows (:func:`row_of`); those
    that are no longer there are left out. A constant number of queries.
    """
    found = {row_of(row): ObjectNow(key, fields) for row, key, fields in _SOME[kind](list(rows))}
    shape = BY_NAME[kind]
    return {
        row: replace(now, fields=full(shape, now.fields)) if now.fields is not None else now
        for row, now in found.items()
    }


Rows = Iterator[tuple[Model, str, Given | None]]


def _some_environments(rows: list[str]) -> Rows:
    return ((one, one.key, _environment(one)) for one in Environment.objects.filter(pk__in=rows))


def _some_people(rows: list[str]) -> Rows:
    return ((one, one.username, _person(one)) for one in Person.objects.filter(pk__in=rows))


def _some_teams(rows: list[str]) -> Rows:
    return (
        (one, one.name, _team(one))
        for one in Team.objects.filter(pk__in=rows).prefetch_related("people")
    )


def _some_owners(rows: list[str]) -> Rows:
    found = Owner.objects.filter(pk__in=rows).select_related(
        "person", "team", "deputy__person", "deputy__team"
    )
    return ((one, one.key, _owner(one) if _has_more(one) else None) for one in found)


def _some_applications(rows: list[str]) -> Rows:
    found = Application.objects.filter(pk__in=rows).select_related("owner__person", "owner__team")
    return ((one, one.key, _application(one)) for one in found)


def _some_places(rows: list[str]) -> Rows:
    found = list(Place.objects.filter(pk__in=rows).select_related("application", "environment"))
    fields = _of_places(found, RuleBook.objects.filter(place__in=found))
    return ((one, place_key(one), fields[place_key(one)]) for one in found)


def _keys_of(clients: Iterable[UUID | None]) -> dict[Any, str]:
    """How some clients are named: that depends on others of their places."""
    places = Client.objects.filter(
        pk__in={client for client in clients if client is not None}
    ).values("place")
    beside = (
        Client.objects.filter(place__in=places)
        .exclude(state="asking")
        .select_related("place__application", "place__environment")
    )
    return client_keys(list(beside))


def _some_credentials(rows: list[str]) -> Rows:
    found = list(Credential.objects.filter(pk__in=rows).defer("value"))
    keys = _keys_of(one.client_id for one in found)
    return ((one, str(one.pk), _credential(one, keys)) for one in found)


def _some_clients(rows: list[str]) -> Rows:
    wanted = Client.objects.filter(pk__in=rows).exclude(state="asking")
    found = of_their_kinds(list(wanted.select_related("place__application", "place__environment")))
    keys = _keys_of(one.pk for one in found)
    return ((one, keys[one.pk], _client(one)) for one in found)


def _some_connections(rows: list[str]) -> Rows:
    wanted = Connection.objects.filter(pk__in=rows).select_related(
        "place__application", "place__environment", "team"
    )
    found = list(wanted.prefetch_related("held_secrets", "accounts__person"))
    keys = _keys_of(one.client_id for one in found)
    return ((one, one.ref, _connection(one, keys)) for one in found)


def _some_workloads(rows: list[str]) -> Rows:
    uses = Prefetch("uses", Use.objects.select_related("application", "connection").order_by("pk"))
    found = (
        Workload.objects.filter(pk__in=rows)
        .select_related("environment", "owner__person", "owner__team")
        .prefetch_related(uses)
    )
    return ((one, workload_key(one), _workload(one)) for one in found)


_SOME: dict[str, Callable[[list[str]], Rows]] = {
    "environments": _some_environments,
    "people": _some_people,
    "teams": _some_teams,
    "owners": _some_owners,
    "applications": _some_applications,
    "places": _some_places,
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


def _environment(one: Environment) -> Given:
    return {
        "name": one.name,
        "order": one.order,
        "look": one.look,
        "production": one.production,
        "wants_service_account": one.wants_service_account,
    }


def _person(one: Person) -> Given:
    return {
        "name": one.get_full_name(),
        "role": one.role,
        "active": one.is_active,
        "email": one.email,
    }


def _team(one: Team) -> Given:
    return {"people": sorted(each.username for each in one.people.all())}


def _has_more(one: Owner) -> bool:
    """Whether there is more to say of an owner than the name that things of theirs bear."""
    return bool(one.zone or one.deputy or (one.person is None and one.address))


def _owner(one: Owner) -> Given:
    mail = "" if one.person is not None else one.address
    return {"mail": mail, "zone": one.zone, "deputy": one.deputy.key if one.deputy else ""}


def _application(one: Application) -> Given:
    return {
        "name": one.name,
        "purpose": one.purpose,
        "owner": one.owner.key if one.owner else "",
        "documentation": one.documentation,
        "profile": profiles.brief(one.read_profile()),
    }


def _of_places(places: Iterable[Place], rules: Iterable[RuleBook]) -> dict[str, Given]:
    books = {one.place_id: formats.as_plain(one.book()) for one in rules if one.content}
    return {
        place_key(one): {
            "application": one.application.key,
            "environment": one.environment.key,
            "addresses": one.by_key(),
            "metadata_address": one.metadata_address,
            "metadata": one.metadata or {},
            "access_rules": books.get(one.pk, {}),
        }
        for one in places
    }


def _credential(one: Credential, keys: dict[Any, str]) -> Given:
    return {
        "kind": one.kind,
        "client": keys.get(one.client_id, ""),
        "hint": one.hint,
        "secret_id": one.secret_id,
        "issued": _moment(one.issued),
        "ends": _moment(one.ends),
        "state": one.state,
        "source": one.source,
        "put_in_by": one.put_in_by,
        "public_key": one.public_key,
    }


def _client(one: Client) -> Given:
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
        "id": str(one.pk),
        "place": place_key(one.place),
        "management_token": f"safe:client:{one.pk}" if one.managed else "",
        "rights_changed_at": _moment(one.rights_changed_at),
        "scopes_changed_at": _moment(one.scopes_changed_at),
        **{field: getattr(one, field) for field in same},
    }


def _connection(one: Connection, keys: dict[Any, str]) -> Given:
    return {
        "place": place_key(one.place),
        "client": keys.get(one.client_id, ""),
        "scheme": one.scheme,
        "values": {k: v for k, v in one.values.items() if v},
        "slots": one.slots,
        "scopes": one.scopes,
        "secrets": {
            held.key: f"safe:{held.credential_id}" for held in those_of(one, "held_secrets")
        },
        "individual": one.individual,
        "tests_as": one.tests_as,
        "team": one.team.name if one.team else "",
        "pace": one.pace,
        "time_limit": one.time_limit,
        "left_out_of_rounds": one.paused,
        "work_in_rounds": one.work_in_rounds,
        "accounts": {each.person.username: each.expected for each in those_of(one, "accounts")},
        "scopes_changed_at": _moment(one.scopes_changed_at),
    }


def _workload(one: Workload) -> Given:
    uses = []
    for use in those_of(one, "uses"):
        kept: Given = {"application": use.application.key}
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
        "name": one.name,
        "environment": one.environment.key,
        "kind": one.kind,
        "owner": one.owner.key if one.owner else "",
        "runs": one.runs,
        "windows": one.windows,
        "notice_days": one.notice_days,
        "draws": one.draws,
        "uses": uses,
    }
