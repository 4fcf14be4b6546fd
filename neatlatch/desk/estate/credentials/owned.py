"""Whose a credential is."""

from __future__ import annotations

from django.db import transaction

from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people import owners


@transaction.atomic
def give(by: Actor, credential: Credential, owner: str) -> Credential:
    """Say whose a credential is, as :func:`owners.named` reads it; empty: nobody's own. Raises a
    field error."""
    rows = Credential.objects.select_for_update().select_related("owner").defer("value")
    credential = rows.get(pk=credential.pk)
    before, credential.owner = credential.owner, owners.named(owner)
    if credential.owner == before:
        return credential
    credential.save(update_fields=["owner"])
    about = {
        "id": credential.pk,
        "was": before.name if before is not None else "",
        "owner": credential.owner.name if credential.owner is not None else "",
    }
    write(by, "set the owner of", "credential", credential.hint, about)
    return credential
