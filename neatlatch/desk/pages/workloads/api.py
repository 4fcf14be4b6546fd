"""Workloads of connections: jobs, reports, scripts and agents."""

from __future__ import annotations

from uuid import UUID

from django.db.models import Prefetch
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.core.uses import UseWarning
from neatlatch.desk.authority.house import programs
from neatlatch.desk.estate.connections import naming
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.estate.workloads import services, warnings
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import narrowed, problems
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.pages.applications.shapes import environment_out

from .listing import FIELDS, fitting, next_window, page_of
from .shapes import (
    CallLogIn,
    CallLogTake,
    CountOut,
    DrawingProgram,
    SeenOut,
    UseChange,
    UseIn,
    UseOut,
    WarnedOut,
    WorkloadChange,
    WorkloadIn,
    WorkloadOut,
    Workloads,
)

router = Router(tags=["workloads"])


def _shape(workload: Workload, warned: tuple[UseWarning, ...]) -> WorkloadOut:
    return WorkloadOut(
        id=workload.pk,
        name=workload.name,
        environment=environment_out(workload.environment),
        kind=workload.kind,
        owner=workload.owner_name,
        runs=workload.runs,
        windows=workload.windows,
        next_window=next_window(workload.windows),
        notice_days=workload.notice_days,
        draws=workload.draws,
        programs=[
            DrawingProgram(client.pk, client.name) for client in programs.drawing_for(workload)
        ],
        uses=[_use_out(known_use) for known_use in workload.uses.all()],
        warnings=[WarnedOut(warning.says, warning.act, warning.ref) for warning in warned],
        version=workload.version,
        changed_at=workload.changed_at,
        changed_by=workload.changed_by,
    )


def _use_out(use: Use) -> UseOut:
    connection = use.connection
    return UseOut(
        id=use.pk,
        application=use.application.key,
        application_name=use.application.name,
        connection=connection.ref if connection else "",
        state=connection.state if connection else "",
        operations=use.operations,
        seen=use.seen,
        seen_at=use.seen_at,
    )


def _find(identity: UUID) -> Workload:
    """A workload, or a 404."""
    uses = Use.objects.select_related("application", "connection")
    rows = Workload.objects.select_related("environment", "owner__person").prefetch_related(
        Prefetch("uses", uses)
    )
    found = rows.filter(pk=identity).first()
    if found is None:
        raise problems.not_found("workload")
    return found


def _full(identity: UUID) -> WorkloadOut:
    found = _find(identity)
    calls = warnings.calls_of([found.pk]).get(found.pk, [])
    return _shape(found, warnings.warn(found.name, calls, warnings.choices_for(calls)))


@router.get("/workloads", response=Workloads)
def workloads(request: HttpRequest, words: str = "", cursor: str | None = None) -> HttpResponse:
    """Workloads by name; filtered by plain words and field words (``env:production kind:job
    owner:freight app:cargo warned:yes``).
    """
    guard.need(request, "look")
    return written(
        page_of(
            fitting(
                narrowed.within(Workload.objects.all(), "environment__key"),
                filter_words.read(words, FIELDS),
            ),
            cursor,
        )
    )


@router.post("/workloads", response={201: WorkloadOut})
def add(request: HttpRequest, body: WorkloadIn) -> tuple[int, WorkloadOut]:
    """Add a workload."""
    by = guard.need(request, "change")
    wanted = services.WorkloadFields(**{**body.dict(), "windows": tuple(body.windows)})
    return guard.repeatable(
        request, body.dict(), lambda: (201, _full(services.add(by, wanted).pk)), alone=True
    )


@router.get("/workloads/{identity}", response=WorkloadOut)
def workload(request: HttpRequest, response: HttpResponse, identity: UUID) -> WorkloadOut:
    """A workload with what it calls and what is wrong with that."""
    guard.need(request, "look")
    found = _full(identity)
    guard.tagged(response, found.version)
    return found


@router.patch("/workloads/{identity}", response=WorkloadOut)
def change(
    request: HttpRequest, response: HttpResponse, identity: UUID, body: WorkloadChange
) -> WorkloadOut:
    """Change what is said of a workload."""
    by, found = guard.need(request, "change"), _find(identity)
    guard.check_version(request, found.version, found.changed_by, ("workload", found.pk))
    changed = services.change(by, found, body.dict())
    guard.tagged(response, changed.version)
    return _full(identity)


@router.delete("/workloads/{identity}", response={204: None})
def remove(request: HttpRequest, identity: UUID) -> tuple[int, None]:
    """A workload that no longer exists."""
    services.remove(guard.need(request, "change"), _find(identity))
    return 204, None


def _connection(ref: str) -> Connection:
    found = (
        Connection.objects.select_related("deployment__application", "deployment__environment")
        .filter(ref=ref)
        .first()
    )
    if found is None:
        problem = naming.no_connection(ref)
        raise wrong_fields({"connection": f"{problem.title} {problem.detail}"})
    narrowed.check(found.deployment.environment.key, found.deployment.application.key)
    return found


@router.post("/workloads/{identity}/uses", response={201: WorkloadOut})
def use(request: HttpRequest, identity: UUID, body: UseIn) -> tuple[int, WorkloadOut]:
    """Record what a workload calls."""
    by = guard.need(request, "change")
    found = _find(identity)
    connection = _connection(body.connection) if body.connection else None
    application = (
        connection.deployment.application
        if connection
        else Application.objects.filter(key=body.application).first()
    )
    if application is None:
        raise wrong_fields({"application": "Choose the application that it calls."})
    services.use(by, found, application, connection, body.operations)
    return 201, _full(identity)


def _use(identity: UUID, number: int) -> Use:
    found = (
        Use.objects.select_related("workload", "application", "connection__deployment")
        .filter(pk=number, workload=identity)
        .first()
    )
    if found is None:
        raise problems.not_found("use")
    return found


@router.patch("/workloads/{identity}/uses/{number}", response=WorkloadOut)
def change_use(request: HttpRequest, identity: UUID, number: int, body: UseChange) -> WorkloadOut:
    """Name another connection, or other operations."""
    by = guard.need(request, "change")
    connection = _connection(body.connection) if body.connection else None
    services.change_use(
        by, _use(identity, number), body.operations, connection, body.connection is not None
    )
    return _full(identity)


@router.delete("/workloads/{identity}/uses/{number}", response=WorkloadOut)
def stop_using(request: HttpRequest, identity: UUID, number: int) -> WorkloadOut:
    """It no longer calls this application by this connection."""
    services.stop_using(guard.need(request, "change"), _use(identity, number))
    return _full(identity)


@router.post("/workloads/{identity}/uses/{number}/logs", response=SeenOut)
def read_log(request: HttpRequest, identity: UUID, number: int, body: CallLogIn) -> SeenOut:
    """What a log says that it called, against what is noted. Nothing is kept."""
    guard.need(request, "change")
    found = _use(identity, number)
    seen = services.seen(found, body.text)
    names = [name for name, _ in seen.operations]
    return SeenOut(
        operations=[CountOut(*operation) for operation in seen.operations],
        others=[CountOut(*count) for count in seen.others],
        lines=seen.lines,
        unread=seen.unread,
        not_recorded=[name for name in names if name not in found.operations],
        not_seen=[operation for operation in found.operations if operation not in names],
    )


@router.post("/workloads/{identity}/uses/{number}/observed-operations", response=WorkloadOut)
def take_seen(request: HttpRequest, identity: UUID, number: int, body: CallLogTake) -> WorkloadOut:
    """Take what it was seen to call as its operations."""
    services.take_seen(
        guard.need(request, "change"), _use(identity, number), body.text, body.only_seen
    )
    return _full(identity)
