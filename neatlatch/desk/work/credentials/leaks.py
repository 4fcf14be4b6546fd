"""Emergency: what is known of a credential that has leaked, where it is used, and what stops.

What is pasted is looked up and not kept.
"""

from __future__ import annotations

from datetime import datetime

from django.db.models import Max, Q

from neatlatch.core import house_key, leak
from neatlatch.desk.authority.house.own import RELAY
from neatlatch.desk.authority.records.house.models import Access, RegistrationRight
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.work.credentials.shown import (
    DrawerOut,
    LeakedCredentialOut,
    LeakedRightOut,
    LeakedTokenOut,
    LeakOut,
    ReachOut,
    StopOut,
)
from neatlatch.desk.work.drawing.models import Drawn
from neatlatch.desk.work.drawing.services import undrawable

from . import leaked_tokens
from .histories import rows


def recognise(by: Actor, text: str, now: datetime) -> LeakOut:
    """What was recognised in a text, by key format, digest or keyed fingerprint.

    Only that somebody looked, and what was found, stands in the journal.
    """
    found = leak.candidates(text)
    prints, digests = (
        {safe.fingerprint(candidate) for candidate in found},
        {house_key.digest(candidate) for candidate in found},
    )
    known = list(Credential.objects.defer("value").filter(fingerprint__in=prints)) + list(
        Credential.objects.defer("value").filter(digest__in=digests)
    )
    known += list(
        Credential.objects.defer("value")
        .filter(public_key__in=leak.public_keys(text))
        .exclude(public_key="")
    )
    credentials = list({credential.pk: credential for credential in known}.values())
    tokens = list(Access.objects.select_related("client__workload").filter(digest__in=digests))
    rights = list(
        RegistrationRight.objects.select_related("deployment__application").filter(
            digest__in=digests
        )
    )
    held, families, managing = (
        leaked_tokens.held_tokens(prints, now),
        leaked_tokens.of_house(digests, now),
        leaked_tokens.managing(prints, digests),
    )
    shaped = rows([credential.pk for credential in credentials], now).values()
    by_key = {credential.pk: credential for credential in credentials}
    write(
        by,
        "looked for a leaked",
        "credential",
        ", ".join(credential.hint for credential in credentials) or "none known",
        {
            "found": len(credentials)
            + len(tokens)
            + len(rights)
            + len(held)
            + len(families)
            + len(managing)
        },
    )
    return LeakOut(
        credentials=[
            LeakedCredentialOut(
                **vars(row),
                stops=_stops(by_key[row.id], now),
                acts=list(_acts(by_key[row.id])),
                drawer=_drawer(by_key[row.id].client, now),
            )
            for row in shaped
        ],
        tokens=[
            LeakedTokenOut(
                number=token.pk,
                client=token.client.name,
                client_key=token.client_id,
                ends=token.ends,
                alive=token.revoked is None and token.ends > now,
                drawer=_drawer(token.client, now),
            )
            for token in tokens
        ],
        held=held,
        families=families,
        managing=managing,
        rights=[
            LeakedRightOut(
                id=right.pk, application=right.deployment.application.name, hint=right.hint
            )
            for right in rights
        ],
        ours_by_form=[
            _unknown_key(read)
            for read in house_key.find_in(text)
            if house_key.digest(read) not in {each.digest for each in credentials}
        ],
    )


def _unknown_key(text: str) -> str:
    read = house_key.read(text)
    return (
        f"{read.hint} has the form of a key of this house for {read.environment}, and none that "
        f"was issued here is like it"
    )


def _stops(credential: Credential, now: datetime) -> list[StopOut]:
    """For each connection that holds it: when it stops, and who is hit."""
    held = HeldSecret.objects.filter(credential__fingerprint=credential.fingerprint).select_related(
        "connection__client"
    )
    found = []
    for one in held.prefetch_related(
        "connection__uses__workload", "connection__token_sets"
    ).order_by("connection__ref"):
        connection = one.connection
        token = connection.tokens
        by_house = bool(connection.client and connection.client.house)
        when = leak.stop(
            connection.scheme, by_house, token.ends if token else None, token is not None, now
        )
        found.append(
            StopOut(
                ref=connection.ref,
                at=when.at,
                says=when.says,
                workloads=sorted(use.name for use in connection.uses.all()),
            )
        )
    return found


def _drawer(client: Client | None, now: datetime) -> DrawerOut | None:
    """Where it is what a workload draws with: the workload, what else it has to draw with, and each
    connection that anyone who has it could draw.
    """
    workload = client.workload if client else None
    if client is None or workload is None:
        return None
    others = (
        Credential.objects.defer("value")
        .filter(client__workload=workload)
        .exclude(client=client)
        .filter(Q(ends=None) | Q(ends__gt=now))
    )
    last = dict(
        Drawn.objects.filter(workload=workload.pk).values_list("connection").annotate(Max("last"))
    )
    reach = []
    uses = (
        workload.uses.exclude(connection=None)
        .select_related("connection")
        .prefetch_related("connection__token_sets")
    )
    for connection in sorted(
        (use.connection for use in uses if use.connection), key=lambda connection: connection.ref
    ):
        if undrawable(connection) is not None:
            continue
        token = connection.tokens
        left = leak.taken(connection.scheme, token.ends if token else None, token is not None, now)
        reach.append(
            ReachOut(
                ref=connection.ref,
                at=left.at,
                lasts=left.lasts,
                says=left.says,
                last=last.get(connection.pk),
            )
        )
    return DrawerOut(
        workload=workload.pk,
        name=workload.name,
        owner=workload.owner_name,
        relay=RELAY in client.scopes,
        others=len({credential.client_id for credential in others if credential.lives}),
        reach=reach,
    )


def _acts(credential: Credential) -> tuple[str, ...]:
    client = credential.client
    application = client.deployment.application.name if client else ""
    return leak.acts(application, bool(credential.digest), bool(client and client.managed))
