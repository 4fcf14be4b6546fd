"""The inventory as a file, and other forms in which things go out and come in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal
from uuid import UUID

from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.desk.estate.connections.destinations import leave_asked
from neatlatch.desk.estate.lookups import find_client
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.given import Given
from neatlatch.desk.pages.clients.api import ClientOut, shape
from neatlatch.desk.work.inventory import services, tables

router = Router(tags=["inventory"])


class InventoryIn(Given):
    """An inventory file. ``prune``: what it no longer has is removed."""

    text: str
    prune: bool = False


class InventoryApplyIn(InventoryIn):
    """The same; ``standing`` is what the preview said it was compared with, so that nothing else is applied than what was seen."""

    standing: str


@dataclass(frozen=True, kw_only=True)
class InventoryPreviewOut:
    """What a file would change."""

    changes: list[services.ObjectChange]
    standing: str
    base_known: bool
    nothing: bool
    adds: int
    changes_count: int
    removes: int
    conflicts: int


class ImportTextIn(Given):
    """A text to bring in."""

    text: str


@dataclass(frozen=True, kw_only=True)
class ImportOut:
    """What a text would change, in words."""

    says: list[str]
    nothing: bool


def preview_out(found: services.Preview) -> InventoryPreviewOut:
    """A preview as the page and the command line want it."""
    changes = found.outcome.changes
    return InventoryPreviewOut(
        changes=[services.told(one) for one in changes],
        standing=found.standing,
        base_known=found.base_known,
        nothing=found.outcome.nothing,
        adds=sum(one.act == "add" for one in changes),
        changes_count=sum(one.act == "change" for one in changes),
        removes=sum(one.act == "remove" for one in changes),
        conflicts=sum(one.act == "conflict" for one in changes),
    )


def _download(text: str, name: str, kind: str) -> HttpResponse:
    answer = HttpResponse(text, content_type=f"{kind}; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    answer["Cache-Control"] = "no-store"
    return answer


@router.get("/inventory")
def export(request: HttpRequest) -> HttpResponse:
    """The whole inventory as YAML, secrets by reference."""
    return _download(services.export(guard.need(request, "look")), "inventory.yaml", "application/yaml")


@router.post("/inventory/previews", response=InventoryPreviewOut)
def preview(request: HttpRequest, given: InventoryIn) -> InventoryPreviewOut:
    """What a file would change, object by object. Nothing is changed."""
    guard.need(request, "change")
    return preview_out(services.preview(given.text, given.prune))


@router.post("/inventory/applications", response=InventoryPreviewOut)
def apply(request: HttpRequest, given: InventoryApplyIn) -> InventoryPreviewOut:
    """Apply a file, as a whole or not at all. Where something that is held would go to a new place it wants leave, as a change of the connection does."""
    by = guard.need(request, "change")
    return preview_out(services.apply(by, given.text, given.prune, given.standing, leave_asked(request, by)))


@router.get("/exports/{what}")
def table(request: HttpRequest, what: Literal["connections", "clients", "credentials", "users"]) -> HttpResponse:
    """A list as CSV."""
    guard.need(request, "look")
    return _download(tables.export(what), f"{what}.csv", "text/csv")


@router.post("/imports/users/previews", response=tables.TableDifference)
def preview_users(request: HttpRequest, given: ImportTextIn) -> tables.TableDifference:
    """What a table of users would add and change. Nothing is changed."""
    guard.need(request, "change")
    return tables.preview_users(given.text)


@router.post("/imports/users", response=tables.TableDifference)
def take_users(request: HttpRequest, given: ImportTextIn) -> tables.TableDifference:
    """Take the users of a table, all or none."""
    return tables.take_users(guard.need(request, "change"), given.text)


@router.get("/clients/{identity}/exports")
def client_json(request: HttpRequest, identity: UUID) -> HttpResponse:
    """A client as RFC 7591 client metadata."""
    guard.need(request, "look")
    client = find_client(identity)
    return _download(tables.client_json(client), f"client-{client.client_id or client.pk}.json", "application/json")


@router.post("/clients/{identity}/imports/previews", response=ImportOut)
def preview_client(request: HttpRequest, identity: UUID, given: ImportTextIn) -> ImportOut:
    """What RFC 7591 client metadata would change of a client. Nothing is changed."""
    guard.need(request, "change")
    says = tables.client_changes(find_client(identity), given.text)
    return ImportOut(says=says, nothing=not says)


@router.post("/clients/{identity}/imports", response=ClientOut)
def take_client(request: HttpRequest, identity: UUID, given: ImportTextIn) -> ClientOut:
    """Take RFC 7591 client metadata: at the application too, where the client is managed by protocol."""
    by, found = guard.need(request, "change"), find_client(identity)
    guard.check_version(request, found.version, found.changed_by, ("client", found.pk))
    tables.take_client(by, found, given.text)
    return shape(find_client(identity))


@router.get("/applications/{key}/environments/{environment}/exports")
def description(request: HttpRequest, key: str, environment: str) -> HttpResponse:
    """An application as an OpenAPI 3.1 description: security schemes, operations and what each needs."""
    guard.need(request, "look")
    return _download(tables.description(key, environment), f"{key}-{environment}-openapi.json", "application/json")


@router.get("/connections/{ref}/exports")
def settings_file(request: HttpRequest, ref: str, format: Literal["env", "properties"] = "env") -> HttpResponse:
    """A connection as a settings file, secrets as references."""
    guard.need(request, "look")
    return _download(tables.settings_file(ref, format), f"{ref}.{format}", "text/plain")
