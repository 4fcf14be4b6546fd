"""Leaked tokens: those that connections hold, refresh tokens of the house, and tokens that manage a
registration. They are recognised like other secrets, and what is held sealed is opened for it, one
after the other.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from datetime import datetime
from typing import Any

from neatlatch.core import leak, lifetimes
from neatlatch.desk.authority.records.house.models import Refresh
from neatlatch.desk.estate.connections.halves import published
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, SetAside, TokenSet
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.credentials.shown import (
    LeakedFamilyOut,
    LeakedHeldTokenOut,
    LeakedManagingOut,
)


def _is(sealed: bytes | memoryview[int] | None, place: str, prints: Collection[str]) -> bool:
    if sealed is None:
        return False
    try:
        return safe.fingerprint(safe.unseal(sealed, place).reveal()) in prints
    except safe.CannotOpen:
        return False


def held_tokens(prints: Collection[str], now: datetime) -> list[LeakedHeldTokenOut]:
    """Tokens that connections hold, or have set aside, by their fingerprints."""
    found = [
        (token_set.pk, field)
        for token_set in TokenSet.objects.only(
            "connection", "person", "access", "refresh"
        ).iterator()
        for field in ("access", "refresh")
        if _is(getattr(token_set, field), token_set.place_of(field), prints)
    ]
    rows = TokenSet.objects.defer("access", "refresh").select_related(*_SHOWN, "person")
    sets = {
        row.pk: row
        for row in rows.filter(pk__in=[pk for pk, _ in found]).prefetch_related(
            "connection__uses__workload"
        )
    }
    served = [
        _leaked_token(sets[pk].connection, field == "refresh", sets[pk].ends, sets[pk].person, now)
        for pk, field in found
        if pk in sets
    ]
    return served + _set_aside(prints, now)


_SHOWN = ("connection__deployment__application", "connection__client__deployment")


def _set_aside(prints: Collection[str], now: datetime) -> list[LeakedHeldTokenOut]:
    found = []
    for set_aside in SetAside.objects.select_related(*_SHOWN).prefetch_related(
        "connection__uses__workload"
    ):
        try:
            kept = set_aside.open_tokens()
        except safe.CannotOpen:
            continue
        ends = lifetimes.ends(set_aside.at, kept.get("expires_in"))
        found += [
            replace(
                _leaked_token(set_aside.connection, field == "refresh_token", ends, None, now),
                set_aside=True,
                after="nobody is stopped, for nothing uses it",
            )
            for field in ("access_token", "refresh_token")
            if kept.get(field) and safe.fingerprint(str(kept[field])) in prints
        ]
    return found


def _leaked_token(
    connection: Connection,
    refresh: bool,
    access_ends: datetime | None,
    person: Person | None,
    now: datetime,
) -> LeakedHeldTokenOut:
    ends, public = (
        None if refresh else access_ends,
        bool(connection.client and connection.client.public),
    )
    worth = leak.token_of_connection(connection.scheme, refresh, ends, public, now)
    can_end = published(
        connection.deployment, connection.client, "revocation_endpoint", connection.slots
    )
    return LeakedHeldTokenOut(
        ref=connection.ref,
        set_aside=False,
        application=connection.deployment.application.name,
        refresh=refresh,
        person=person.username if person else "",
        person_name=person.shown_name if person else "",
        ends=ends,
        alive=worth.lives,
        says=worth.says,
        after=worth.after,
        ends_there=bool(can_end),
        workloads=sorted(use.name for use in connection.uses.all()),
    )


def of_house(digests: Collection[str], now: datetime) -> list[LeakedFamilyOut]:
    """What people allowed clients of the house, by its refresh tokens.

    ``spent``: only old ones were found; anyone who shows one again ends the whole family (RFC 9700
    §4.14.2).
    """
    families: dict[Any, list[Refresh]] = {}
    for refresh in Refresh.objects.select_related("grant__client", "grant__person").filter(
        digest__in=digests
    ):
        families.setdefault(refresh.grant_id, []).append(refresh)
    found = []
    for tokens in families.values():
        grant, good = tokens[0].grant, [token for token in tokens if token.ends > now]
        found.append(
            LeakedFamilyOut(
                id=grant.pk,
                client=grant.client.name,
                client_key=grant.client_id,
                person=grant.person.shown_name,
                public=grant.client.public,
                alive=grant.revoked is None and bool(good),
                spent=all(grant.used is not None for grant in good),
            )
        )
    return found


def managing(prints: Collection[str], digests: Collection[str]) -> list[LeakedManagingOut]:
    """Tokens that manage a registration (RFC 7592 §3): kept sealed where we are the client, as a
    digest where the house is the provider.
    """
    ours = [
        client
        for client in Client.objects.exclude(management_token=None).select_related(
            "deployment__application"
        )
        if _is(client.management_token, client.token_place, prints)
    ]
    theirs = (
        Client.objects.filter(management_digest__in=digests)
        .exclude(management_digest="")
        .select_related("deployment__application")
    )
    return [
        LeakedManagingOut(
            client=client.name,
            client_key=client.pk,
            application=client.deployment.application.name,
            house=client.house,
        )
        for client in [*ours, *theirs]
    ]
