"""Checking the calls that applications sign and send to the firm's programs.

A program hands such a call over as it came, and is told whether the application sent it; the
signing secret stays in the safe.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import F, Q
from django.utils import timezone

from neatlatch.core import signed_calls
from neatlatch.core.schemes import SIGNING_SECRET
from neatlatch.core.signed_calls import SignedCalls, Verdict
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.credentials.services import new_handover
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem

from .models import CheckedCalls, SeenCall
from .services import WorkloadCaller, record_draw

# How a check stands among the draws.
CHECK = "check"
# How long a call with an ID is known again: longer than senders usually repeat one that nobody
# took (common practice, no source); and one without ID and time.
KNOWN_BY_ID, KNOWN_BY_SIGNATURE = timedelta(days=3), timedelta(days=1)
# Octets of the secrets that are made here.
_OCTETS = 32
# Rows that are over and are forgotten with each check.
_FORGOTTEN = 50


@dataclass(frozen=True)
class AcceptedCall:
    """A call that the application sent.

    ``id`` and ``sent_at`` are its own (empty: it sends none). ``seen_at``: when the same call was
    accepted before (``None``: it is new); the sender repeats one that it holds for lost.
    """

    id: str
    sent_at: datetime | None
    seen_at: datetime | None


def rule_of(connection: Connection) -> SignedCalls | None:
    """How the application of a connection signs its calls; ``None``: its profile does not say."""
    return connection.deployment.application.read_profile().signed_calls


def accepted_secrets(connection: Connection, now: datetime) -> list[Credential]:
    """The signing secrets that calls of a connection may be signed with, the one held first: while
    one is replaced by another, both.
    """
    held = connection.secrets().get(SIGNING_SECRET)
    if held is None:
        return []
    either = Q(pk=held.pk) | Q(replaces=held) | Q(replaced_by=held)
    rows = Credential.objects.filter(
        either, kind=SIGNING_SECRET, state__in=Credential.LETS_IN, value__isnull=False
    ).distinct()
    living = [row for row in rows if row.ends is None or row.ends > now]
    return sorted(living, key=lambda row: row.pk != held.pk)


def check(
    asker: WorkloadCaller, connection: Connection, headers: Mapping[str, str], body: bytes
) -> AcceptedCall:
    """Check a call that a program received, and record what came of it. Raises :class:`Problem`
    where the application did not send it so, or nobody can tell.
    """
    rule, now = rule_of(connection), timezone.now()
    if rule is None:
        raise _unsigned()
    held = accepted_secrets(connection, now)
    if not held:
        raise Problem(
            409,
            "No signing secret is held that could check this call.",
            "None was put in, or it has expired. An administrator puts it in on the connection's "
            "page.",
            code="no-signing-secret",
        )
    small = {name.lower(): value for name, value in headers.items()}
    verdict = signed_calls.check(rule, small, body, [one.open().reveal() for one in held], now)
    if not verdict.accepted:
        _record_rejected(asker, connection, verdict, now)
        raise Problem(
            422,
            "This call is not one that the application signed.",
            verdict.says,
            code="call-rejected",
            reason=verdict.fault,
        )
    seen_at = _record_accepted(connection, verdict, rule, now)
    record_draw(asker, connection, str(held[verdict.secret].pk), CHECK)
    return AcceptedCall(verdict.id, verdict.at, seen_at)


def _unsigned() -> Problem:
    return Problem(
        409,
        "This application does not sign what it sends.",
        "Where it does, its profile says how, under signed_calls.",
        code="calls-not-signed",
    )


@transaction.atomic
def _record_accepted(
    connection: Connection, verdict: Verdict, rule: SignedCalls, now: datetime
) -> datetime | None:
    over = SeenCall.objects.filter(ends__lte=now).values_list("pk", flat=True)[:_FORGOTTEN]
    SeenCall.objects.filter(pk__in=list(over)).delete()
    known = KNOWN_BY_ID if verdict.id else KNOWN_BY_SIGNATURE
    if verdict.at is not None and not verdict.id:
        known = timedelta(seconds=2 * rule.tolerance)
    row, is_new = SeenCall.objects.get_or_create(
        connection=connection, digest=verdict.digest, defaults={"at": now, "ends": now + known}
    )
    _count(connection, accepted=F("accepted") + 1, accepted_at=now)
    return None if is_new else row.at


@transaction.atomic
def _record_rejected(
    asker: WorkloadCaller, connection: Connection, verdict: Verdict, now: datetime
) -> None:
    _count(
        connection,
        rejected=F("rejected") + 1,
        rejected_at=now,
        rejected_says=f"{verdict.says} Checked for {asker.workload.name}."[:300],
    )


def _count(connection: Connection, **fields: object) -> None:
    CheckedCalls.objects.get_or_create(connection=connection)
    CheckedCalls.objects.filter(connection=connection).update(**fields)


@transaction.atomic
def make_secret(by: Actor, connection: Connection) -> Handover:
    """Make a signing secret where the application lets us choose it, and hold it; returns the
    handover in which it is shown once. Raises :class:`Problem`.
    """
    rule = rule_of(connection)
    if rule is None:
        raise _unsigned()
    if SIGNING_SECRET in connection.secrets():
        raise Problem(
            409,
            "A signing secret is held already.",
            "Replace it: both are accepted until the old one is retired.",
            code="signing-secret-held",
        )
    text = signed_calls.new_secret(rule, secrets.token_bytes(_OCTETS))
    connection, _ = connections.put_secret(by, connection, text, key=SIGNING_SECRET)
    held = Connection.objects.get(pk=connection.pk).secrets()[SIGNING_SECRET]
    return new_handover(by, held)
