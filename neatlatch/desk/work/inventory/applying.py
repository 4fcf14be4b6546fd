"""Putting an inventory's objects into the database, kind by kind, by the services of each, in the
surrounding transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from uuid import UUID

from neatlatch.core.inventory.merging import Change
from neatlatch.core.inventory.shape import KINDS, Content
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.estate.applications import declared as applications
from neatlatch.desk.estate.clients import declared as clients
from neatlatch.desk.estate.clients import services as client_services
from neatlatch.desk.estate.connections import accounts, destinations
from neatlatch.desk.estate.connections import declared as connections
from neatlatch.desk.estate.connections import services as connection_services
from neatlatch.desk.estate.connections.destinations import Leave, LeaveAsked
from neatlatch.desk.estate.credentials import declared as credentials
from neatlatch.desk.estate.records.applications.models import Application, Environment, Place
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.users.models import User
from neatlatch.desk.estate.users import declared as users
from neatlatch.desk.estate.users import services as user_services
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import Told
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people import services as people
from neatlatch.desk.ground.people.models import Person, Team
from neatlatch.desk.work import leaving
from neatlatch.desk.work.access import services as access

from .collecting import client_keys, user_key
from .plain import Given


class CannotApply(ValueError):
    """An object cannot be put in; ``kind`` and ``key`` name it, the message says why."""

    def __init__(self, kind: str, key: str, says: str) -> None:
        super().__init__(says)
        self.kind, self.key = kind, key


class Applying:
    """Puts objects in and takes them away.

    ``by`` is who does it, ``leave`` what to do where something that is held would go to a new place.
    """

    def __init__(self, by: Actor, leave: Leave | None = None) -> None:
        self.by, self.leave = by, leave
        self.moving: list[destinations.Move] = []
        self.clients: dict[str, Client] = {}

    def apply(self, changes: list[Change], content: Content) -> None:
        """Carry out all changes that do something.

        Raises :class:`CannotApply`, and :class:`LeaveAsked` with all that would go to a new place;
        the transaction then must not be kept.
        """
        rows = Client.objects.exclude(state="asking")
        known = list(rows.select_related("place__application", "place__environment"))
        names = client_keys(known)
        self.clients = {names[one.pk]: one for one in known}
        doing = [one for one in changes if one.does]
        put: dict[str, Callable[[str, Given, Told], object]] = {
            "environments": self.environment,
            "people": self.person,
            "teams": self.team,
            "owners": self.owner,
            "applications": self.application,
            "places": self.place,
            "clients": self.client,
            "credentials": self.credential,
            "connections": self.connection,
            "users": self.user,
        }
        # Clients come before the credentials that are theirs; in the file it is the other way round.
        order = [one.name for one in KINDS if one.name not in ("credentials", "clients")]
        at = order.index("connections")
        order[at:at] = ["clients", "credentials"]
        for kind in order:
            for one in doing:
                if one.kind == kind and one.act != "remove":
                    with self._telling(kind, one.key):
                        told = Told(f"applied: {one.act}", tuple(one.says))
                        put[kind](one.key, content[kind][one.key], told)
        for kind in reversed(order):
            for one in doing:
                if one.kind == kind and one.act == "remove":
                    with self._telling(kind, one.key):
                        self.remove(kind, one.key)
        if self.moving:
            raise destinations.asking(self.moving)

    @contextmanager
    def _telling(self, kind: str, key: str) -> Iterator[None]:
        """Problems of a service are told of the object; what it asks leave for is kept, and asked
        for once, of all."""
        try:
            yield
        except LeaveAsked as asked:
            self.moving += asked.moves
        except Problem as problem:
            says = next(iter(problem.errors.values()), problem.detail)
            raise CannotApply(kind, key, says.rstrip(".")) from problem

    def environment(self, key: str, given: Given, told: Told) -> None:
        """An environment of the firm."""
        applications.environment(self.by, key, given, told)

    def person(self, key: str, given: Given, told: Told) -> None:
        """Somebody who logs in."""
        role, active = given["role"], given["active"]
        found = Person.objects.filter(username=key).first()
        if found is not None and (found.role, found.is_active) != (role, active):
            leaving.change(self.by, found, role, active)
        people.declare(self.by, key, given["name"], given["email"], role, active, told)

    def team(self, key: str, given: Given, told: Told) -> None:
        """A team."""
        team = Team.objects.filter(name=key).first()
        accounts.save_team(self.by, key, given["people"], team, told)

    def owner(self, key: str, given: Given, told: Told) -> None:
        """How an owner is reached."""
        owners.declare(self.by, key, owners.Reached(**given), told)

    def application(self, key: str, given: Given, told: Told) -> None:
        """An application and its profile."""
        applications.application(self.by, key, given, told)

    def place(self, key: str, given: Given, told: Told) -> None:
        """An application in an environment, with its access rules."""
        where = (given["application"], given["environment"])
        found = applications.place(self.by, where, given, told)
        access.declare(self.by, found, given["access_rules"])

    def credential(self, key: str, given: Given, told: Told) -> None:
        """What is known of a credential."""
        try:
            identity = UUID(key)
        except ValueError as error:
            says = "a credential is named by the ID that it has in the safe"
            raise CannotApply("credentials", key, says) from error
        client = self.clients.get(given["client"]) if given["client"] else None
        credentials.credential(self.by, identity, client, given, told)

    def client(self, key: str, given: Given, told: Told) -> None:
        """A client registration, or an account."""
        place, known = self._place(given["place"]), self.clients.get(key)
        self.clients[key] = clients.client(self.by, place, known, given, told, key)

    def _place(self, key: str) -> Place:
        application, _, environment = key.partition("/")
        rows = Place.objects.select_related("application", "environment")
        return rows.get(application__key=application, environment__key=environment)

    def connection(self, key: str, given: Given, told: Told) -> None:
        """The caller side, its secrets by reference, whose account it is."""
        client = self.clients.get(given["client"]) if given["client"] else None
        place = self._place(given["place"])
        connections.connection(self.by, place, key, client, given, told, self.leave)

    def user(self, key: str, given: Given, told: Told) -> None:
        """A job, report, script or agent, and what it calls."""
        name = f"{given['name']}/{given['environment']}"
        if key != name:
            says = f"a user is named by its name and environment: {name}"
            raise CannotApply("users", key, says)
        users.user(self.by, given, told)

    def remove(self, kind: str, key: str) -> None:
        """Take an object away that the file no longer has."""
        by = self.by
        if kind == "clients":
            client = self.clients.pop(key)
            if client.managed and client.management_token is not None:
                says = "the client is registered there by protocol; remove it on its page, so that it is removed there too"
                raise CannotApply(kind, key, says)
            if client.house:
                issuing.remove(by, client, "the client is no longer in the inventory")
            else:
                client_services.remove(by, client)
        elif kind == "connections":
            connection_services.take_away(by, Connection.objects.get(ref=key))
        elif kind == "users":
            rows = User.objects.select_related("environment")
            name, _, environment = key.rpartition("/")
            found = rows.filter(name=name, environment__key=environment)
            user_services.remove(by, next(one for one in found if user_key(one) == key))
        elif kind == "places":
            applications.remove_place(by, self._place(key))
        elif kind == "people":
            leaving.leave(by, Person.objects.get(username=key))
        elif kind == "credentials":
            credentials.remove(by, Credential.objects.select_related("client").get(pk=key))
        elif kind == "owners":  # what they own stays theirs
            owners.declare(by, key, owners.Reached(), Told("applied: remove"))
        elif kind == "teams":
            accounts.remove_team(by, Team.objects.get(name=key))
        elif kind == "applications":
            applications.remove_application(by, Application.objects.get(key=key))
        else:
            applications.remove_environment(by, Environment.objects.get(key=key))
