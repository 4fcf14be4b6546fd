"""Tests, rounds, and what stands on Today."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from django.conf import settings
from django.db.models import F, Q, QuerySet, TextField
from django.db.models.expressions import RawSQL
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.core.evidence import Rung
from neatlatch.desk.estate.lookups import find_connection, find_environment
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out
from neatlatch.desk.work.rounds import services
from neatlatch.desk.work.rounds.models import Round, Test
from neatlatch.desk.work.rounds.tasks import start_round, start_test

router = Router(tags=["rounds"])
_IN_MY_NAME = 50
# Letters that a list shows of what a rung saw.
_MOST_SAID = 300


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
class TestInMyName:
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


class PermissionIn(RequestBody):
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
    """A test of a round; ``says``: where it stopped."""

    connection: str
    state: str
    passed: bool | None
    test: UUID
    says: str


@dataclass(frozen=True, kw_only=True)
class RoundTests:
    """A page of a round's tests, by connection."""

    items: list[RoundTest]
    next: str | None


def test_out(test: Test) -> TestOut:
    """A test as the page shows it."""
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


@router.post("/connections/{ref:ref}/tests", response={202: TestOut})
def begin(request: HttpRequest, ref: str, last: str = "") -> tuple[int, TestOut]:
    """Begin a test; watch it at ``/api/tests/{id}/events``.

    ``last`` is the rung to stop after: ``sign_in`` tries the credential alone.
    """
    by = guard.need(request, "test")
    if last and last not in [rung.value for rung in Rung]:
        raise problems.wrong_fields(
            {"last": f"A rung is one of {', '.join(rung.value for rung in Rung)}."}
        )
    return 202, test_out(start_test(by, find_connection(ref), last))


@router.get("/connections/{ref:ref}/tests", response=list[TestRow])
def of_connection(request: HttpRequest, ref: str) -> list[TestRow]:
    """The last tests of a connection, newest first."""
    guard.need(request, "look")
    rows = find_connection(ref).tests.exclude(begun=None).order_by("-made")[:20]
    found = []
    for row in rows:
        failed = next((rung for rung in row.rungs if not rung["passed"]), None)
        found.append(
            TestRow(
                id=row.pk,
                begun=row.begun,
                state=row.state,
                passed=row.passed,
                rung=failed["rung"] if failed else "",
                cause=(row.diagnosis or {}).get("cause_class", ""),
                ms=round(sum(rung["ms"] for rung in row.rungs), 1),
            )
        )
    return found


@router.get("/rounds/permissions", response=RoundRules)
def permissions(request: HttpRequest) -> RoundRules:
    """How often a round begins, and in which environments rounds may do real work."""
    guard.need(request, "look")
    return RoundRules(
        every_minutes=settings.ROUND_MINUTES,
        environments=[_permission(environment) for environment in Environment.objects.all()],
    )


@router.put("/rounds/permissions/{environment}", response=PermissionOut)
def permit(request: HttpRequest, environment: str, body: PermissionIn) -> PermissionOut:
    """Permit or forbid that rounds do real work in an environment."""
    by = guard.need(request, "change")
    return _permission(services.permit_work(by, find_environment(environment), body.permitted))


def _permission(environment: Environment) -> PermissionOut:
    return PermissionOut(
        environment=environment_out(environment), permitted=environment.work_in_rounds
    )


@router.get("/accounts/tests", response=list[TestInMyName])
def in_my_name(request: HttpRequest) -> list[TestInMyName]:
    """The last tests that signed in with an account of my own, newest first."""
    by = guard.need_person(request, "look")
    rows = (
        Test.objects.filter(person=by)
        .exclude(begun=None)
        .select_related("connection")
        .order_by("-made")
        .defer("rungs", "diagnosis")
    )
    return [
        TestInMyName(
            connection=row.connection.ref,
            begun=row.begun,
            begun_by=row.begun_by,
            state=row.state,
            passed=row.passed,
        )
        for row in rows[:_IN_MY_NAME]
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


def rounds_out(rounds: Sequence[Round]) -> list[RoundOut]:
    """Rounds with their counts. Two queries."""
    counts = services.counts_of([begun_round.number for begun_round in rounds])
    return [
        RoundOut(
            number=begun_round.number,
            begun=begun_round.begun,
            ended=begun_round.ended,
            begun_by=begun_round.begun_by,
            stopped=begun_round.stopped,
            total=counts[begun_round.number].total,
            done=counts[begun_round.number].done,
            failed=counts[begun_round.number].failed,
        )
        for begun_round in rounds
    ]


def _round(number: int) -> RoundOut:
    found = Round.objects.filter(number=number).first() if 0 < number < 2**63 else None
    if found is None:
        raise problems.not_found("round")
    return rounds_out([found])[0]


@router.get("/rounds", response=Rounds)
def rounds(request: HttpRequest, cursor: str | None = None) -> Rounds:
    """Rounds, newest first."""
    guard.need(request, "look")
    found, following = page(Round.objects.all(), "number", cursor, limit=50, descending=True)
    return Rounds(items=rounds_out(found), next=following)


@router.post("/rounds", response={202: RoundOut})
def begin_round(request: HttpRequest) -> tuple[int, RoundOut]:
    """Begin a round over all connections now; watch it at ``/api/rounds/{number}/events``."""
    by = guard.need(request, "test")
    return 202, _round(start_round(by).number)


@router.get("/rounds/{number}", response=RoundOut)
def one_round(request: HttpRequest, number: int) -> RoundOut:
    """A round with its counts."""
    guard.need(request, "look")
    return _round(number)


@router.get("/rounds/{number}/tests", response=RoundTests)
def those_of_round(
    request: HttpRequest, number: int, cursor: str | None = None, words: str = ""
) -> HttpResponse:
    """The tests of a round, by connection; filtered by plain words and how they went
    (``state:failed``).
    """
    guard.need(request, "look")
    found = _round(number)
    rows = Test.objects.filter(round_id=found.number)
    for word in filter_words.read(words, {"state": "state"}):
        wanted = (
            _WENT.get(word.text, Q(state=word.text))
            if word.field
            else Q(connection__ref__icontains=word.text)
        )
        rows = rows.exclude(wanted) if word.without else rows.filter(wanted)
    told: QuerySet[Any] = rows.annotate(ref=F("connection__ref"), **_LAST_RUNG).values_list(
        "pk", "state", "passed", "ref", *_LAST_RUNG, named=True
    )
    items, following = page(told, "connection__ref", cursor)
    return written(RoundTests(items=[_round_test(item) for item in items], next=following))


_WENT = {"failed": Q(passed=False), "passed": Q(passed=True)}
# A test stops at the first rung that fails, so the last is the one to tell of.
_LAST_RUNG = {
    f"last_{name}": RawSQL(
        f"json_extract(rounds_test.rungs, '$[#-1].{name}')", [], output_field=TextField()
    )
    for name in ("rung", "says")
}


def _round_test(row: Any) -> RoundTest:
    rung = (row.last_rung or "").replace("_", " ")
    says = (
        f"{rung}: {row.last_says}"[:_MOST_SAID]
        if row.passed is False
        else rung
        if row.passed is None
        else ""
    )
    return RoundTest(connection=row.ref, state=row.state, passed=row.passed, test=row.pk, says=says)


@router.post("/rounds/{number}/stops", response=RoundOut)
def stop_round(request: HttpRequest, number: int) -> RoundOut:
    """Stop a round."""
    by = guard.need(request, "test")
    found = Round.objects.filter(number=number).first() if 0 < number < 2**63 else None
    if found is None:
        raise problems.not_found("round")
    services.stop_round(by, found)
    return _round(number)
