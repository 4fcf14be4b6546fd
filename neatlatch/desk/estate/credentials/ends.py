"""The end of a secret, where people have to say when it is."""

from __future__ import annotations

from datetime import datetime

from django.db import transaction

from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write


def told_by(credential: Credential) -> str:
    """Return who else says when it ends, as a sentence; empty: people do."""
    if credential.kind == "private_key":
        return "It expires with its certificate (RFC 5280 §4.1.2.5)."
    if credential.digest:
        return "The house authority set its expiry when it was issued."
    client = credential.client
    if credential.source == "registered" and client is not None and client.managed:
        return "The application set its expiry when it gave the secret (RFC 7591 §3.2.1)."
    return ""


@transaction.atomic
def set_end(by: Actor, credential: Credential, ends: datetime | None) -> Credential:
    """Record when a secret ends (``None``: no expiry date known). Raises :class:`Problem`."""
    credential = (
        Credential.objects.select_for_update()
        .select_related("client")
        .defer("value")
        .get(pk=credential.pk)
    )
    if said := told_by(credential):
        raise Problem(409, "Its end is not set here.", said, code="expiry-not-set-here")
    if not credential.lives:
        raise Problem(
            409,
            "This secret is not active any more.",
            "A change of its expiry has no effect.",
            code="secret-not-active",
        )
    if credential.ends != ends:
        was, credential.ends = credential.ends, ends
        credential.save(update_fields=["ends"])
        about = {
            "id": credential.pk,
            "was": was and was.isoformat(),
            "ends": ends and ends.isoformat(),
        }
        write(by, "set the expiry of", "credential", credential.hint, about)
    return credential
