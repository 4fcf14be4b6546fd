"""Connections with all that pins are worked out from, read in blocks and quickly.

They are to be looked at, and not to be saved: columns that no pin reads are left out.
"""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from neatlatch.desk.estate.records.applications.models import Application, Environment, Place
from neatlatch.desk.estate.records.clients.models import Client, of_their_kinds
from neatlatch.desk.estate.records.connections.models import Account, Connection, HeldSecret, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.users.models import Use, User
from neatlatch.desk.ground.common.quick_rows import hang, join, read
from neatlatch.desk.ground.people.models import Person, Team

from .halves import ELSEWHERE

MOST = 200
_CREDENTIAL = ("client", "kind", "fingerprint", "hint", "secret_id", "state", "source", "issued", "ends", "public_key", "looks_like_id")
_NOT_OF_CLIENT = ("ticks", "management_address", "management_token", "management_digest", "ceiling", "planned", "contacts")
_NOT_OF_TOKENS = ("access", "lease", "lease_until", "sent_to")
_PERSON = ("username", "first_name", "last_name", "left")


def read_block(keys: Iterable[UUID]) -> list[Connection]:
    """These connections, by reference name; those that are gone are left out. The number of queries
    does not grow with theirs, which is :data:`MOST` at the most."""
    found = read(Connection.objects.filter(pk__in=list(keys)[:MOST]).order_by("ref"))
    _places(found)
    _clients(found)
    _secrets(found)
    _accounts(found)
    _users(found)
    return found


def read_of_clients(keys: Iterable[UUID]) -> dict[UUID, list[Connection]]:
    """The connections of some clients with their tokens and workloads, by the client's key, each list by
    reference name. Four queries."""
    found = read(Connection.objects.filter(client__in=list(keys)).order_by("ref"))
    tokens = TokenSet.objects.filter(connection__in=[one.pk for one in found])
    hang(found, "token_sets", read(tokens.defer(*_NOT_OF_TOKENS)), "connection_id")
    _users(found)
    by_client: dict[UUID, list[Connection]] = {}
    for one in found:
        assert one.client_id is not None
        by_client.setdefault(one.client_id, []).append(one)
    return by_client


def _places(found: list[Connection]) -> None:
    own = Place.objects.filter(pk__in={one.place_id for one in found})
    places = read(Place.objects.filter(application__in=own.values("application")))
    applications = read(Application.objects.filter(pk__in={one.application_id for one in places}))
    join(places, "environment", {one.pk: one for one in read(Environment.objects.all())})
    join(places, "application", {one.pk: one for one in applications})
    hang(applications, "places", places, "application_id")
    join(found, "place", {one.pk: one for one in places})


def _clients(found: list[Connection]) -> None:
    keys = {one.client_id for one in found if one.client_id is not None}
    clients = of_their_kinds(read(Client.objects.filter(pk__in=keys).defer(*_NOT_OF_CLIENT)))
    places = {one.place_id: one.place for one in found}
    # A client that is registered in another environment than its connection stands in a place of its own.
    missing = {one.place_id for one in clients} - places.keys()
    if missing:
        others = read(Place.objects.filter(pk__in=missing))
        join(others, "environment", {one.pk: one for one in read(Environment.objects.all())})
        places |= {one.pk: one for one in others}
    join(clients, "place", places)
    credentials = read(Credential.objects.filter(client__in=keys).only(*_CREDENTIAL).order_by("issued"))
    hang(clients, "credentials", credentials, "client_id")
    join(found, "client", {one.pk: one for one in clients})


def _secrets(found: list[Connection]) -> None:
    held = read(HeldSecret.objects.filter(connection__in=[one.pk for one in found]).annotate(elsewhere=ELSEWHERE))
    keys = {one.credential_id for one in held}
    join(held, "credential", {one.pk: one for one in read(Credential.objects.filter(pk__in=keys).only(*_CREDENTIAL))})
    hang(found, "held_secrets", held, "connection_id")


def _accounts(found: list[Connection]) -> None:
    keys = [one.pk for one in found]
    tokens = read(TokenSet.objects.filter(connection__in=keys).defer(*_NOT_OF_TOKENS))
    accounts = read(Account.objects.filter(connection__in=keys))
    people = {one.person_id for one in tokens if one.person_id is not None}
    people |= {one.person_id for one in accounts}
    known = {one.pk: one for one in read(Person.objects.filter(pk__in=people).only(*_PERSON))} if people else {}
    join(tokens, "person", known)
    join(accounts, "person", known)
    hang(found, "token_sets", tokens, "connection_id")
    hang(found, "accounts", accounts, "connection_id")
    teams = {one.team_id for one in found if one.team_id is not None}
    with_people = Team.objects.filter(pk__in=teams).prefetch_related("people") if teams else ()
    join(found, "team", {one.pk: one for one in with_people})


def _users(found: list[Connection]) -> None:
    uses = read(Use.objects.filter(connection__in=[one.pk for one in found]).only("connection", "user", "operations"))
    users = read(User.objects.filter(pk__in={one.user_id for one in uses}).only("name", "kind"))
    join(uses, "user", {one.pk: one for one in users})
    hang(found, "users", uses, "connection_id")
