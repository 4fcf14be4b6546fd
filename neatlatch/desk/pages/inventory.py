"""The inventory as a file, and other forms in which things go out and come in."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal
from uuid import UUID

from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core.inventory.several_files import InventoryFile
from neatlatch.desk.estate.connections.destinations import permission_of
from neatlatch.desk.estate.lookups import find_client
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import narrowed, problems
from neatlatch.desk.ground.common.answers import CacheableResponse
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.ground.people.actors import shown_names
from neatlatch.desk.pages.clients.api import ClientOut, shape
from neatlatch.desk.work.inventory import services, table_imports, tables
from neatlatch.desk.work.inventory.models import ImportPlan, ImportStep
from neatlatch.desk.work.inventory.planning import Preview
from neatlatch.desk.work.rounds import at_work

router = Router(tags=["inventory"])


class InventoryFileIn(RequestBody):
    """One of several files; its name is for mistakes."""

    name: str
    text: str


class InventoryIn(RequestBody):
    """An inventory: one file as ``text``, or several as ``files``, which are one import. ``prune``:
    what it no longer has is removed.
    """

    text: str = ""
    files: list[InventoryFileIn] = []
    prune: bool = False

    def all_files(self) -> services.Files:
        """What was sent. Raises a field error where it is both."""
        if not self.files:
            return self.text
        if self.text:
            raise problems.wrong_fields({"text": "Send one file as text, or several as files."})
        return [InventoryFile(file.name, file.text) for file in self.files]


class InventoryApplyIn(InventoryIn):
    """The same; ``standing`` is the preview's, so that nothing else is applied than
    what was seen.
    """

    standing: str


@dataclass(frozen=True, kw_only=True)
class InventoryPreviewOut:
    """What a file would change."""

    # Objects that something is said of, those that are left as they are and those that are removed
    # first; so many at most.
    changes: list[services.ObjectChange]
    # How many more there are.
    more: int
    # How many objects are not in the file, and stay.
    stays: int
    standing: str
    base_known: bool
    nothing: bool
    adds: int
    changes_count: int
    removes: int
    # How many are left as they are though the file has them otherwise, and how many because
    # somebody changed them since or something that stays uses them.
    conflicts: int
    kept: int


@dataclass(frozen=True, kw_only=True)
class ImportPlanOut:
    """An import: a stored plan and how far it is applied."""

    id: UUID
    # storing, checking, applying, applied, stopped
    state: str
    begun: datetime
    ended: datetime | None
    by: str
    total: int
    done: int
    adds: int
    changes: int
    removes: int
    conflicts: int
    # Why it stopped; empty: it did not.
    problem: str
    # The import that this one undoes.
    undoes: UUID | None
    # Whether it was undone, and whether it can be.
    undone: bool
    may_undo: bool


@dataclass(frozen=True, kw_only=True)
class ImportPlans:
    """A page of imports, newest first."""

    items: list[ImportPlanOut]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class OpenImport:
    """The import that is being applied, if there is one."""

    plan: ImportPlanOut | None


@dataclass(frozen=True, kw_only=True)
class ImportStepOut:
    """A change of one object in an import."""

    number: int
    kind: str
    key: str
    act: str
    says: list[str]
    applied: bool


@dataclass(frozen=True, kw_only=True)
class ImportSteps:
    """A page of an import's steps, in their order."""

    items: list[ImportStepOut]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class ImportBegun:
    """An import that was begun, or is done; ``plan`` is none where there was nothing to change."""

    plan: ImportPlanOut | None


class ImportUndoIn(RequestBody):
    """``standing`` is that of the preview of the undoing."""

    standing: str


class ImportTextIn(RequestBody):
    """A text to bring in."""

    text: str


@dataclass(frozen=True, kw_only=True)
class ImportOut:
    """What a text would change, in words."""

    says: list[str]
    nothing: bool


# Objects that a preview tells of, and words of each.
_MOST_TOLD, _MOST_SAID, _LONGEST_SAID = 500, 20, 500
_FIRST = {"conflict": 0, "kept": 1, "remove": 2}


def preview_out(shown: Preview) -> InventoryPreviewOut:
    """A preview as the page shows it."""
    changes = shown.outcome.changes
    telling = sorted(
        (change for change in changes if change.act != "stay"),
        key=lambda change: _FIRST.get(change.act, 3),
    )
    return InventoryPreviewOut(
        changes=[_bounded(services.object_change(change)) for change in telling[:_MOST_TOLD]],
        more=max(len(telling) - _MOST_TOLD, 0),
        stays=len(changes) - len(telling),
        standing=shown.standing,
        base_known=shown.base_known,
        nothing=shown.outcome.nothing,
        adds=sum(change.act == "add" for change in changes),
        changes_count=sum(change.act == "change" for change in changes),
        removes=sum(change.act == "remove" for change in changes),
        conflicts=sum(change.act == "conflict" for change in changes),
        kept=sum(change.act == "kept" for change in changes),
    )


def _bounded(change: services.ObjectChange) -> services.ObjectChange:
    more = len(change.says) - _MOST_SAID
    says = [sentence[:_LONGEST_SAID] for sentence in change.says[:_MOST_SAID]]
    return replace(change, says=[*says, f"and {more} more"] if more > 0 else says)


def plans_out(plans: list[ImportPlan]) -> list[ImportPlanOut]:
    """Imports as the page shows them."""
    names = shown_names(plan.who for plan in plans)
    return [_plan_out(plan, names[plan.who]) for plan in plans]


def plan_out(plan: ImportPlan) -> ImportPlanOut:
    """An import as the page shows it."""
    return plans_out([plan])[0]


def _plan_out(plan: ImportPlan, by: str) -> ImportPlanOut:
    return ImportPlanOut(
        id=plan.pk,
        state=plan.state,
        begun=plan.begun,
        ended=plan.ended,
        by=by,
        total=plan.total,
        done=plan.done,
        adds=plan.adds,
        changes=plan.changes,
        removes=plan.removes,
        conflicts=plan.conflicts,
        problem=plan.problem,
        undoes=plan.undoes_id,
        undone=plan.undone,
        may_undo=bool(plan.ended and plan.done and not plan.undone),
    )


def _plans() -> QuerySet[ImportPlan]:
    """Imports as they are shown: without the two copies of the whole inventory that
    each may hold.
    """
    return ImportPlan.objects.defer("base_before", "base_after")


def _plan(identity: UUID) -> ImportPlan:
    plan = _plans().filter(pk=identity).first()
    if plan is None:
        raise problems.not_found("import")
    return plan


def _download(text: str, name: str, kind: str) -> HttpResponse:
    answer = CacheableResponse(text, content_type=f"{kind}; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


@router.get("/inventory")
def export(request: HttpRequest) -> HttpResponse:
    """The whole inventory as YAML, secrets by reference."""
    return _download(
        services.export(guard.need(request, "look")), "inventory.yaml", "application/yaml"
    )


@router.post("/inventory/previews", response=InventoryPreviewOut)
def preview(request: HttpRequest, body: InventoryIn) -> InventoryPreviewOut:
    """What a file would change, object by object. Nothing is changed."""
    by = guard.need(request, "change")
    return preview_out(services.preview(body.all_files(), body.prune, by))


def _need_worker() -> None:
    at_work.need("so an import of this size cannot be applied")


def _begun(begun: services.BegunImport) -> tuple[int, ImportBegun]:
    if begun.plan is None:
        return 200, ImportBegun(plan=None)
    return 202 if begun.plan.is_open else 200, ImportBegun(plan=plan_out(_plan(begun.plan.pk)))


@router.post("/inventory/imports", response={200: ImportBegun, 202: ImportBegun})
def begin_import(request: HttpRequest, body: InventoryApplyIn) -> tuple[int, ImportBegun]:
    """Apply a file.

    A small one is applied when this answers, as a whole or not at all; a larger one is applied by
    the worker in blocks (202). Where something that is held would go to a new place it requires
    clearance, as a change of the connection does.
    """
    by = guard.need(request, "change")
    leave = permission_of(request, by)
    return _begun(
        services.begin(by, body.all_files(), body.prune, body.standing, leave, _need_worker)
    )


@router.get("/inventory/imports", response=ImportPlans)
def imports(request: HttpRequest, cursor: str | None = None) -> ImportPlans:
    """Imports, newest first."""
    guard.need(request, "look")
    plans, following = page(_plans(), "begun", cursor, limit=20, descending=True, then="id")
    return ImportPlans(items=plans_out(plans), next=following)


@router.get("/inventory/imports/open", response=OpenImport)
def open_import(request: HttpRequest) -> OpenImport:
    """The import that is being applied now."""
    guard.need(request, "look")
    plan = _plans().filter(is_open=True).first()
    return OpenImport(plan=plan_out(plan) if plan is not None else None)


@router.get("/inventory/imports/{identity}", response=ImportPlanOut)
def one_import(request: HttpRequest, identity: UUID) -> ImportPlanOut:
    """An import and how far it is applied."""
    by = guard.need(request, "look")
    plan = _plan(identity)
    if narrowed.environments() is not None and plan.who != by.username:
        raise narrowed.outside()
    return plan_out(plan)


@router.get("/inventory/imports/{identity}/steps", response=ImportSteps)
def steps_of_import(request: HttpRequest, identity: UUID, cursor: str | None = None) -> ImportSteps:
    """The changes of an import in the order in which they are applied."""
    guard.need(request, "look")
    plan = _plan(identity)
    steps, following = page(ImportStep.objects.filter(plan=plan), "number", cursor)
    items = []
    for step in steps:
        says = _bounded(services.step_as_shown(step)).says
        items.append(
            ImportStepOut(
                number=step.number,
                kind=step.kind,
                key=step.key,
                act=step.act,
                says=says,
                applied=step.number <= plan.done,
            )
        )
    return ImportSteps(items=items, next=following)


@router.post("/inventory/imports/{identity}/stops", response=ImportPlanOut)
def stop_import(request: HttpRequest, identity: UUID) -> ImportPlanOut:
    """Stop an import after the block that is being applied; what was applied stays."""
    by = guard.need(request, "change")
    return plan_out(services.stop(by, _plan(identity)))


@router.post("/inventory/imports/{identity}/undo-previews", response=InventoryPreviewOut)
def preview_undo(request: HttpRequest, identity: UUID) -> InventoryPreviewOut:
    """What undoing an import would change. Nothing is changed."""
    by = guard.need(request, "change")
    return preview_out(services.undo_preview(_plan(identity), by))


@router.post("/inventory/imports/{identity}/undos", response={200: ImportBegun, 202: ImportBegun})
def undo_import(
    request: HttpRequest, identity: UUID, body: ImportUndoIn
) -> tuple[int, ImportBegun]:
    """Undo an import by its stored steps; what was changed since stays."""
    by = guard.need(request, "change")
    leave = permission_of(request, by)
    return _begun(services.undo(by, _plan(identity), body.standing, leave, _need_worker))


@router.get("/exports/{what}")
def table(
    request: HttpRequest, what: Literal["connections", "clients", "credentials", "workloads"]
) -> HttpResponse:
    """A list as CSV."""
    guard.need(request, "look")
    return _download(tables.export(what), f"{what}.csv", "text/csv")


class TableIn(RequestBody):
    """A table as CSV, with commas, semicolons or tabs."""

    text: str


class MappedTableIn(TableIn):
    """The same; ``columns`` says which of its columns is meant by each of ours."""

    columns: dict[str, str]


class TableApplyIn(MappedTableIn):
    """The same; ``standing`` is the preview's, so that nothing else is applied than what was
    seen.
    """

    standing: str


@dataclass(frozen=True, kw_only=True)
class TableColumnOut:
    """A column that is understood."""

    name: str
    says: str
    required: bool


@dataclass(frozen=True, kw_only=True)
class TableReadingOut:
    """The columns of a table, how many rows it has, the columns that are understood, and which of
    the table's each of these probably is.
    """

    heading: list[str]
    rows: int
    columns: list[TableColumnOut]
    suggested: dict[str, str]


@dataclass(frozen=True, kw_only=True)
class TablePreviewOut:
    """What a table would change. ``duplicates``: rows that repeat one another or look like
    something that is there already; ``same``: how many objects are there as the table has them;
    ``left_out``: columns that are not taken.
    """

    changes: InventoryPreviewOut
    duplicates: list[str]
    same: int
    left_out: list[str]


@router.post("/imports/{what}/readings", response=TableReadingOut)
def read_table(request: HttpRequest, what: table_imports.What, body: TableIn) -> TableReadingOut:
    """Read the columns of a table. Nothing is kept."""
    guard.need(request, "change")
    reading = table_imports.read(what, body.text)
    columns = [
        TableColumnOut(name=column.name, says=column.says, required=column.required)
        for column in reading.columns
    ]
    return TableReadingOut(
        heading=list(reading.heading),
        rows=reading.rows,
        columns=columns,
        suggested=reading.suggested,
    )


@router.post("/imports/{what}/previews", response=TablePreviewOut)
def preview_table(
    request: HttpRequest, what: table_imports.What, body: MappedTableIn
) -> TablePreviewOut:
    """What a table would add and change. Nothing is changed."""
    by = guard.need(request, "change")
    shown = table_imports.preview(by, what, body.text, body.columns)
    return TablePreviewOut(
        changes=preview_out(shown.changes),
        duplicates=shown.duplicates,
        same=shown.same,
        left_out=shown.left_out,
    )


@router.post("/imports/{what}", response={200: ImportBegun, 202: ImportBegun})
def take_table(
    request: HttpRequest, what: table_imports.What, body: TableApplyIn
) -> tuple[int, ImportBegun]:
    """Take a table over, as an import that can be undone; large ones in blocks, as a file."""
    by = guard.need(request, "change")
    leave = permission_of(request, by)
    begun = table_imports.begin(
        by, what, body.text, body.columns, body.standing, leave, _need_worker
    )
    return _begun(begun)


@router.get("/clients/{identity}/exports")
def client_json(request: HttpRequest, identity: UUID) -> HttpResponse:
    """A client as RFC 7591 client metadata."""
    guard.need(request, "look")
    client = find_client(identity)
    return _download(
        tables.client_json(client),
        f"client-{client.client_id or client.pk}.json",
        "application/json",
    )


@router.post("/clients/{identity}/imports/previews", response=ImportOut)
def preview_client(request: HttpRequest, identity: UUID, body: ImportTextIn) -> ImportOut:
    """What RFC 7591 client metadata would change of a client. Nothing is changed."""
    guard.need(request, "change")
    says = tables.client_changes(find_client(identity), body.text)
    return ImportOut(says=says, nothing=not says)


@router.post("/clients/{identity}/imports", response=ClientOut)
def take_client(request: HttpRequest, identity: UUID, body: ImportTextIn) -> ClientOut:
    """Take RFC 7591 client metadata: at the application too, where the client is managed by
    protocol.
    """
    by, found = guard.need(request, "change"), find_client(identity)
    guard.check_version(request, found.version, found.changed_by, ("client", found.pk))
    tables.take_client(by, found, body.text)
    return shape(find_client(identity))


@router.get("/applications/{key}/environments/{environment}/exports")
def description(request: HttpRequest, key: str, environment: str) -> HttpResponse:
    """An application as an OpenAPI 3.1 description: security schemes, operations and what each
    needs.
    """
    guard.need(request, "look")
    return _download(
        tables.description(key, environment),
        f"{key}-{environment}-openapi.json",
        "application/json",
    )


@router.get("/connections/{ref:ref}/exports")
def settings_file(
    request: HttpRequest, ref: str, format: Literal["env", "properties"] = "env"
) -> HttpResponse:
    """A connection as a settings file, secrets as references."""
    guard.need(request, "look")
    return _download(tables.settings_file(ref, format), f"{ref}.{format}", "text/plain")
