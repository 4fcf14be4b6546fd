"""Tests, rounds, and what stands on Today."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from django.conf import settings
from django.db.models import Count, Q
from django.http import HttpRequest
from ninja import Router

from neatlatch.core.evidence import Rung
from neatlatch.desk.estate.lookups import find_connection, find_environment
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.given import Given
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.pages.applications import EnvironmentOut, environment_out
from neatlatch.desk.work.rounds import services
from neatlatch.desk.work.rounds.models import Round, Test
from neatlatch.desk.work.rounds.tasks import start_round, start_test

router = Router(tags=["rounds"])
_IN_MY_NAME = 50


@dataclass(frozen=True, kw_only=True)
class TestOut:
    """A test with its evidence; secrets in it are masked."""

    id: UUID
    connection: str
    round: int | None
    begun_by: str
    begun: datetime | None
    ended: datetime | None
    state: str
    passed: bool | None
    rungs: list[dict[str, Any]]
    diagnosis: dict[str, Any] | None


@dataclass(frozen=True, kw_only=True)
class TestRow:
    """A test in a list."""

    id: UUID
    begun: datetime | None
    state: str
    passed: bool | None
    rung: str
    cause: str
    ms: float


@dataclass(frozen=True, kw_only=True)
class InMyName:
    """A test that signed in with an account of my own."""

    connection: str
    begun: datetime | None
    begun_by: str
    state: str
    passed: bool | None


@dataclass(frozen=True, kw_only=True)
class PermissionOut:
    """Whether rounds may do real work in an environment, at connections that permit it too."""

    environment: EnvironmentOut
    permitted: bool


@dataclass(frozen=True, kw_only=True)
class RoundRules:
    """How often a round begins by itself, in minutes, and where rounds may do real work."""

    every_minutes: float
    environments: list[PermissionOut]


class PermissionIn(Given):
    """Whether rounds may do real work in it."""

    permitted: bool


@dataclass(frozen=True, kw_only=True)
class RoundOut:
    """A round and its counts."""

    number: int
    begun: datetime
    ended: datetime | None
    begun_by: str
    stopped: bool
    total: int
    done: int
    failed: int


@dataclass(frozen=True, kw_only=True)
class Rounds:
    """A page of rounds, newest first."""

    items: list[RoundOut]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class RoundTest:
    """A test of a round."""

    connection: str
    state: str
    passed: bool | None
    test: UUID
    says: str


@dataclass(frozen=True, kw_only=True)
class RoundFull(RoundOut):
    """A round with its tests."""

    tests: list[RoundTest]


def test_out(test: Test) -> TestOut:
    """A test as the page wants it."""
    return TestOut(
        id=test.pk,
        connection=test.connection.ref,
        round=test.round_id,
        begun_by=test.begun_by,
        begun=test.begun,
        ended=test.ended,
        state=test.state,
        passed=test.passed,
        rungs=test.rungs,
        diagnosis=test.diagnosis,
    )


def find_test(identity: UUID) -> Test:
    """A test, or a 404."""
    found = Test.objects.select_related("connection").filter(pk=identity).first()
    if found is None:
        raise problems.not_found("test")
    return found


@router.post("/connections/{ref}/tests", response={202: TestOut})
def begin(request: HttpRequest, ref: str, last: str = "") -> tuple[int, TestOut]:
    """Begin a test; watch it at ``/api/tests/{id}/events``. ``last`` is the rung to stop after: ``sign_in`` tries the credential alone."""
    by = guard.need(request, "test")
    if last and last not in [one.value for one in Rung]:
        raise problems.wrong_fields({"last": f"A rung is one of {', '.join(one.value for one in Rung)}."})
    return 202, test_out(start_test(by, find_connection(ref), last))


@router.get("/connections/{ref}/tests", response=list[TestRow])
def of_connection(request: HttpRequest, ref: str) -> list[TestRow]:
    """The last tests of a connection, newest first."""
    guard.need(request, "look")
    rows = find_connection(ref).tests.exclude(begun=None).order_by("-made")[:20]
    found = []
    for one in rows:
        failed = next((rung for rung in one.rungs if not rung["passed"]), None)
        found.append(
            TestRow(
                id=one.pk,
                begun=one.begun,
                state=one.state,
                passed=one.passed,
                rung=failed["rung"] if failed else "",
                cause=(one.diagnosis or {}).get("cause_class", ""),
                ms=round(sum(rung["ms"] for rung in one.rungs), 1),
            )
        )
    return found


@router.get("/rounds/permissions", response=RoundRules)
def permissions(request: HttpRequest) -> RoundRules:
    """How often a round begins, and in which environments rounds may do real work."""
    guard.need(request, "look")
    return RoundRules(every_minutes=settings.ROUND_MINUTES, environments=[_permission(one) for one in Environment.objects.all()])


@router.put("/rounds/permissions/{environment}", response=PermissionOut)
def permit(request: HttpRequest, environment: str, given: PermissionIn) -> PermissionOut:
    """Permit or forbid that rounds do real work in an environment."""
    by = guard.need(request, "change")
    return _permission(services.permit_work(by, find_environment(environment), given.permitted))


def _permission(one: Environment) -> PermissionOut:
    return PermissionOut(environment=environment_out(one), permitted=one.work_in_rounds)


@router.get("/accounts/tests", response=list[InMyName])
def in_my_name(request: HttpRequest) -> list[InMyName]:
    """The last tests that signed in with an account of my own, newest first."""
    by = guard.need(request, "look")
    rows = Test.objects.filter(person=by).exclude(begun=None).select_related("connection").order_by("-made").defer("rungs", "diagnosis")
    return [
        InMyName(connection=one.connection.ref, begun=one.begun, begun_by=one.begun_by, state=one.state, passed=one.passed)
        for one in rows[:_IN_MY_NAME]
    ]


@router.get("/tests/{identity}", response=TestOut)
def test(request: HttpRequest, identity: UUID) -> TestOut:
    """A test and its evidence."""
    guard.need(request, "look")
    return test_out(find_test(identity))


@router.post("/tests/{identity}/stops", response=TestOut)
def stop(request: HttpRequest, identity: UUID) -> TestOut:
    """Stop a running test."""
    by = guard.need(request, "test")
    return test_out(services.stop_test(by, find_test(identity)))


COUNTS = {
    "total": Count("tests"),
    "done": Count("tests", filter=Q(tests__state__in=(Test.State.DONE, Test.State.STOPPED))),
    "failed": Count("tests", filter=Q(tests__passed=False)),
}


def round_out(one: Any) -> RoundOut:
    """A round that was fetched with its counts."""
    return RoundOut(
        number=one.number,
        begun=one.begun,
        ended=one.ended,
        begun_by=one.begun_by,
        stopped=one.stopped,
        total=one.total,
        done=one.done,
        failed=one.failed,
    )


def round_full(number: int) -> RoundFull:
    """A round with its tests, or a 404."""
    found = Round.objects.annotate(**COUNTS).filter(number=number).first()
    if found is None:
        raise problems.not_found("round")
    tests = []
    for one in Test.objects.filter(round_id=number).select_related("connection").order_by("connection__ref"):
        failed = next((rung for rung in one.rungs if not rung["passed"]), None)
        says = (
            f"{failed['rung'].replace('_', ' ')}: {failed['says']}"
            if failed
            else (one.rungs[-1]["rung"].replace("_", " ") if one.rungs and one.passed is None else "")
        )
        tests.append(RoundTest(connection=one.connection.ref, state=one.state, passed=one.passed, test=one.pk, says=says))
    return RoundFull(**vars(round_out(found)), tests=tests)


@router.get("/rounds", response=Rounds)
def rounds(request: HttpRequest, cursor: str | None = None) -> Rounds:
    """Rounds, newest first."""
    guard.need(request, "look")
    found, following = page(Round.objects.annotate(**COUNTS), "number", cursor, limit=50, descending=True)
    return Rounds(items=[round_out(one) for one in found], next=following)


@router.post("/rounds", response={202: RoundFull})
def begin_round(request: HttpRequest) -> tuple[int, RoundFull]:
    """Begin a round over all connections now; watch it at ``/api/rounds/{number}/events``."""
    by = guard.need(request, "test")
    return 202, round_full(start_round(by).number)


@router.get("/rounds/{number}", response=RoundFull)
def one_round(request: HttpRequest, number: int) -> RoundFull:
    """A round with its tests."""
    guard.need(request, "look")
    return round_full(number)


@router.post("/rounds/{number}/stops", response=RoundFull)
def stop_round(request: HttpRequest, number: int) -> RoundFull:
    """Stop a round."""
    by = guard.need(request, "test")
    found = Round.objects.filter(number=number).first()
    if found is None:
        raise problems.not_found("round")
    services.stop_round(by, found)
    return round_full(number)
