"""Rights to register clients of the house by protocol (RFC 7591 §3), and registering with one."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from neatlatch.core import house_key
from neatlatch.core.authority import ceiling, telling
from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import CODE
from neatlatch.desk.authority.records.house.models import RegistrationRight
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common.actors import BY_PROTOCOL, Actor
from neatlatch.desk.ground.journal.services import write

from . import issuing

# Reads what was asked for, out of the scopes and grants that may be asked for. Raises Refused.
Read = Callable[[frozenset[str], frozenset[str]], ClientMetadata]


@dataclass(frozen=True)
class RegisteredByProtocol:
    """A client that was registered by protocol; its secret (empty: a public client) and the token
    that it manages itself with (RFC 7592 §3) are told this once."""

    client: Client
    credential: Credential | None
    secret: str = field(repr=False)
    management: str = field(repr=False)


@transaction.atomic
def give(
    by: Actor,
    deployment: Deployment,
    uses: int,
    days: int,
    most: ceiling.Ceiling = ceiling.Ceiling(),
) -> tuple[RegistrationRight, str]:
    """Let somebody register so many clients for so many days, which may have so much at ``most``;
    answers the right and its token, which is shown this once."""
    value, now = secrets.token_urlsafe(32), timezone.now()
    made = RegistrationRight.objects.create(
        digest=house_key.digest(value),
        hint=f"…{value[-4:]}",
        deployment=deployment,
        made_by=by.username,
        made=now,
        ends=now + timedelta(days=days),
        left=uses,
        ceiling=most.as_plain(),
    )
    about = {
        "environment": deployment.environment.name,
        "clients": uses,
        "days": days,
        "at most": most.as_plain(),
    }
    write(by, "made a right to register at", "application", deployment.application.key, about)
    return made, value


@transaction.atomic
def take_away(by: Actor, right: RegistrationRight) -> None:
    """Take a right to register away."""
    write(by, "removed a right to register at", "application", right.deployment.application.key)
    right.delete()


@transaction.atomic
def register(
    environment: Environment, shown: str, read: Read, now: datetime
) -> RegisteredByProtocol:
    """Register a client with the token of a right, which has one use less then. Raises
    :class:`RequestRefused`."""
    rows = RegistrationRight.objects.select_for_update()
    rows = rows.select_related("deployment__application", "deployment__environment")
    right = rows.filter(digest=house_key.digest(shown), deployment__environment=environment).first()
    if right is None or right.ends <= now or right.left < 1:
        why = "unknown" if right is None else "used up or ended"
        raise RequestRefused("invalid_token", "", 401, f"registration right {why}")
    allowed = ceiling.read(right.ceiling)
    known = allowed.scopes_of(
        scope.name for scope in right.deployment.application.read_profile().scopes
    )
    fields = read(known, allowed.grants_of(telling.GRANTS))
    client = issuing.new_client(BY_PROTOCOL, right.deployment, fields, CODE)
    management = secrets.token_urlsafe(32)
    client.management_digest, client.ceiling = house_key.digest(management), right.ceiling
    client.save(update_fields=["management_digest", "ceiling"])
    value, credential = ("", None) if client.public else issuing.mint_for_protocol(client)
    RegistrationRight.objects.filter(pk=right.pk).update(left=right.left - 1)
    return RegisteredByProtocol(client, credential, value, management)
