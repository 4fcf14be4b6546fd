"""Decommissioning connections, clients, applications in an environment, and workloads."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from django.db.models import QuerySet
from django.http import HttpRequest
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.desk.estate.connections import naming
from neatlatch.desk.estate.lookups import find_deployment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import filtering
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.problems import not_found
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.work.decommissioning import services
from neatlatch.desk.work.decommissioning.models import Decommissioning
from neatlatch.desk.work.decommissioning.subjects import subject

router = Router(tags=["decommissioning"])
Of = Literal["clients", "connections", "deployments", "workloads"]


class DecommissionIn(RequestBody):
    """What to decommission: a connection by its reference, a client or workload by its ID, an
    application in an environment by both keys, ``cargo-manifests/production``.
    """

    of: Of
    key: str


class ReasonIn(RequestBody):
    """Why; empty: no reason is needed."""

    reason: str = ""


class RevocationIn(RequestBody):
    """The key of what is revoked, as it is listed."""

    key: str


class DecommissionEnd(RequestBody):
    """``confirm`` is the object's name; ``with_also``: with what may go with it."""

    confirm: str
    with_also: bool = False


@dataclass(frozen=True, kw_only=True)
class UsageOut:
    """Something that uses it; ``seen``: its uses are seen here, ``last`` is the last of them.
    ``blocks``: it must be decommissioned or moved first.
    """

    kind: str
    name: str
    address: str
    says: str
    last: datetime | None
    seen: bool
    blocks: bool


@dataclass(frozen=True, kw_only=True)
class RevokedItemOut:
    """Something that was revoked; ``said`` is what the application answered."""

    key: str
    what: str
    how: str
    at: datetime
    by: str
    said: str


@dataclass(frozen=True, kw_only=True)
class PlannedRevocationOut:
    """Something that is to be revoked: by the house, by protocol, manually, or that is kept."""

    key: str
    what: str
    how: str
    says: str
    acts: list[str]


@dataclass(frozen=True, kw_only=True)
class DecommissioningRow:
    """One object on its way out, or gone."""

    id: UUID
    of: str
    name: str
    where: str
    begun: datetime
    begun_by: str
    ended: datetime | None
    ended_by: str
    cancelled: bool


@dataclass(frozen=True, kw_only=True)
class DecommissioningOut(DecommissioningRow):
    """How far it is. ``step``: uses, revoke, prove or end; null: it is over, or the object is
    ``gone`` otherwise.
    """

    address: str
    step: str | None
    gone: bool
    usages: list[UsageOut]
    obstacle: str
    confirmed_at: datetime | None
    reason: str
    revoked: list[RevokedItemOut]
    left: list[PlannedRevocationOut]
    proven_at: datetime | None
    proof: str
    unproven: str
    also: str
    history: dict[str, Any]


@dataclass(frozen=True, kw_only=True)
class Decommissionings:
    """A page of them, newest first."""

    items: list[DecommissioningRow]
    next: str | None


def _row_fields(record: Decommissioning) -> dict[str, Any]:
    return {
        "id": record.pk,
        "of": record.of,
        "name": record.name,
        "where": record.where,
        "begun": record.begun,
        "begun_by": record.begun_by,
        "ended": record.ended,
        "ended_by": record.ended_by,
        "cancelled": record.cancelled,
    }


def _out(record: Decommissioning) -> DecommissioningOut:
    standing = services.standing_of(record)
    return DecommissioningOut(
        **_row_fields(record),
        address=standing.address,
        step=standing.step,
        gone=standing.gone,
        usages=[UsageOut(**vars(usage)) for usage in standing.usages],
        obstacle=standing.obstacle,
        confirmed_at=record.confirmed_at,
        reason=record.reason,
        revoked=[
            RevokedItemOut(**{**vars(each), "at": datetime.fromisoformat(each.at)})
            for each in standing.revoked
        ],
        left=[
            PlannedRevocationOut(
                key=each.key,
                what=each.what,
                how=each.how,
                says=each.says,
                acts=list(each.acts),
            )
            for each in standing.left
        ],
        proven_at=record.proven_at,
        proof=record.proof,
        unproven=record.unproven,
        also=standing.also,
        history=record.history,
    )


def _find(identity: UUID) -> Decommissioning:
    found = Decommissioning.objects.filter(pk=identity).first()
    if found is None:
        raise not_found("decommissioning")
    return found


def _row(of: Of, key: str) -> str:
    """The primary key, as text, of what a caller names. Raises a 404."""
    if of == "connections":
        found = Connection.objects.filter(ref=key).values_list("pk", flat=True).first()
        if found is None:
            raise naming.no_connection(key)
        return found.hex
    if of == "deployments":
        application, _, environment = key.partition("/")
        return str(find_deployment(application, environment).pk)
    try:
        row = UUID(key).hex
    except ValueError as error:
        raise not_found(of[:-1]) from error
    if subject(of, row) is None:
        raise not_found(of[:-1])
    return row


_FIELDS = {"kind": "kind", "over": "over"}


@router.get("/decommissionings", response=Decommissionings)
def decommissionings(
    request: HttpRequest, words: str = "", cursor: str | None = None
) -> Decommissionings:
    """What is being decommissioned and what was, newest first; filtered by plain words and field
    words (``kind:connections over:no``).
    """
    guard.need(request, "look")
    asked = filter_words.read(words, _FIELDS)
    rows: QuerySet[Decommissioning] = filtering.apply(
        Decommissioning.objects.defer("history"),
        asked,
        {"kind": "of__startswith"},
        ("name__icontains", "where__icontains"),
    )
    for word in asked:
        if word.field == "over":
            rows = rows.filter(ended__isnull=not filtering.holds(word))
    found, following = page(rows, "begun", cursor, descending=True, then="id")
    items = [DecommissioningRow(**_row_fields(each)) for each in found]
    return Decommissionings(items=items, next=following)


@router.post("/decommissionings", response={201: DecommissioningOut})
def begin(request: HttpRequest, body: DecommissionIn) -> tuple[int, DecommissioningOut]:
    """Begin to decommission something, or go on with what was begun. Nothing is changed yet."""
    by = guard.need(request, "change")
    return 201, _out(services.begin(by, body.of, _row(body.of, body.key)))


@router.get("/decommissionings/{identity}", response=DecommissioningOut)
def decommissioning(request: HttpRequest, identity: UUID) -> DecommissioningOut:
    """How far one is, and what is kept of what is gone."""
    guard.need(request, "look")
    return _out(_find(identity))


@router.post("/decommissionings/{identity}/confirmations", response=DecommissioningOut)
def confirm(request: HttpRequest, identity: UUID, body: ReasonIn) -> DecommissioningOut:
    """Confirm that what uses it may stop, with the reason where something still does."""
    by = guard.need(request, "change")
    return _out(services.confirm(by, _find(identity), body.reason))


@router.post("/decommissionings/{identity}/revocations", response=DecommissioningOut)
def revoke(request: HttpRequest, identity: UUID, body: RevocationIn) -> DecommissioningOut:
    """Revoke something of it, or say that it was revoked at the application."""
    by = guard.need(request, "change")
    return _out(services.revoke(by, _find(identity), body.key))


@router.post("/decommissionings/{identity}/proofs", response=DecommissioningOut)
def prove(request: HttpRequest, identity: UUID) -> DecommissioningOut:
    """Try what was revoked; ``proof`` says what was seen."""
    by = guard.need(request, "change")
    found, _ = services.prove(by, _find(identity))
    return _out(found)


@router.post("/decommissionings/{identity}/exceptions", response=DecommissioningOut)
def go_on_unproven(request: HttpRequest, identity: UUID, body: ReasonIn) -> DecommissioningOut:
    """Go on though it could not be seen that it is refused, with the reason."""
    by = guard.need(request, "change")
    return _out(services.go_on_unproven(by, _find(identity), body.reason))


@router.post("/decommissionings/{identity}/completions", response=DecommissioningOut)
def end(request: HttpRequest, identity: UUID, body: DecommissionEnd) -> DecommissioningOut:
    """Forget its secrets, keep its history and take it away."""
    by = guard.need(request, "change")
    return _out(services.end(by, _find(identity), body.confirm, body.with_also))


@router.delete("/decommissionings/{identity}", response=DecommissioningOut)
def cancel(request: HttpRequest, identity: UUID) -> DecommissioningOut:
    """Stop decommissioning it. What was revoked stays revoked."""
    by = guard.need(request, "change")
    return _out(services.cancel(by, _find(identity)))
