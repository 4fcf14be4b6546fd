"""Finding applications, connections, clients and pages by name as one types."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema

from neatlatch.desk.applications.models import Application
from neatlatch.desk.clients.models import Client
from neatlatch.desk.connections.models import Connection

from . import guard

router = Router(tags=["find"])
_PAGES = (("Today", "/"), ("Applications", "/applications"), ("Connections", "/connections"), ("Credentials", "/credentials"), ("Rounds", "/rounds"),
          ("People", "/people"))  # fmt: skip
_MOST = 5


class Found(Schema):
    """Something that was found, and its address."""

    name: str
    kind: str
    address: str


@router.get("/finds", response=list[Found])
def find(request: HttpRequest, words: str) -> list[dict[str, Any]]:
    """What has all the words in its name: connections first, then applications, clients and pages. Three queries."""
    guard.need(request, "look")
    connections, applications, clients = (
        Connection.objects.order_by("ref"),
        Application.objects.order_by("name"),
        Client.objects.order_by("name"),
    )
    for word in words.split()[:8]:
        connections = connections.filter(ref__icontains=word)
        applications = applications.filter(name__icontains=word)
        clients = clients.filter(name__icontains=word) | clients.filter(client_id__icontains=word)
    pages = [one for one in _PAGES if all(word.lower() in one[0].lower() for word in words.split())]
    return (
        [{"name": one.ref, "kind": "connection", "address": f"/connections/{one.ref}"} for one in connections[:_MOST]]
        + [{"name": one.name, "kind": "application", "address": f"/applications/{one.key}"} for one in applications[:_MOST]]
        + [{"name": f"{one.name} {one.client_id}".strip(), "kind": "client", "address": f"/clients/{one.pk}"} for one in clients[:_MOST]]
        + [{"name": name, "kind": "page", "address": address} for name, address in pages]
    )
