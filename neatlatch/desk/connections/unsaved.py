"""What an application gave and could not be saved, with the names of what it was for."""

from __future__ import annotations

import contextlib
from datetime import datetime
from uuid import UUID

from ninja import Schema

from neatlatch.desk.clients.models import Client
from neatlatch.desk.common import won

from .models import Connection

_MOST = 20


class UnsavedOut(Schema):
    """One thing: a connection's token or a client's secret, and when the application gave it. ``note`` is how ``nlatch safe unsaved`` calls it.

    Where what it was for is gone, or cannot be read from the note's name, ``ref`` and ``client`` are empty.
    """

    note: str
    since: datetime
    ref: str
    client: UUID | None
    name: str


def unsaved() -> list[UnsavedOut]:
    """The oldest of them; there are hardly ever any."""
    return [_named(one) for one in sorted(won.unsaved(), key=lambda one: one.since)[:_MOST]]


def _named(one: won.Unsaved) -> UnsavedOut:
    kind, _, rest = one.about.partition("-")
    with contextlib.suppress(ValueError):
        if kind == "client":
            client = Client.objects.filter(pk=UUID(rest)).first()
            if client is not None:
                return UnsavedOut(note=one.name, since=one.since, ref="", client=client.pk, name=client.name)
        if kind == "tokens":
            connection = Connection.objects.filter(pk=UUID(rest.rpartition("-")[0])).first()
            if connection is not None:
                return UnsavedOut(note=one.name, since=one.since, ref=connection.ref, client=None, name=connection.ref)
    return UnsavedOut(note=one.name, since=one.since, ref="", client=None, name="")
