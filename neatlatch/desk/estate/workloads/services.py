"""Workloads: which of them use which connections, with which operations."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

from django.db import IntegrityError, transaction
from django.utils import timezone

from neatlatch.core import changes, seen_calls, windows
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import check_unchanged, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people import owners

KINDS = ("job", "report", "script", "agent")


@dataclass(frozen=True)
class WorkloadFields:
    """What is said of a workload.

    ``environment`` is its key; ``owner`` as :func:`owners.named` reads it.
    """

    name: str
    environment: str = ""
    kind: str = "job"
    owner: str = ""
    runs: str = ""
    windows: tuple[str, ...] = ()
    notice_days: int = 0
    draws: bool = False

    @classmethod
    def of(cls, workload: Workload) -> WorkloadFields:
        """A workload as it stands."""
        return cls(
            workload.name,
            workload.environment.key,
            workload.kind,
            workload.owner.key if workload.owner else "",
            workload.runs,
            tuple(workload.windows),
            workload.notice_days,
            workload.draws,
        )

    def checked(self) -> WorkloadFields:
        """The same, tidied. Raises field errors."""
        given = replace(
            self,
            name=self.name.strip(),
            owner=self.owner.strip(),
            runs=self.runs.strip(),
            windows=tuple(window.strip() for window in self.windows if window.strip()),
        )
        errors: dict[str, str] = {}
        if not given.name:
            errors["name"] = "What is it called?"
        if given.kind not in KINDS:
            errors["kind"] = f"A workload is one of {', '.join(KINDS)}."
        for line in given.windows:
            try:
                windows.read(line)
            except windows.BadWindow as error:
                errors["windows"] = str(error)
        if not 0 <= given.notice_days <= 365:
            errors["notice_days"] = "Give the days of notice as a number from 0 to 365."
        for field, longest in (("name", 120), ("owner", 120), ("runs", 60)):
            if len(getattr(given, field)) > longest:
                errors[field] = f"More than {longest} characters are not kept."
        if errors:
            raise wrong_fields(errors)
        return given


def put(workload: Workload, fields: WorkloadFields) -> None:
    """Take what is said over, without saving it. Raises a field error."""
    workload.name, workload.kind, workload.runs = fields.name, fields.kind, fields.runs
    workload.owner = owners.named(fields.owner)
    workload.windows, workload.notice_days, workload.draws = (
        list(fields.windows),
        fields.notice_days,
        fields.draws,
    )


def _comparable(workload: Workload) -> changes.Plain:
    told = asdict(WorkloadFields.of(workload)) | {"owner": workload.owner_name}
    return {**told, "windows": list(told["windows"])}


@transaction.atomic
def add(by: Actor, fields: WorkloadFields) -> Workload:
    """Add a workload."""
    fields = fields.checked()
    environment = applications.environment(fields.environment)
    workload = Workload(environment=environment, changed_at=timezone.now(), changed_by=by.username)
    put(workload, fields)
    try:
        with transaction.atomic():
            workload.save(force_insert=True)
    except IntegrityError as error:
        raise wrong_fields(
            {"name": f"{environment.name} has a workload of this name already."}
        ) from error
    write(
        by,
        "added",
        "workload",
        workload.name,
        {"id": workload.pk, "version": 1, "environment": environment.name},
    )
    return workload


@transaction.atomic
def change(by: Actor, workload: Workload, fields: dict[str, Any]) -> Workload:
    """Change what is said of a workload as it was read; what is ``None`` stays.

    Raises :class:`Problem` where somebody changed it meanwhile.
    """
    seen = workload.version
    workload = (
        Workload.objects.select_for_update()
        .select_related("environment", "owner__person")
        .get(pk=workload.pk)
    )
    check_unchanged(workload.version, seen)
    before = _comparable(workload)
    given = WorkloadFields(
        **{
            **asdict(WorkloadFields.of(workload)),
            **{key: value for key, value in fields.items() if value is not None},
        }
    ).checked()
    if given.environment != workload.environment.key:
        workload.environment = applications.environment(given.environment)
    put(workload, given)
    workload.version += 1
    workload.changed_at, workload.changed_by = timezone.now(), by.username
    try:
        with transaction.atomic():
            workload.save()
    except IntegrityError as error:
        raise wrong_fields(
            {"name": f"{workload.environment.name} has a workload of this name already."}
        ) from error
    write(
        by,
        "changed",
        "workload",
        workload.name,
        {
            "id": workload.pk,
            "version": workload.version,
            "changes": changes.in_words(before, _comparable(workload)),
        },
    )
    return workload


@transaction.atomic
def remove(by: Actor, workload: Workload) -> None:
    """It no longer exists."""
    write(by, "removed", "workload", workload.name, {"environment": workload.environment.name})
    workload.delete()


def _checked_operations(application: Application, operations: list[str]) -> list[str]:
    profile = application.read_profile()
    if unknown := [operation for operation in operations if profile.operation(operation) is None]:
        raise wrong_fields(
            {"operations": f"{unknown[0]} is not an operation of {application.name}."}
        )
    return list(dict.fromkeys(operations))


@transaction.atomic
def use(
    by: Actor,
    workload: Workload,
    application: Application,
    connection: Connection | None,
    operations: list[str],
) -> Use:
    """A workload calls an application, by a connection of it if one is named."""
    if connection is not None and connection.deployment.application_id != application.pk:
        raise wrong_fields(
            {"connection": f"{connection.ref} is no connection into {application.name}."}
        )
    operations = _checked_operations(application, operations)
    try:
        with transaction.atomic():
            made = Use.objects.create(
                workload=workload,
                application=application,
                connection=connection,
                operations=operations,
            )
    except IntegrityError as error:
        raise wrong_fields({"connection": "This use is recorded already."}) from error
    what = connection.ref if connection else application.key
    write(
        by,
        "added a workload",
        "connection" if connection else "application",
        what,
        {"workload": workload.name, "operations": operations},
    )
    return made


@transaction.atomic
def use_connection(
    by: Actor, connection: Connection, fields: WorkloadFields, operations: list[str]
) -> Use:
    """Note on a connection's page who uses it; a workload of that name in the connection's
    environment is taken as the same one.
    """
    environment = connection.deployment.environment
    name = fields.name.strip()
    known = (
        Workload.objects.select_related("environment")
        .filter(name=name, environment=environment)
        .first()
    )
    if known is not None and known.uses.filter(connection=connection).exists():
        raise wrong_fields({"name": "There is a workload of this name already."})
    _checked_operations(connection.deployment.application, operations)
    workload = known or add(by, replace(fields, environment=environment.key))
    return use(by, workload, connection.deployment.application, connection, operations)


@transaction.atomic
def change_use(
    by: Actor, use: Use, operations: list[str] | None, connection: Connection | None, named: bool
) -> Use:
    """Change the operations (``None``: stay) or, where ``named``, the connection of a use."""
    use = (
        Use.objects.select_for_update()
        .select_related("workload", "application", "connection")
        .get(pk=use.pk)
    )
    before = {
        "operations": use.operations,
        "connection": use.connection.ref if use.connection else "",
    }
    if operations is not None:
        use.operations = _checked_operations(use.application, operations)
    if named:
        if connection is not None and connection.deployment.application_id != use.application_id:
            raise wrong_fields(
                {"connection": f"{connection.ref} is no connection into {use.application.name}."}
            )
        use.connection = connection
    try:
        with transaction.atomic():
            use.save()
    except IntegrityError as error:
        raise wrong_fields({"connection": "This use is recorded already."}) from error
    after = {
        "operations": use.operations,
        "connection": use.connection.ref if use.connection else "",
    }
    write(
        by,
        "changed a use",
        "workload",
        use.workload.name,
        {"application": use.application.key, "changes": changes.in_words(before, after)},
    )
    return use


@transaction.atomic
def stop_using(by: Actor, use: Use) -> None:
    """A workload no longer uses a connection."""
    ref = use.connection.ref if use.connection else use.application.key
    write(
        by,
        "removed a workload",
        "connection" if use.connection else "application",
        ref,
        {"workload": use.workload.name},
    )
    use.delete()


def seen(use: Use, text: str) -> seen_calls.CallCounts:
    """What a log says that a workload called of this application.

    Raises field errors. Nothing is kept.
    """
    base = use.connection.values.get("api_base", "") if use.connection else ""
    try:
        return seen_calls.read(text, use.application.read_profile().operations, base)
    except ValueError as error:
        raise wrong_fields({"text": str(error)}) from error


@transaction.atomic
def take_seen(by: Actor, use: Use, text: str, only_seen: bool) -> Use:
    """Take the operations that a workload was seen to call as its own, beside those noted or
    (``only_seen``) in their place.
    """
    read = seen(use, text)
    names = [name for name, _ in read.operations]
    if not names:
        raise wrong_fields({"text": "No call of this application's operations is in it."})
    wanted = names if only_seen else list(dict.fromkeys((*use.operations, *names)))
    use = change_use(by, use, wanted, None, named=False)
    use.seen, use.seen_at = dict(read.operations), timezone.now()
    use.save(update_fields=["seen", "seen_at"])
    return use
