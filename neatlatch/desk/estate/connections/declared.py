"""What a file declares of a connection: the caller side, its secrets by reference,
whose account.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from django.db import transaction

from neatlatch.core import references
from neatlatch.core.profiles import Profile
from neatlatch.core.schemes import Scheme
from neatlatch.desk.estate.credentials.declared import moment
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Account, Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.journal.services import DeclaredChange
from neatlatch.desk.ground.people.models import Person, Team

from . import accounts, naming, services, tokens
from .destinations import DestinationPermission

ENDED_FOR_TESTS = "ended the tokens for tests of"


@dataclass(frozen=True)
class DeclaredIn:
    """Where a file declares a connection: the application's key, name and profile."""

    key: str
    name: str
    profile: Profile


def check_reference(ref: str, environment: str) -> None:
    """Check how a file calls a connection of an environment. Raises a field error."""
    read = references.read(ref)
    if read is None or read[0] != environment:
        name = ref.rpartition("/")[2]
        if not references.is_name(name):
            raise wrong_fields({"ref": references.WRONG_NAME})
        right = references.write(environment, name)
        raise wrong_fields(
            {"ref": f"a connection is named together with its environment: write {right}"}
        )


def check(scheme_key: str, application: DeclaredIn, client_application: str | None) -> Scheme:
    """Check what a file declares of a connection by itself; its authentication scheme.

    ``client_application`` is the key of the application that its client belongs to (none: it has no
    client). Raises a field error.
    """
    scheme = application.profile.scheme(scheme_key)
    if scheme is None:
        says = f"{application.name} has no authentication scheme called {scheme_key}"
        raise wrong_fields({"scheme": says})
    if client_application not in (None, application.key):
        raise wrong_fields({"client": "its client belongs to another application"})
    return scheme


def check_belongs(key: str, deployment: object, deployments: Collection[object]) -> None:
    """Check that a secret which a connection does not hold yet is of its own application and
    environment; ``deployments`` are those where it is held now. Raises a field error."""
    if deployments and deployment not in deployments:
        raise wrong_fields({key: f"its {key} belongs to another application or environment"})


@transaction.atomic
def connection(
    by: Actor,
    deployment: Deployment,
    ref: str,
    client: Client | None,
    fields: Mapping[str, Any],
    declared_change: DeclaredChange,
    leave: DestinationPermission | None = None,
) -> Connection:
    """Make or change a connection to what is declared.

    It is no longer proven; tokens of another client or account are forgotten. Raises
    :class:`Problem`, and :class:`PermissionRequired` where something that is held would go to a
    new place.
    """
    application = deployment.application
    declared_in = DeclaredIn(application.key, application.name, application.read_profile())
    client_application = client.deployment.application.key if client is not None else None
    check_reference(ref, deployment.environment.key)
    scheme = check(fields["scheme"], declared_in, client_application)
    stands = Connection.objects.select_for_update().filter(ref=ref).first()
    name = ref.partition("/")[2]
    found = stands or Connection(**naming.named(deployment, name), deployment=deployment, version=0)
    moved = stands is not None and is_another(stands, client.pk if client else None, fields)
    other_tests = found.tests_as != fields["tests_as"]
    open_values = [
        value for value in scheme.all_values() if not value.secret and value.type != "scopes"
    ]
    found.values = {open_value.key: "" for open_value in open_values}
    found.values |= {name: str(value) for name, value in fields["values"].items()}
    found.client, found.scheme = client, fields["scheme"]
    for name in (
        "slots",
        "scopes",
        "tests_as",
        "work_in_rounds",
        "test_interval",
        "individual",
        "pace",
        "time_limit",
    ):
        setattr(found, name, fields[name])
    found.team = Team.objects.filter(name=fields["team"]).first() if fields["team"] else None
    found.paused, found.scopes_changed_at = (
        fields["left_out_of_rounds"],
        moment(fields["scopes_changed_at"]),
    )
    if moved:
        tokens.drop(found)
    elif stands is not None and found.individual and other_tests:
        tokens.end(by, found, ENDED_FOR_TESTS, shared=True)
    if stands is None:
        services.save_new(by, found)
    _hold(found, fields["secrets"])
    _ask(found, fields["accounts"])
    if said := accounts.refused_for_tests(found, found.tests_as):
        raise wrong_fields({"tests_as": f"tests as {found.tests_as}: {said}"})
    services.touched(found, by, leave)
    declared_change.write(by, "connection", ref)
    return found


def is_another(stands: Connection, client: UUID | None, fields: Mapping[str, Any]) -> bool:
    """Whether tokens that are held would be of another scheme, client (by its ID), server or
    account.
    """
    if (stands.scheme, stands.client_id) != (fields["scheme"], client):
        return True
    if stands.individual != fields["individual"]:
        return True
    return any(stands.values.get(key) != fields["values"].get(key) for key in services.IDENTITY)


def _hold(connection: Connection, wanted: Mapping[str, str]) -> None:
    """Hold exactly these secrets, named by reference."""
    HeldSecret.objects.filter(connection=connection).exclude(key__in=wanted).delete()
    for key, reference in wanted.items():
        credential = Credential.objects.get(pk=reference.removeprefix("safe:"))
        _check_belongs(connection, key, credential)
        held = {"credential": credential}
        HeldSecret.objects.update_or_create(connection=connection, key=key, defaults=held)


def _check_belongs(connection: Connection, key: str, credential: Credential) -> None:
    """A secret that a connection does not hold yet is taken up only within one application and
    environment."""
    if HeldSecret.objects.filter(connection=connection, key=key, credential=credential).exists():
        return
    deployments: set[object] = set(
        credential.holders.values_list("connection__deployment_id", flat=True)
    )
    if credential.client is not None:
        deployments.add(credential.client.deployment_id)
    check_belongs(key, connection.deployment_id, deployments)


def _ask(connection: Connection, wanted: Mapping[str, str]) -> None:
    """Ask exactly these people to connect an account, each by the account's name there."""
    Account.objects.filter(connection=connection).exclude(person__username__in=wanted).delete()
    for username, expected in wanted.items():
        person = Person.objects.get(username=username)
        known = {"expected": expected}
        Account.objects.update_or_create(connection=connection, person=person, defaults=known)
