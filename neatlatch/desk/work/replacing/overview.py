"""What is known of a replacement: who holds a credential, how a second one can be had and what that
costs, how far it is, and what was seen of the old one.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from django.db.models import Max, Min
from django.utils import timezone

from neatlatch.core import exchanging
from neatlatch.core.exchanging import HoldingWorkload, Preview, ReplacementProgress, Way
from neatlatch.core.schemes import SIGNING_SECRET, Value
from neatlatch.desk.authority.records.house.models import Access
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.work.drawing.models import Drawn

from .models import Replacement

PROTOCOL_KINDS = ("client_secret",)


def holders(credential: Credential) -> list[HeldSecret]:
    """Where a credential is held by our connections: the very same value, under whichever entry it
    stands.
    """
    same = (
        {"credential__fingerprint": credential.fingerprint}
        if credential.fingerprint
        else {"credential": credential}
    )
    rows = HeldSecret.objects.filter(**same).select_related(
        "connection__deployment__application",
        "connection__deployment__environment",
        "connection__client",
        "credential",
    )
    return list(rows.order_by("connection__ref"))


def _profile(credential: Credential, held: list[HeldSecret]) -> Any:
    deployment = (
        held[0].connection.deployment
        if held
        else credential.client.deployment
        if credential.client
        else None
    )
    return deployment.application.read_profile() if deployment is not None else None


def options(credential: Credential, held: list[HeldSecret]) -> list[Way]:
    """How a second one can be had, the best first."""
    if credential.kind == SIGNING_SECRET:
        return ["hand"] if held else []
    client = _client(credential, held)
    if client is not None and client.house:
        # A certificate that no connection here holds is renewed on its own page: nobody here could
        # see it in use.
        return ["house"] if held or credential.kind != "private_key" else []
    found: list[Way] = []
    if (
        client is not None
        and client.managed
        and client.management_token is not None
        and credential.kind in PROTOCOL_KINDS
    ):
        found.append("protocol")
    return [*found, "hand"] if held else found


def _client(credential: Credential, held: list[HeldSecret]) -> Client | None:
    return credential.client or next(
        (held_secret.connection.client for held_secret in held if held_secret.connection.client),
        None,
    )


def previews(credential: Credential, now: datetime) -> list[Preview]:
    """What each way would do, said before anything is started."""
    held = holders(credential)
    profile = _profile(credential, held)
    if profile is None:
        return []
    workloads = [
        HoldingWorkload(use.workload.name, use.workload.draws, use.workload.runs)
        for holder in held
        for use in holder.connection.uses.select_related("workload")
    ]
    ends = TokenSet.objects.filter(
        connection__in=[holder.connection_id for holder in held]
    ).aggregate(at=Max("ends"))["at"]
    scheme = (
        held[0].connection.scheme if held else credential.client.scheme if credential.client else ""
    )
    spread = timedelta(seconds=profile.limits.spread)
    if credential.kind == SIGNING_SECRET:
        return [exchanging.preview_of_signing()] if options(credential, held) else []
    return [
        exchanging.preview(
            way,
            scheme,
            profile.limits.live_secrets,
            spread,
            workloads,
            ends,
            now,
            credential.kind == "private_key",
        )
        for way in options(credential, held)
    ]


def manual_acts(credential: Credential, overlaps: bool) -> list[str]:
    """The numbered acts in the application's own screens."""
    held = holders(credential)
    client = _client(credential, held)
    application = (
        held[0].connection.deployment.application.name
        if held
        else client.deployment.application.name
        if client
        else "the application"
    )
    whose = f"“{client.name}”" if client else "our account"
    return list(
        exchanging.acts(application, whose, credential.kind, credential.secret_id, overlaps)
    )


def name_of(replacement: Replacement) -> Value | None:
    """What the application knows such a secret by, if it is by more than its value."""
    for connection, key in connections_with_keys(replacement):
        scheme = connection.deployment.application.read_profile().scheme(connection.scheme)
        if scheme is not None and (found := scheme.name_of(key)) is not None:
            return found
    return None


def connections_with_keys(replacement: Replacement) -> list[tuple[Connection, str]]:
    """The connections that held the old one when it began, with the key of the value, those that
    still exist.
    """
    found = {
        str(connection.pk): connection
        for connection in Connection.objects.select_related("deployment__application").filter(
            pk__in=[holder[0] for holder in replacement.holders]
        )
    }
    return [(found[identity], key) for identity, key, _ in replacement.holders if identity in found]


def workloads_of(replacement: Replacement) -> list[HoldingWorkload]:
    """The workloads of the connections that it is about; of a signing secret those that have calls
    checked with it, for nobody else is concerned.
    """
    rows = Connection.objects.filter(
        pk__in=[holder[0] for holder in replacement.holders]
    ).prefetch_related("uses__workload")
    workloads = {use.workload for row in rows for use in row.uses.all()}
    if replacement.old.kind == SIGNING_SECRET:
        workloads = {workload for workload in workloads if workload.pk in _checking(replacement)}
    moved = [
        HoldingWorkload(workload.name, workload.draws, workload.runs, str(workload.pk))
        for workload in workloads
    ]
    return sorted(moved, key=lambda moved: (moved.name, moved.workload))


def _checking(replacement: Replacement) -> set[UUID]:
    """The workloads that had a call checked with the old one, or have with the new one."""
    both = [str(replacement.old_id), str(replacement.new_id or "")]
    rows = Drawn.objects.filter(credential__in=both).values_list("workload", flat=True)
    return set(rows.distinct())


def standing(replacement: Replacement) -> ReplacementProgress:
    """How far it is, with what was seen of the old one."""
    same = [credential for _, _, credential in replacement.holders] + [str(replacement.old_id)]
    drawn = Drawn.objects.filter(credential__in=same).aggregate(last=Max("last"))["last"]
    used = Credential.objects.filter(pk__in=same).aggregate(last=Max("last_used"))["last"]
    tokens = Access.objects.filter(
        credential__in=same, revoked=None, ends__gt=timezone.now()
    ).aggregate(last=Max("ends"))["last"]
    workloads = workloads_of(replacement)
    by_hand = tuple(
        workload.name
        for workload in workloads
        if not workload.draws and workload.name not in replacement.moved
    )
    come = _come(replacement)
    drawing = [workload for workload in workloads if workload.draws]
    not_seen = tuple(workload.name for workload in drawing if workload.workload not in come)
    return ReplacementProgress(
        replacement.overlaps,
        replacement.made,
        replacement.proven,
        replacement.switched,
        replacement.retired,
        replacement.refused,
        by_hand,
        max((moment for moment in (drawn, used) if moment), default=None),
        tokens,
        max((come[workload.workload] for workload in drawing), default=None)
        if not not_seen
        else None,
        not_seen,
        replacement.old.kind == SIGNING_SECRET,
    )


def _come(replacement: Replacement) -> dict[str, datetime]:
    """The workloads that drew the new one since the switch, and by when each first had.

    Draws are kept by the hour: within the first one, a workload's first is told by their latest.
    """
    if replacement.new_id is None or replacement.switched is None:
        return {}
    rows = Drawn.objects.filter(credential=str(replacement.new_id), last__gte=replacement.switched)
    first = rows.values_list("workload").annotate(Min("last"))
    return {str(workload): at for workload, at in first}


def connections_of(replacement: Replacement) -> list[Connection]:
    """The connections that it is about, by reference name."""
    rows = Connection.objects.filter(
        pk__in=[holder[0] for holder in replacement.holders]
    ).select_related("deployment__application")
    return list(rows.order_by("ref"))


def open_ones(credentials: Iterable[Any]) -> dict[Any, Any]:
    """The replacements that are under way, by the old credential."""
    return dict(
        Replacement.objects.filter(old__in=credentials, outcome="open").values_list("old_id", "pk")
    )
