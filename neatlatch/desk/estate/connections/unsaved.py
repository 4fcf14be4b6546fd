"""What an application gave and could not be saved, with the names of what it was for."""

from __future__ import annotations

import contextlib
from datetime import datetime
from uuid import UUID

from ninja import Schema

from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground import won

_MOST = 20
_PLACE = ("deployment__application", "deployment__environment")


class UnsavedOut(Schema):
    """One thing: a connection's token or a client's secret, and when the application gave it.

    ``note`` is how ``nlatch safe unsaved`` calls it.

    Where what it was for is gone, or the note's name does not tell it, all but ``note`` and
    ``since`` are empty.
    """

    note: str
    since: datetime
    ref: str = ""
    client: UUID | None = None
    name: str = ""
    application: str = ""
    environment: str = ""


def unsaved() -> list[UnsavedOut]:
    """The oldest of them; there are hardly ever any."""
    return [_named(one) for one in sorted(won.unsaved(), key=lambda note: note.since)[:_MOST]]


def _named(note: won.Unsaved) -> UnsavedOut:
    found = UnsavedOut(note=note.name, since=note.since)
    kind, _, rest = note.about.partition("-")
    deployment: Deployment | None = None
    with contextlib.suppress(ValueError):
        if (
            kind == "client"
            and (client := Client.objects.select_related(*_PLACE).filter(pk=UUID(rest)).first())
            is not None
        ):
            found.client, found.name, deployment = client.pk, client.name, client.deployment
        if kind == "tokens":
            connection = (
                Connection.objects.select_related(*_PLACE)
                .filter(pk=UUID(rest.rpartition("-")[0]))
                .first()
            )
            if connection is not None:
                found.ref, found.name, deployment = (
                    connection.ref,
                    connection.ref,
                    connection.deployment,
                )
    if deployment is not None:
        found.application, found.environment = (
            deployment.application.name,
            deployment.environment.name,
        )
    return found
