"""Leftovers of tests: list, retry, close."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from django.http import HttpRequest
from ninja import Router, Schema

from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.given import Given
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.work.rounds import leftovers
from neatlatch.desk.work.rounds.models import Leftover

router = Router(tags=["rounds"])


class LeftoverOut(Schema):
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
    known: Leftover.Known
    made: datetime
    method: str
    address: str
    status: int | None
    tried: datetime | None
    tries: int
    stuck: bool
    test: UUID

    @staticmethod
    def resolve_ref(row: Leftover) -> str:
        """Return the connection's reference name."""
        return row.connection.ref

    @staticmethod
    def resolve_application(row: Leftover) -> str:
        """Return the application's name."""
        return row.connection.place.application.name

    @staticmethod
    def resolve_environment(row: Leftover) -> str:
        """Return the environment's name."""
        return row.connection.place.environment.name

    @staticmethod
    def resolve_name(row: Leftover) -> str:
        """Return its name; rows of earlier versions have the test's mark only."""
        return row.name or f"TEST-{str(row.test_id)[:8]}"

    @staticmethod
    def resolve_test(row: Leftover) -> UUID:
        """Return the ID of the test that made it."""
        return row.test_id


class Leftovers(Schema):
    """A page of leftovers, newest first."""

    items: list[LeftoverOut]
    next: str | None


class ClearingOut(Schema):
    """What a retry of clearing came to. ``status``: the application's answer."""

    gone: bool
    status: int | None


class ClosingIn(Given):
    """Why a leftover is taken from the list."""

    reason: str


def _find(number: int) -> Leftover:
    row = leftovers.listed().filter(pk=number).first()
    if row is None:
        raise problems.not_found("leftover")
    return row


@router.get("/leftovers", response=Leftovers)
def list_leftovers(request: HttpRequest, cursor: str | None = None) -> dict[str, object]:
    """List what tests have left behind, newest first."""
    guard.need(request, "look")
    rows, following = page(leftovers.listed(), "id", cursor, limit=50, descending=True)
    return {"items": rows, "next": following}


@router.post("/leftovers/{number}/clearings", response=ClearingOut)
def clear(request: HttpRequest, number: int) -> dict[str, object]:
    """Retry clearing a leftover away at the application."""
    by = guard.need(request, "test")
    row = _find(number)
    gone = leftovers.clear(by, row)
    return {"gone": gone, "status": row.status}


@router.post("/leftovers/{number}/closings", response={204: None})
def close(request: HttpRequest, number: int, given: ClosingIn) -> tuple[int, None]:
    """Take a leftover from the list, for a reason that the journal keeps."""
    by = guard.need(request, "test")
    leftovers.close(by, _find(number), given.reason)
    return 204, None
