"""What a file declares of a workload of connections, and of what it calls."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.db import transaction
from django.utils import timezone

from neatlatch.desk.estate.credentials.declared import moment
from neatlatch.desk.estate.records.applications.models import Application, Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.journal.services import Told

from .services import Given, put

_FIELDS = ("name", "environment", "kind", "owner", "runs", "notice_days", "draws")


def check(given: Mapping[str, Any]) -> Given:
    """Check what a file declares of a workload by itself; what is kept of it. Raises field
    errors.
    """
    return Given(
        **{name: given[name] for name in _FIELDS}, windows=tuple(given["windows"])
    ).checked()


def check_use(ref: str, connection_application: str, application: str, name: str) -> None:
    """Check that a use names a connection into its own application; ``name`` is what that is
    called. Raises a field error.
    """
    if connection_application != application:
        raise wrong_fields({"uses": f"{ref} is no connection into {name}"})


@transaction.atomic
def workload(by: Actor, given: Mapping[str, Any], told: Told) -> Workload:
    """Make or change a workload, and what it calls, to what is declared. Raises
    :class:`Problem`.
    """
    said = check(given)
    environment = Environment.objects.get(key=said.environment)
    rows = Workload.objects.select_for_update().filter(name=said.name, environment=environment)
    found = rows.first() or Workload(environment=environment, version=0)
    put(found, said)
    found.version += 1
    found.changed_at, found.changed_by = timezone.now(), by.username
    found.save()
    found.uses.all().delete()
    for one in given["uses"]:
        _use(found, one)
    told.write(by, "workload", f"{said.name}/{said.environment}")
    return found


def _use(found: Workload, given: Mapping[str, Any]) -> Use:
    application = Application.objects.get(key=given["application"])
    connection = None
    if given.get("connection"):
        rows = Connection.objects.select_related("place__application")
        connection = rows.get(ref=given["connection"])
        check_use(
            connection.ref, connection.place.application.key, application.key, application.name
        )
    return Use.objects.create(
        workload=found,
        application=application,
        connection=connection,
        operations=given.get("operations", []),
        seen=given.get("seen", {}),
        seen_at=moment(given.get("seen_at", "")),
    )
