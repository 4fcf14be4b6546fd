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

from .services import check_editable, provider_changed

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


def check(fields: Mapping[str, Any]) -> UUID:
    """Check what a file declares of a client by itself; its ID. Raises a field error."""
    if bad := sorted(scope for scope in fields["scopes"] if malformed(scope)):
        says = f"“{bad[0]}” holds characters that a scope must not (RFC 6749 §3.3)"
        raise wrong_fields({"scopes": says})
    try:
        return UUID(fields["id"])
    except ValueError as error:
        raise wrong_fields({"id": f"“{fields['id']}” is no ID"}) from error


@transaction.atomic
def client(
    by: Actor,
    deployment: Deployment,
    client: Client | None,
    fields: Mapping[str, Any],
    declared_change: DeclaredChange,
    ref: str,
) -> Client:
    """Make a client (``client`` is none) or change it here; its connections are no longer proven.

    ``ref`` is what the journal calls it. Raises :class:`Problem`.
    """
    identity = check(fields)
    if client is None:
        client = _new(deployment, identity, fields)
    else:
        client = Client.objects.select_for_update().get(pk=client.pk)
        check_editable(client)
    before = client.fields()
    for name in _FIELDS:
        setattr(client, name, fields[name])
    if client.management_digest:
        allowed = ceiling.read(client.ceiling).after_edit(before, client.fields())
        client.ceiling = allowed.as_plain()
    client.rights_changed_at = moment(fields["rights_changed_at"])
    client.scopes_changed_at = moment(fields["scopes_changed_at"])
    client.version += 1
    client.changed_at, client.changed_by = timezone.now(), by.username
    client.save()
    provider_changed(client)
    declared_change.write(by, "client", ref)
    return client


def _new(deployment: Deployment, identity: UUID, fields: Mapping[str, Any]) -> Client:
    if Client.objects.filter(pk=identity).exists():
        raise wrong_fields({"id": "another client has this ID"})
    fixed = ("managed", "management_address", "scheme")
    kept = {name: fields[name] for name in fixed}
    return class_of(fields["scheme"])(pk=identity, deployment=deployment, version=0, **kept)
