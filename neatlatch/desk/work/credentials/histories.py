"""What is known of credentials: rows of the list with their findings, and the whole
life of one.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from django.db import connection as database
from django.db.models import Max, Q

from neatlatch.core import credential_marks
from neatlatch.desk.authority.handovers import as_receipt
from neatlatch.desk.estate.connections.halves import secret_taken_at
from neatlatch.desk.estate.credentials import ends
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client, of_their_kinds
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common.quick_rows import Reading, hang, hang_one, join, moment
from neatlatch.desk.ground.journal.models import ABOUT, Entry
from neatlatch.desk.ground.people.models import Owner
from neatlatch.desk.work.credentials.shown import (
    CredentialMarkOut,
    CredentialOut,
    DrawnByOut,
    LifeOut,
    OwnerFrom,
)
from neatlatch.desk.work.drawing.models import Drawn
from neatlatch.desk.work.replacing.models import Replacement

from .shown import WholeCredentialOut


@dataclass(frozen=True)
class SightedCredential:
    """A credential with what its marks are worked out from."""

    credential: Credential
    known: credential_marks.CredentialFacts
    connections: tuple[str, ...]


_credentials = Reading(Credential, "t.id IN {keys}", but=("value",), order="t.id")
_hints = Reading(Credential, "t.id IN {keys}", only=("hint",))
_after = Reading(Credential, "t.replaces_id IN {keys}", only=("hint", "replaces"), order="t.issued")
_clients = Reading(
    Client,
    "t.id IN {keys}",
    only=(
        "kind",
        "name",
        "client_id",
        "deployment",
        "workload",
        "account",
        "account_kind",
        "contacts",
    ),
)
_deployments = Reading(Deployment, "t.id IN {keys}", only=("application", "environment"))
_applications = Reading(Application, "t.id IN {keys}", only=("key", "name"))
_environments = Reading(Environment)
_workloads = Reading(Workload, "t.id IN {keys}", only=("name", "owner"))
_owners = Reading(Owner, "t.id IN {keys}", only=("name",))
_handovers = Reading(
    Handover, "t.credential_id IN {keys}", only=("credential", "ends", "shown", "closed")
)
_holders = Reading(HeldSecret, "t.credential_id IN {keys}")
_connections = Reading(
    Connection,
    "t.id IN {keys}",
    only=("ref", "scheme", "proven_at", "secret_taken_at", "changed_at"),
)
_tokens = Reading(TokenSet, "t.connection_id IN {keys}", only=("connection", "obtained"))
# Where the very same values are held, by their fingerprints; and when each of some credentials was
# last drawn with.
_HELD_IN = """SELECT DISTINCT c.fingerprint, e.name, a.name FROM credentials_credential c
    JOIN connections_heldsecret h ON h.credential_id = c.id
    JOIN connections_connection n ON n.id = h.connection_id
    JOIN applications_place p ON p.id = n.place_id
    JOIN applications_environment e ON e.id = p.environment_id
    JOIN applications_application a ON a.id = p.application_id
    WHERE c.fingerprint IN (SELECT value FROM json_each(%s))"""
_DRAWN_WITH = (
    "SELECT credential, max(last) FROM drawing_drawn WHERE credential IN (SELECT value FROM "
    "json_each(%s)) GROUP BY credential"
)


def sighted(keys: Collection[UUID]) -> list[SightedCredential]:
    """These credentials, some hundreds at the most, with what their marks are worked out from.

    As many queries for a hundred as for one.
    """
    found = _credentials(keys)
    join(
        found,
        "client",
        {
            of_kind.pk: of_kind
            for of_kind in of_their_kinds(
                _clients({credential.client_id for credential in found if credential.client_id})
            )
        },
    )
    _with_holders(found)
    hang_one(found, "handover", _handovers(keys), "credential_id")
    held: dict[str, set[tuple[str, str]]] = {}
    with database.cursor() as cursor:
        fingerprints = json.dumps(sorted({credential.fingerprint for credential in found} - {""}))
        for fingerprint, environment, application in cursor.execute(
            _HELD_IN, [fingerprints]
        ).fetchall():
            held.setdefault(fingerprint, set()).add((environment, application))
        drawn = {
            key: moment(last)
            for key, last in cursor.execute(
                _DRAWN_WITH, [json.dumps([str(key) for key in keys])]
            ).fetchall()
        }
    return [
        _sighted(credential, held.get(credential.fingerprint, set()), drawn.get(str(credential.pk)))
        for credential in found
    ]


def _with_names(credentials: list[Credential]) -> None:
    """What a row tells beside: whose it is, where its client stands, and what it replaces."""
    clients = [credential.client for credential in credentials if credential.client is not None]
    deployments, workloads = (
        _deployments({client.deployment_id for client in clients}),
        _workloads({client.workload_id for client in clients if client.workload_id}),
    )
    owners = {credential.owner_id for credential in credentials} | {
        workload.owner_id for workload in workloads
    }
    known = {owner.pk: owner for owner in _owners(owners - {None})}
    join(
        deployments,
        "application",
        {
            application.pk: application
            for application in _applications(
                {deployment.application_id for deployment in deployments}
            )
        },
    )
    join(
        deployments, "environment", {environment.pk: environment for environment in _environments()}
    )
    join(workloads, "owner", known)
    join(clients, "deployment", {deployment.pk: deployment for deployment in deployments})
    join(clients, "workload", {workload.pk: workload for workload in workloads})
    join(credentials, "owner", known)
    join(
        credentials,
        "replaces",
        {
            hint.pk: hint
            for hint in _hints(
                {credential.replaces_id for credential in credentials if credential.replaces_id}
            )
        },
    )


def _with_holders(credentials: list[Credential]) -> None:
    holders = _holders(credential.pk for credential in credentials)
    connections = _connections({holder.connection_id for holder in holders})
    hang(
        connections,
        "token_sets",
        _tokens(connection.pk for connection in connections),
        "connection_id",
    )
    join(holders, "connection", {connection.pk: connection for connection in connections})
    hang(credentials, "holders", holders, "credential_id")


def rows(keys: Collection[UUID], now: datetime) -> dict[UUID, CredentialOut]:
    """Credentials for a page of the list, each with its marks, by their keys."""
    found = sighted(keys)
    _with_names([shown.credential for shown in found])
    after = {credential.replaces_id: credential.hint for credential in _after(keys)}
    return {
        shown.credential.pk: _row(shown, after.get(shown.credential.pk, ""), now) for shown in found
    }


def _taken_at(connection: Connection) -> datetime | None:
    """When the application last took what a connection holds now; a private key, and each secret,
    is sent with the others.
    """
    at = secret_taken_at(connection)
    return at if at is not None and at >= connection.changed_at else None


def _sighted(
    credential: Credential, held_in: Collection[tuple[str, str]], drawn: datetime | None
) -> SightedCredential:
    client, connections = (
        credential.client,
        sorted({holder.connection.ref for holder in credential.holders.all()}),
    )
    handover = getattr(credential, "handover", None)
    tests = (_taken_at(holder.connection) for holder in credential.holders.all())
    known = credential_marks.CredentialFacts(
        issued=credential.issued,
        ends=credential.ends,
        lives=credential.lives,
        held=bool(connections),
        last_used=max(
            (moment for moment in (credential.last_used, drawn, *tests) if moment), default=None
        ),
        environments=frozenset(environment for environment, _ in held_in),
        of_a_person=bool(client and client.account_kind == "person"),
        waits=bool(
            credential.lives
            and handover
            and handover.ends
            and not handover.shown
            and not handover.closed
        ),
        draws=bool(client and client.workload_id),
        applications=frozenset(application for _, application in held_in),
        weak=credential.weak,
    )
    return SightedCredential(credential, known, tuple(connections))


def _row(sighted: SightedCredential, replaced_by: str, now: datetime) -> CredentialOut:
    one, client = sighted.credential, sighted.credential.client
    owner, owner_from = _owner_of(one)
    return CredentialOut(
        id=one.pk,
        kind=one.kind,
        house=bool(one.digest),
        hint=one.hint,
        application=client.deployment.application.name if client else "",
        environment=client.deployment.environment.name if client else "",
        client=client.name if client else "",
        client_id=client.client_id if client else "",
        client_key=client.pk if client else None,
        connections=list(sighted.connections),
        workload=client.workload_id if client else None,
        workload_name=client.workload.name if client and client.workload else "",
        state=one.state,
        issued=one.issued,
        ends=one.ends,
        over=one.ends is not None and one.ends <= now,
        lives=one.lives,
        source=one.source,
        put_in_by=one.put_in_by,
        owner=owner,
        owner_from=owner_from,
        last_used=sighted.known.last_used,
        replaces=one.replaces.hint if one.replaces else "",
        replaced_by=replaced_by,
        marks=[
            CredentialMarkOut(key=mark.key, says=mark.says, grave=mark.grave)
            for mark in credential_marks.marks(sighted.known, now)
        ],
    )


def _owner_of(credential: Credential) -> tuple[str, OwnerFrom]:
    """Whose it is, and how that is known: as somebody said, else whose the workload is that draws
    with it, else what is noted of the account.
    """
    client = credential.client
    if credential.owner is not None:
        return credential.owner.name, "said"
    if client is None:
        return "", ""
    if client.workload is not None:
        return str(client.workload.owner_name or client.workload.name), "workload"
    noted = client.account or ", ".join(client.contacts[:1])
    return noted, "account" if noted else ""


def drawn_by(credentials: Iterable[UUID]) -> dict[UUID, list[DrawnByOut]]:
    """Which workloads drew each of them, and when last, the latest first.

    Two queries, however many there are.
    """
    found: dict[UUID, list[DrawnByOut]] = {credential: [] for credential in credentials}
    drawn = (
        Drawn.objects.filter(credential__in=[str(identity) for identity in found])
        .values("credential", "workload")
        .annotate(latest=Max("last"))
    )
    facts = list(drawn.order_by("-latest"))
    names = dict(
        Workload.objects.filter(pk__in={fact["workload"] for fact in facts}).values_list(
            "pk", "name"
        )
    )
    for fact in facts:
        known = fact["workload"] in names
        found[UUID(fact["credential"])].append(
            DrawnByOut(
                workload=fact["workload"] if known else None,
                name=names[fact["workload"]] if known else "a workload that is gone",
                last=fact["latest"],
            )
        )
    return found


def whole(credential: Credential, now: datetime) -> WholeCredentialOut:
    """One credential: its row, who drew it, its receipt, and what the journal says of it, oldest
    first.
    """
    row = rows([credential.pk], now)[credential.pk]
    after = (
        Credential.objects.defer("value").filter(replaces=credential).order_by("-issued").first()
    )
    client = credential.client
    said = Q(about=str(credential.pk)) | Q(
        noun="credential", ref=credential.hint, details__client=client.client_id if client else ""
    )
    entries = [
        LifeOut(
            at=entry.at,
            who=entry.who,
            did=entry.did,
            why=str(
                entry.details.get("why")
                or entry.details.get("reason")
                or entry.details.get("to")
                or ""
            ),
        )
        for entry in Entry.objects.alias(about=ABOUT).filter(said).order_by("number")[:200]
    ]
    if not any(entry.did == "made" for entry in entries):
        by = credential.put_in_by or "the application"
        entries.insert(
            0,
            LifeOut(
                at=credential.issued,
                who=by,
                did="entered it" if credential.source == "pasted" else "was given it",
                why="",
            ),
        )
    handover = getattr(credential, "handover", None)
    shown = {**vars(row), "replaced_by": after.hint if after else ""}
    return WholeCredentialOut(
        **shown,
        also_held_by=_other_holders(credential),
        sealed=credential.value is not None,
        fingerprint=credential.fingerprint[:16],
        named=credential.secret_id,
        public_key=credential.public_key,
        end_told_by=ends.told_by(credential),
        why=credential.why,
        revoked=credential.revoked,
        reveals=bool(client and client.deployment.environment.reveals),
        life=entries,
        receipt=as_receipt(handover) if handover else None,
        drawn_by=drawn_by([credential.pk])[credential.pk],
        replaces_key=credential.replaces_id,
        replaced_by_key=after.pk if after else None,
        replacement=Replacement.objects.filter(old=credential, outcome="open")
        .values_list("pk", flat=True)
        .first(),
    )


def _other_holders(credential: Credential) -> list[str]:
    """The connections that hold the very same value, put in there apart from this one."""
    if not credential.fingerprint:
        return []
    others = HeldSecret.objects.filter(credential__fingerprint=credential.fingerprint).exclude(
        credential=credential
    )
    return list(
        others.order_by("connection__ref")
        .values_list("connection__ref", flat=True)
        .distinct()[:100]
    )
