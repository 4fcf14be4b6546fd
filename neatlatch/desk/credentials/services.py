"""Keeping secrets, and handing a new one over once."""

from __future__ import annotations

import uuid
from datetime import datetime

from django.db import transaction
from django.utils import timezone

from neatlatch.core.intake.clean import clean, suspicions
from neatlatch.core.secret import hint
from neatlatch.desk.clients.models import Client
from neatlatch.desk.common import safe
from neatlatch.desk.common.problems import Problem, wrong_fields
from neatlatch.desk.journal.services import write
from neatlatch.desk.people.models import Person

from .models import Credential, Handover


def keep(value: str, *, client: Client | None, source: str, by: str, ends: datetime | None = None, secret_id: str = "") -> Credential:
    """Seal a secret. Part of the surrounding transaction."""
    identity = uuid.uuid4()
    credential = Credential(id=identity, client=client, fingerprint=safe.fingerprint(value), hint=hint(value), source=source, ends=ends,
                            secret_id=secret_id, issued=timezone.now(), put_in_by=by)  # fmt: skip
    credential.value = safe.seal(value, credential.sealed_place)
    credential.save(force_insert=True)
    return credential


def check_pasted(pasted: str) -> tuple[str, tuple[str, ...], tuple[str, ...]]:
    """A pasted secret, cleaned: the value, what was cleaned, and what still looks wrong. Raises a field error where nothing is left."""
    cleaned = clean(pasted)
    if not cleaned.value:
        raise wrong_fields({"secret": "Nothing is left of what was pasted. Paste the secret's value."})
    return cleaned.value, cleaned.notes, suspicions(cleaned.value)


@transaction.atomic
def show(by: Person, handover: Handover) -> tuple[Credential, str]:
    """Show a new secret, this once. Raises :class:`Problem` where it was shown before."""
    handover = Handover.objects.select_for_update().select_related("credential__client").get(pk=handover.pk)
    if handover.closed or handover.shown:
        raise Problem(410, "This secret was shown before.", "It cannot be shown again. If it was lost, have a new one made.")
    handover.shown = timezone.now()
    handover.save(update_fields=["shown"])
    credential = handover.credential
    write(by, "was shown the secret", "credential", credential.hint, {"client": credential.client.name if credential.client else ""})
    return credential, credential.open().reveal()


@transaction.atomic
def close(by: Person, handover: Handover) -> Handover:
    """“I have it”: closed for good."""
    handover = Handover.objects.select_for_update().select_related("credential__client").get(pk=handover.pk)
    if handover.closed is None:
        handover.closed = timezone.now()
        handover.save(update_fields=["closed"])
        write(by, "has the secret", "credential", handover.credential.hint)
    return handover
