"""What a file declares of a credential. Its value is in no file: one not in the safe is awaited."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any
from uuid import UUID

from django.db import transaction
from django.utils import timezone

from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.journal.services import DeclaredChange, write

_FIELDS = ("secret_id", "state", "source", "put_in_by", "public_key")


def check(key: str) -> UUID:
    """Check how a file names a credential; its ID. Raises a field error."""
    try:
        return UUID(key)
    except ValueError as error:
        raise wrong_fields(
            {"id": "a credential is named by the ID that it has in the safe"}
        ) from error


@transaction.atomic
def credential(
    by: Actor,
    identity: UUID,
    client: Client | None,
    fields: Mapping[str, Any],
    declared_change: DeclaredChange,
) -> Credential:
    """Make or change what is known of a credential; those that hold it are worked out anew."""
    found = Credential.objects.select_for_update().filter(pk=identity).first()
    if found is None:
        found = Credential(
            pk=identity, value=b"", fingerprint="", kind=fields["kind"], client=client
        )
    for name in _FIELDS:
        setattr(found, name, fields[name])
    found.hint = fields["hint"][:10]
    found.issued, found.ends = moment(fields["issued"]) or timezone.now(), moment(fields["ends"])
    found.save()
    declared_change.write(by, "credential", str(identity))
    return found


@transaction.atomic
def remove(by: Actor, credential: Credential) -> None:
    """Remove a credential, its value too. Raises ``ProtectedError`` while a connection holds it."""
    client = credential.client.name if credential.client else ""
    write(by, "removed", "credential", credential.hint, {"id": credential.pk, "client": client})
    credential.delete()


def moment(text: str) -> datetime | None:
    """A moment out of a file; empty: none."""
    return datetime.fromisoformat(text) if text else None
