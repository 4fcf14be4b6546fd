"""What a file declares of a workload of connections, and of what it calls."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from typing import Any

from django.db import transaction
from django.utils import timezone

from neatlatch.desk.estate.credentials.declared import moment
from neatlatch.desk.estate.records.applications.models import Application, Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.journal.services import DeclaredChange

from .services import WorkloadFields, put

_FIELDS = ("name", "environment", "kind", "owner", "runs", "notice_days", "draws")


def check(fields: Mapping[str, Any]) -> WorkloadFields:
    """Check what a file declares of a workload by itself; what is kept of it. Raises field
    errors.
    """
    return WorkloadFields(
        **{name: fields[name] for name in _FIELDS}, windows=tuple(fields["windows"])
    ).checked()


def check_use(ref: str, connection_application: str, application: str, name: str) -> None:
    """Check that a use names a connection into its own application; ``name`` is what that is
    called. Raises a field error.
    """
    if connection_application != application:
        raise wrong_fields({"uses": f"{ref} is no connection into {name}"})


@transaction.atomic
def workload(by: Actor, fields: Mapping[str, Any], declared_change: DeclaredChange) -> Workload:
    """Make or change a workload, and what it calls, to what is declared. Raises
    :class:`Problem`.
    """
    said = check(fields)
    environment = Environment.objects.get(key=said.environment)
    rows = Workload.objects.select_for_update().filter(name=said.name, environment=environment)
    found = rows.first() or Workload(environment=environment, version=0)
    put(found, said)
    found.version += 1
    found.changed_at, found.changed_by = timezone.now(), by.username
    found.save()
    _put_uses(found, fields["uses"])
    declared_change.write(by, "workload", f"{said.name}/{said.environment}")
    return found


def _put_uses(workload: Workload, given: Sequence[Mapping[str, Any]]) -> None:
    """Make what it calls what is declared; where that is what stands, nothing is written."""
    names = [field.name for field in fields(_Declared)]
    names[:2] = ["application__key", "connection__ref"]
    stand = [_Declared(*row) for row in workload.uses.order_by("pk").values_list(*names)]
    wanted = [_Declared.of(one) for one in given]
    if stand != wanted:
        workload.uses.all().delete()
        for use in wanted:
            use.put(workload)


@dataclass(frozen=True)
class _Declared:
    """What is declared of a call: application and connection by their names."""

    application: str
    connection: str | None
    operations: list[str]
    seen: dict[str, int]
    seen_at: datetime | None

    @classmethod
    def of(cls, fields: Mapping[str, Any]) -> _Declared:
        return cls(
            fields["application"],
            fields.get("connection") or None,
            list(fields.get("operations", [])),
            dict(fields.get("seen", {})),
            moment(fields.get("seen_at", "")),
        )

    def put(self, workload: Workload) -> None:
        """Add it to a workload's. Raises :class:`Problem`."""
        application = Application.objects.only("key", "name").get(key=self.application)
        connection = None
        if self.connection is not None:
            rows = Connection.objects.select_related("deployment__application").only(
                "ref", "deployment__application__key"
            )
            connection = rows.get(ref=self.connection)
            known = connection.deployment.application.key
            check_use(connection.ref, known, application.key, application.name)
        Use.objects.create(
            workload=workload,
            application=application,
            connection=connection,
            operations=self.operations,
            seen=self.seen,
            seen_at=self.seen_at,
        )
