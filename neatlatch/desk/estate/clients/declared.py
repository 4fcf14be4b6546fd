"""What a file declares of a client registration, or of an account, with all that follows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from uuid import UUID

from django.db import transaction
from django.utils import timezone

from neatlatch.core.authority import ceiling
from neatlatch.core.scopes import malformed
from neatlatch.desk.estate.credentials.declared import moment
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client, class_of
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.journal.services import DeclaredChange

from .services import provider_changed

_FIELDS = (
    "name",
    "contacts",
    "public",
    "client_id",
    "redirect_uris",
    "grants",
    "scopes",
    "sign_in_method",
    "consents",
    "vendor_shared",
    "state",
    "facts",
    "account",
    "account_kind",
    "rights",
    "switches",
    "allow_list",
    "ticks",
)


def check(given: Mapping[str, Any]) -> UUID:
    """Check what a file declares of a client by itself; its ID. Raises a field error."""
    if bad := sorted(scope for scope in given["scopes"] if malformed(scope)):
        says = f"“{bad[0]}” holds characters that a scope must not (RFC 6749 §3.3)"
        raise wrong_fields({"scopes": says})
    try:
        return UUID(given["id"])
    except ValueError as error:
        raise wrong_fields({"id": f"“{given['id']}” is no ID"}) from error


@transaction.atomic
def client(
    by: Actor,
    deployment: Deployment,
    found: Client | None,
    given: Mapping[str, Any],
    told: DeclaredChange,
    ref: str,
) -> Client:
    """Make a client (``found`` is none) or change it here; its connections are no longer proven.

    ``ref`` is what the journal calls it. Raises :class:`Problem`.
    """
    identity = check(given)
    if found is None:
        found = _new(deployment, identity, given)
    else:
        found = Client.objects.select_for_update().get(pk=found.pk)
    before = found.fields()
    for name in _FIELDS:
        setattr(found, name, given[name])
    if found.management_digest:
        allowed = ceiling.read(found.ceiling).after_edit(before, found.fields())
        found.ceiling = allowed.as_plain()
    found.rights_changed_at = moment(given["rights_changed_at"])
    found.scopes_changed_at = moment(given["scopes_changed_at"])
    found.version += 1
    found.changed_at, found.changed_by = timezone.now(), by.username
    found.save()
    provider_changed(found)
    told.write(by, "client", ref)
    return found


def _new(deployment: Deployment, identity: UUID, given: Mapping[str, Any]) -> Client:
    if Client.objects.filter(pk=identity).exists():
        raise wrong_fields({"id": "another client has this ID"})
    fixed = ("managed", "management_address", "scheme")
    kept = {name: given[name] for name in fixed}
    return class_of(given["scheme"])(pk=identity, deployment=deployment, version=0, **kept)
