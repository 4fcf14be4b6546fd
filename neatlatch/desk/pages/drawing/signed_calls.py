"""Signed calls on a connection's page: what they are checked with, and what came of it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from django.db.models import Max
from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from neatlatch.desk.estate.connections import naming
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground import guard
from neatlatch.desk.work.drawing import signed_calls
from neatlatch.desk.work.drawing.models import CheckedCalls, Drawn

router = Router(tags=["drawing"])
# Workloads that are named, the latest first.
_MOST = 20


@dataclass(frozen=True, kw_only=True)
class SigningSecretOut:
    """A signing secret that calls may be signed with."""

    credential: UUID
    hint: str
    ends: datetime | None
    put_in: datetime
    put_in_by: str
    state: str


@dataclass(frozen=True, kw_only=True)
class CheckedForOut:
    """A workload that had calls checked, and when last."""

    workload: UUID
    name: str
    last: datetime


@dataclass(frozen=True, kw_only=True)
class SignedCallsOut:
    """How the application signs its calls (``signs``: its profile says so), with what they are
    checked, and what came of it. ``signature`` is the header field, ``content`` what is signed,
    ``tolerance`` in seconds (0: no time is signed).
    """

    signs: bool
    method: str
    signature: str
    content: str
    tolerance: int
    held: list[SigningSecretOut]
    accepted: int
    accepted_at: datetime | None
    rejected: int
    rejected_at: datetime | None
    rejected_says: str
    checked_for: list[CheckedForOut]


@dataclass(frozen=True, kw_only=True)
class SigningSecretMade:
    """Where a signing secret that was made here is shown once."""

    handover: UUID


def _connection(ref: str) -> Connection:
    rows = Connection.objects.select_related("deployment__application").prefetch_related(
        "held_secrets__credential"
    )
    found = rows.filter(ref=ref).first()
    if found is None:
        raise naming.no_connection(ref)
    return found


@router.get("/connections/{ref:ref}/signed-calls", response=SignedCallsOut)
def of_connection(request: HttpRequest, ref: str) -> SignedCallsOut:
    """What the calls that an application signs are checked with, and what came of it."""
    guard.need(request, "look")
    found = _connection(ref)
    rule = signed_calls.rule_of(found)
    told = rule.effective if rule else None
    counted = CheckedCalls.objects.filter(connection=found).first() or CheckedCalls()
    return SignedCallsOut(
        signs=rule is not None,
        method=told.method if told else "",
        signature=told.header if told else "",
        content=told.content if told else "",
        tolerance=told.tolerance if told and told.timestamp_header else 0,
        held=[
            SigningSecretOut(
                credential=secret.pk,
                hint=secret.hint,
                ends=secret.ends,
                put_in=secret.issued,
                put_in_by=secret.put_in_by,
                state=secret.state,
            )
            for secret in signed_calls.accepted_secrets(found, timezone.now())
        ],
        accepted=counted.accepted,
        accepted_at=counted.accepted_at,
        rejected=counted.rejected,
        rejected_at=counted.rejected_at,
        rejected_says=counted.rejected_says,
        checked_for=_checked_for(found),
    )


def _checked_for(connection: Connection) -> list[CheckedForOut]:
    rows = Drawn.objects.filter(connection=connection.pk, way=signed_calls.CHECK)
    latest = dict(rows.values_list("workload").annotate(at=Max("last")).order_by("-at")[:_MOST])
    names = dict(Workload.objects.filter(pk__in=latest).values_list("pk", "name"))
    return [
        CheckedForOut(workload=pk, name=names[pk], last=at)
        for pk, at in latest.items()
        if pk in names
    ]


@router.post("/connections/{ref:ref}/signing-secrets", response={201: SigningSecretMade})
def make(request: HttpRequest, ref: str) -> tuple[int, SigningSecretMade]:
    """Make a signing secret, for an application that lets the caller choose it."""
    by = guard.need(request, "put_secrets")

    def create() -> tuple[int, SigningSecretMade]:
        handover = signed_calls.make_secret(by, _connection(ref))
        return 201, SigningSecretMade(handover=handover.pk)

    return guard.repeatable(request, {"ref": ref}, create, alone=True)
