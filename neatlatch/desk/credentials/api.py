"""Credentials, and the handover of a new one."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any
from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router, Schema

from neatlatch.core import filter_words
from neatlatch.desk.common import filtering, guard, problems

from . import services
from .models import Credential, Handover

router = Router(tags=["credentials"])


class CredentialOut(Schema):
    """A credential, without its value."""

    id: UUID
    kind: str
    hint: str
    application: str
    environment: str
    client: str
    client_id: str
    connections: list[str]
    state: str
    issued: datetime
    ends: datetime | None
    over: bool
    source: str
    put_in_by: str


class HandoverOut(Schema):
    """Where a handover stands."""

    id: UUID
    client: str
    client_name: str
    hint: str
    ends: datetime | None
    shown: datetime | None
    closed: datetime | None


class Shown(Schema):
    """A new secret, this once."""

    value: str
    hide_after_seconds: int


def _shape(handover: Handover) -> dict[str, Any]:
    credential = handover.credential
    return {"id": handover.pk, "client": str(credential.client_id), "client_name": credential.client.name if credential.client else "", "hint": credential.hint,
            "ends": credential.ends, "shown": handover.shown, "closed": handover.closed}  # fmt: skip


def _find(identity: UUID) -> Handover:
    found = Handover.objects.select_related("credential__client").filter(pk=identity).first()
    if found is None:
        raise problems.not_found("handover")
    return found


FIELDS = {"kind": "kind", "env": "env", "environment": "env", "app": "app", "application": "app", "used": "used", "over": "over", "ends": "ends",
          "connection": "connection", "by": "by", "state": "state"}  # fmt: skip
PICKED: dict[str, Callable[[dict[str, Any]], Any]] = {
    "kind": lambda one: one["kind"], "env": lambda one: one["environment"], "app": lambda one: one["application"], "used": lambda one: bool(one["connections"]),
    "over": lambda one: one["over"], "ends": lambda one: one["ends"] is not None, "connection": lambda one: " ".join(one["connections"]),
    "by": lambda one: one["put_in_by"], "state": lambda one: one["state"],
}  # fmt: skip


def _plain(one: dict[str, Any]) -> str:
    return " ".join(
        (
            one["hint"],
            one["kind"].replace("_", " "),
            one["application"],
            one["environment"],
            one["client"],
            one["client_id"],
            *one["connections"],
        )
    )


@router.get("/credentials", response=list[CredentialOut])
def credentials(request: HttpRequest, words: str = "") -> list[dict[str, Any]]:
    """All credentials, what ends soonest first; filtered by plain words and field words (``kind:api_key env:production used:no over:yes``). Three
    queries, however many there are."""
    guard.need(request, "look")
    rows = (
        Credential.objects.defer("value")
        .select_related("client__place__application", "client__place__environment")
        .prefetch_related("holders__connection")
    )
    now = timezone.now()
    found = [
        {"id": one.pk, "kind": one.kind, "hint": one.hint, "application": one.client.place.application.name if one.client else "",
         "environment": one.client.place.environment.name if one.client else "", "client": one.client.name if one.client else "",
         "client_id": one.client.client_id if one.client else "", "connections": sorted({h.connection.ref for h in one.holders.all()}), "state": one.state,
         "issued": one.issued, "ends": one.ends, "over": one.ends is not None and one.ends <= now, "source": one.source, "put_in_by": one.put_in_by}
        for one in rows
    ]  # fmt: skip
    found = filtering.pick(found, filter_words.read(words, FIELDS), PICKED, _plain)
    return sorted(found, key=lambda one: (one["ends"] is None, one["ends"] or one["issued"]))


@router.get("/handovers/{identity}", response=HandoverOut)
def handover(request: HttpRequest, identity: UUID) -> dict[str, Any]:
    """Where a handover stands."""
    guard.need(request, "change")
    return _shape(_find(identity))


@router.post("/handovers/{identity}/showings", response=Shown)
def show(request: HttpRequest, response: HttpResponse, identity: UUID) -> dict[str, Any]:
    """Show the secret, this once."""
    by = guard.need(request, "change")
    _, value = services.show(by, _find(identity))
    response["Cache-Control"] = "no-store"
    return {"value": value, "hide_after_seconds": 60}


@router.post("/handovers/{identity}/closings", response=HandoverOut)
def close(request: HttpRequest, identity: UUID) -> dict[str, Any]:
    """“I have it”."""
    return _shape(services.close(guard.need(request, "change"), _find(identity)))
