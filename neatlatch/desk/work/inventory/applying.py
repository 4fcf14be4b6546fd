"""Putting an inventory's objects into the database, one after another, by the services of each
kind.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db.models import Model, QuerySet

from neatlatch.core.inventory.shape import ANNOTATIONS, BY_NAME
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.estate import object_notes, reaches
from neatlatch.desk.estate.applications import declared as applications
from neatlatch.desk.estate.applications import environments
from neatlatch.desk.estate.clients import declared as clients
from neatlatch.desk.estate.clients import services as client_services
from neatlatch.desk.estate.connections import accounts
from neatlatch.desk.estate.connections import declared as connections
from neatlatch.desk.estate.connections import services as connection_services
from neatlatch.desk.estate.connections.destinations import DestinationPermission
from neatlatch.desk.estate.credentials import declared as credentials
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import declared as workloads
from neatlatch.desk.estate.workloads import services as workload_services
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import DeclaredChange
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people import services as people
from neatlatch.desk.ground.people.models import Owner, Person, Team
from neatlatch.desk.work import offboarding
from neatlatch.desk.work.access import services as access

from .collecting import row_of
from .plain import PlainFields
from .planning import StepContent
from .validating import REGISTERED_THERE

# How a connection is tested: fields of a file, and the columns that they are kept in.
_HOW_TESTED = {
    "left_out_of_rounds": "paused",
    **{name: name for name in ("pace", "test_interval", "time_limit", "work_in_rounds")},
}


class Applier:
    """Puts objects in and takes them away, in the surrounding transaction, by the services of each
    kind.

    ``by`` is who does it, ``leave`` what to do where something that is held would go to a new
    place.
    """

    def __init__(self, by: Actor, leave: DestinationPermission | None = None) -> None:
        self.by, self.leave = by, leave

    def apply(self, kind: str, key: str, act: str, content: StepContent) -> str:
        """Carry out one change; the row that the object then is, empty where it was removed. Raises
        :class:`Problem`, and what the database refuses."""
        if act == "remove":
            self._remove(kind, key, content)
            return ""
        assert content.after is not None
        if act == "add" and self._was_added_meanwhile(kind, key, content.after):
            raise Problem(
                409,
                "It is there already.",
                "it was added meanwhile by somebody else",
                code="already-exists",
            )
        told = DeclaredChange(f"applied: {act}", tuple(content.says))
        if (
            act == "change"
            and (changed := self._apply_annotations(kind, key, content, told)) is not None
        ):
            return row_of(changed)
        row = self._put(kind, key, content, told)
        stood = content.before or {}
        if any(content.after.get(name) or stood.get(name) for name in ANNOTATIONS):
            object_notes.declare(self.by, row, content.after)
        return row_of(row)

    def _put(
        self, kind: str, key: str, content: StepContent, declared_change: DeclaredChange
    ) -> Model:
        assert content.after is not None
        if kind in ("clients", "credentials", "connections"):
            of_a_client: dict[str, Callable[[str, PlainFields, str, DeclaredChange], Model]]
            of_a_client = {
                "clients": self.client,
                "credentials": self.credential,
                "connections": self.connection,
            }
            return of_a_client[kind](key, content.after, content.client, declared_change)
        put: dict[str, Callable[[str, PlainFields, DeclaredChange], Model]] = {
            "environments": self.environment,
            "people": self.person,
            "teams": self.team,
            "owners": self.owner,
            "applications": self.application,
            "deployments": self.deployment,
            "workloads": self.workload,
        }
        return put[kind](key, content.after, declared_change)

    def _was_added_meanwhile(self, kind: str, key: str, fields: PlainFields) -> bool:
        """Whether an object that is to be added has been added by somebody else since it was
        planned.
        """
        return (found := self._rows(kind, key, fields)) is not None and found.exists()

    def _apply_annotations(
        self, kind: str, key: str, content: StepContent, declared_change: DeclaredChange
    ) -> Model | None:
        """Carry out a change that is not of what an object does: its tags, notes and links, and how
        a connection is tested. ``None``: this change is more than that.
        """
        assert content.before is not None
        assert content.after is not None
        before, after = content.before, content.after
        changed = {name for name in after if after[name] != before.get(name)}
        how_tested = changed & set(_HOW_TESTED) if kind == "connections" else set()
        if changed - how_tested - set(ANNOTATIONS):
            return None
        rows = self._rows(kind, key, after, content.client)
        row: Model | None = rows.first() if rows is not None else None
        if row is None:
            return None
        if changed & set(ANNOTATIONS):
            object_notes.declare(self.by, row, after)
        if how_tested:
            wanted = {_HOW_TESTED[name]: after[name] for name in how_tested}
            connection_services.put_how_tested(self.by, row.pk, wanted)
        declared_change.write(self.by, BY_NAME[kind].word, key)
        return row

    def _rows(
        self, kind: str, key: str, fields: PlainFields, client: str = ""
    ) -> QuerySet[Any] | None:
        """The row of an object, by its name in a file; ``None``: of a kind that has none yet."""
        rows: dict[str, Callable[[], QuerySet[Any]]] = {
            "environments": lambda: Environment.objects.filter(key=key),
            "people": lambda: Person.objects.filter(username=key),
            "teams": lambda: Team.objects.filter(name=key),
            "applications": lambda: Application.objects.filter(key=key),
            "deployments": lambda: _deployments(key),
            "credentials": lambda: Credential.objects.filter(pk=key).defer("value"),
            "connections": lambda: Connection.objects.filter(ref=key),
            "workloads": lambda: Workload.objects.filter(
                name=fields["name"], environment__key=fields["environment"]
            ),
        }
        if kind == "clients":
            return Client.objects.filter(pk=client) if client else None
        return rows[kind]() if kind in rows else None

    def environment(
        self, key: str, fields: PlainFields, declared_change: DeclaredChange
    ) -> Environment:
        """An environment of the firm."""
        return environments.declare(self.by, key, fields, declared_change)

    def person(self, key: str, fields: PlainFields, declared_change: DeclaredChange) -> Person:
        """Somebody who logs in."""
        role, active = fields["role"], fields["active"]
        found = Person.objects.filter(username=key).first()
        if found is not None and (found.role, found.is_active) != (role, active):
            offboarding.change(self.by, found, role, active)
        person = people.declare(
            self.by, key, fields["name"], fields["email"], role, active, declared_change
        )
        return reaches.set_limits(self.by, person, reaches.Limits.of(fields))

    def team(self, key: str, fields: PlainFields, declared_change: DeclaredChange) -> Team:
        """A team."""
        team = Team.objects.filter(name=key).first()
        return accounts.save_team(self.by, key, fields["people"], team, declared_change)

    def owner(self, key: str, fields: PlainFields, declared_change: DeclaredChange) -> Owner:
        """How an owner is reached."""
        reached = owners.ContactDetails(fields["mail"], fields["zone"], fields["deputy"])
        return owners.declare(self.by, key, reached, declared_change)

    def application(
        self, key: str, fields: PlainFields, declared_change: DeclaredChange
    ) -> Application:
        """An application and its profile."""
        return applications.application(self.by, key, fields, declared_change)

    def deployment(
        self, key: str, fields: PlainFields, declared_change: DeclaredChange
    ) -> Deployment:
        """An application in an environment, with its access rules."""
        where = (fields["application"], fields["environment"])
        found = applications.deployment(self.by, where, fields, declared_change)
        access.declare(self.by, found, fields["access_rules"])
        return found

    def credential(
        self, key: str, fields: PlainFields, client: str, declared_change: DeclaredChange
    ) -> Credential:
        """What is known of a credential; ``client`` is the ID of the client that it is of, or
        empty.
        """
        of = Client.objects.get(pk=client) if client else None
        return credentials.credential(self.by, credentials.check(key), of, fields, declared_change)

    def client(
        self, key: str, fields: PlainFields, client: str, declared_change: DeclaredChange
    ) -> Client:
        """A client registration, or an account, by its ID."""
        known = Client.objects.filter(pk=client).exclude(state="asking").first()
        return clients.client(
            self.by, self._deployment(fields["deployment"]), known, fields, declared_change, key
        )

    def _deployment(self, key: str) -> Deployment:
        return _deployments(key).select_related("application", "environment").get()

    def connection(
        self, key: str, fields: PlainFields, client: str, declared_change: DeclaredChange
    ) -> Connection:
        """The caller side, its secrets by reference, whose account it is; ``client`` is the ID of
        its client, or empty.
        """
        rows = Client.objects.select_related("deployment__application")
        of = rows.get(pk=client) if client else None
        deployment = self._deployment(fields["deployment"])
        return connections.connection(
            self.by, deployment, key, of, fields, declared_change, self.leave
        )

    def workload(self, key: str, fields: PlainFields, declared_change: DeclaredChange) -> Workload:
        """A job, report, script or agent, and what it calls."""
        return workloads.workload(self.by, fields, declared_change)

    def _remove(self, kind: str, key: str, content: StepContent) -> None:
        """Take an object away that the file no longer has."""
        by = self.by
        if kind == "clients":
            client = Client.objects.get(pk=content.client)
            if client.managed and client.management_token is not None:
                raise Problem(
                    409, "It is registered there.", REGISTERED_THERE, code="still-registered"
                )
            if client.house:
                issuing.remove(by, client, "the client is no longer in the inventory")
            else:
                client_services.remove(by, client)
        elif kind == "connections":
            connection_services.take_away(by, Connection.objects.get(ref=key))
        elif kind == "workloads":
            name, _, environment = key.rpartition("/")
            workload_services.remove(
                by, Workload.objects.get(name=name, environment__key=environment)
            )
        elif kind == "deployments":
            applications.remove_deployment(by, self._deployment(key))
        elif kind == "people":
            offboarding.leave(by, Person.objects.get(username=key))
        elif kind == "credentials":
            credentials.remove(by, Credential.objects.select_related("client").get(pk=key))
        elif kind == "owners":  # what they own stays theirs
            owner = owners.declare(
                by, key, owners.ContactDetails(), DeclaredChange("applied: remove")
            )
            object_notes.declare(by, owner, object_notes.plain(None))
        elif kind == "teams":
            accounts.remove_team(by, Team.objects.get(name=key))
        elif kind == "applications":
            applications.remove_application(by, Application.objects.get(key=key))
        else:
            environments.remove(by, Environment.objects.get(key=key))


def _deployments(key: str) -> QuerySet[Deployment]:
    application, _, environment = key.partition("/")
    return Deployment.objects.filter(application__key=application, environment__key=environment)
