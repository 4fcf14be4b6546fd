"""Leftovers of tests: list, retry, close."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from django.http import HttpRequest
from ninja import Router

from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.work.rounds import leftovers
from neatlatch.desk.work.rounds.models import Leftover

router = Router(tags=["rounds"])


@dataclass(frozen=True, kw_only=True)
class LeftoverOut:
    """Something that a test made and that is not known to be gone.

    ``known`` is what answers have shown: ``asked`` (its making was sent), ``made`` or ``seen``.
    ``status`` is the last answer to clearing it; ``stuck``: the worker does not retry.
    """

    id: int
    ref: str
    application: str
    environment: str
    name: str
    operation: str
    known: Leftover.LeftoverEvidence
    made: datetime
    method: str
    address: str
    status: int | None
    tried: datetime | None
    tries: int
    stuck: bool
    test: UUID


@dataclass(frozen=True, kw_only=True)
class Leftovers:
    """A page of leftovers, newest first."""

    items: list[LeftoverOut]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class ClearingOut:
    """What a retry of clearing came to. ``status``: the application's answer."""

    gone: bool
    status: int | None


class ClosingIn(RequestBody):
    """Why a leftover is taken from the list."""

    reason: str


def _leftover_out(row: Leftover) -> LeftoverOut:
    deployment = row.connection.deployment
    return LeftoverOut(
        id=row.pk,
        ref=row.connection.ref,
        application=deployment.application.name,
        environment=deployment.environment.name,
        # Rows of earlier versions have the test's mark only.
        name=row.name or f"TEST-{str(row.test_id)[:8]}",
        operation=row.operation,
        known=Leftover.LeftoverEvidence(row.known),
        made=row.made,
        method=row.method,
        address=row.address,
        status=row.status,
        tried=row.tried,
        tries=row.tries,
        stuck=row.stuck,
        test=row.test_id,
    )


def _find(number: int) -> Leftover:
    row = leftovers.listed().filter(pk=number).first()
    if row is None:
        raise problems.not_found("leftover")
    return row


@router.get("/leftovers", response=Leftovers)
def list_leftovers(request: HttpRequest, cursor: str | None = None) -> Leftovers:
    """List what tests have left behind, newest first."""
    guard.need(request, "look")
    rows, following = page(leftovers.listed(), "id", cursor, limit=50, descending=True)
    return Leftovers(items=[_leftover_out(row) for row in rows], next=following)


@router.post("/leftovers/{number}/retries", response=ClearingOut)
def clear(request: HttpRequest, number: int) -> ClearingOut:
    """Retry clearing a leftover away at the application."""
    by = guard.need(request, "test")
    row = _find(number)
    gone = leftovers.clear(by, row)
    return ClearingOut(gone=gone, status=row.status)


@router.post("/leftovers/{number}/closures", response={204: None})
def close(request: HttpRequest, number: int, body: ClosingIn) -> tuple[int, None]:
    """Take a leftover from the list, for a reason that the journal keeps."""
    by = guard.need(request, "test")
    leftovers.close(by, _find(number), body.reason)
    return 204, None
