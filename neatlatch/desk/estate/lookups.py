"""Things by the name, key or ID that an address holds. What is not there is a 404."""

from __future__ import annotations

from uuid import UUID

from neatlatch.desk.estate.connections import halves, naming
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common import narrowed
from neatlatch.desk.ground.common.problems import not_found
from neatlatch.desk.ground.people.models import Person


def find_application(key: str) -> Application:
    """An application by its key."""
    found = Application.objects.filter(key=key).first()
    if found is None:
        raise not_found("application")
    return found


def find_environment(key: str) -> Environment:
    """An environment by its key."""
    found = Environment.objects.filter(key=key).first()
    if found is None:
        raise not_found("environment")
    narrowed.check(found.key)
    return found


def find_deployment(application: str, environment: str) -> Deployment:
    """An application in one environment, by both keys."""
    narrowed.check(environment, application)
    rows = Deployment.objects.select_related("application", "environment")
    deployment = rows.filter(application__key=application, environment__key=environment).first()
    if deployment is None:
        raise not_found("environment of this application")
    return deployment


def find_client(identity: UUID) -> Client:
    """A client by its ID."""
    rows = Client.objects.select_related("deployment__application", "deployment__environment")
    found = rows.filter(pk=identity).first()
    if found is None:
        raise not_found("client")
    narrowed.check(found.deployment.environment.key, found.deployment.application.key)
    return found


def find_connection(ref: str) -> Connection:
    """A connection with everything, by its reference."""
    found = halves.with_everything(Connection.objects.filter(ref=ref)).first()
    if found is None:
        raise naming.no_connection(ref)
    narrowed.check(found.deployment.environment.key, found.deployment.application.key)
    return found


def find_person(username: str) -> Person:
    """A person, by login name."""
    found = Person.objects.filter(username=username).first()
    if found is None:
        raise not_found("person")
    return found
