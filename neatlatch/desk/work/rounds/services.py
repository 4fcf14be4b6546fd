"""Running tests, alone and in rounds, so that being cut off at any moment loses nothing and doubles
nothing.
"""

from __future__ import annotations

import random
import secrets
from collections.abc import Collection, Iterable, Mapping
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta

import structlog
from django.conf import settings
from django.db import transaction
from django.db.models import Count, F, Func, IntegerField, Q, QuerySet
from django.utils import timezone

from neatlatch.core import diagnosis, health, oauth2
from neatlatch.core.advice import OWN
from neatlatch.core.depth import Depth
from neatlatch.core.destinations import origin
from neatlatch.core.evidence import CauseClass, Rung, RungResult, as_dict
from neatlatch.core.schemes import OAUTH2, Endpoint
from neatlatch.core.sending import Credentials
from neatlatch.desk.estate.connections import destinations, halves, tokens
from neatlatch.desk.estate.connections.limits import limits_of_tests
from neatlatch.desk.estate.connections.presented import credentials_of
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common import giving_way, owner
from neatlatch.desk.ground.common.actors import CLOCK, TEST, Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write
from neatlatch.wire.ladder import LadderRun
from neatlatch.wire.ladder_plan import FurtherEndpoint, Leftover, Plan, TestStopped
from neatlatch.wire.transport import TransportError

from . import learning, leftovers
from .models import Round, Sample, Test

log = structlog.get_logger()
# A test says that it lives at each rung; silent for longer than any call may take, it was cut off.
ALIVE = timedelta(seconds=130)
KEPT_TESTS = 50
KEPT_SAMPLES = timedelta(days=14)
# Rows that are deleted in one transaction, and such transactions in one go: the database is never
# held for long.
_BLOCK, _BLOCKS = 2_000, 50


def plan_of(connection: Connection, test: Test) -> Plan:
    """The plain values of a test."""
    profile, values = connection.deployment.application.read_profile(), connection.values
    needed = [profile.operation(name) for use in connection.uses.all() for name in use.operations]
    scheme = profile.scheme_for(connection.scheme)
    introspection = halves.published(
        connection.deployment, connection.client, "introspection_endpoint", connection.slots
    )
    held = credentials_of(connection)
    return Plan(
        scheme=connection.scheme,
        mark=f"TEST-{str(test.pk)[:8]}",
        token_endpoint=values.get("token_endpoint", ""),
        api_base=values.get("api_base", ""),
        client=tokens.client_of(connection) if connection.scheme in OAUTH2 else oauth2.Client(""),
        held=held,
        stream_address=values.get("stream_address", ""),
        rights=profile.known_rights(connection.client.rights if connection.client else ()),
        further=tuple(_further(endpoint, values, held.secrets) for endpoint in scheme.endpoints),
        last=Rung(test.last) if test.last else Rung.WORK,
        authorization_endpoint=values.get("authorization_endpoint", ""),
        introspection_endpoint=introspection
        if origin(introspection) in destinations.reachable(connection)
        else "",
        redirect_uri=values.get("redirect_uri", ""),
        scopes=frozenset(connection.scopes),
        implies=profile.implies,
        harmless=profile.harmless_call(),
        operations=profile.operations,
        needed=tuple(one for one in needed if one is not None),
        probe=profile.probe,
        fresh=_is_fresh(connection, profile.limits.spread),
        spread=float(profile.limits.spread),
        pace=connection.pace,
        depth=_depth(connection, test),
    )


def _depth(connection: Connection, test: Test) -> Depth:
    limits = limits_of_tests(connection)
    return limits.manual() if test.round_id is None and not test.by_program else limits.of_round()


def _further(
    endpoint: Endpoint, values: Mapping[str, str], opened: Mapping[str, str]
) -> FurtherEndpoint:
    own = endpoint.own(values)
    held = Credentials(endpoint.kind, own, endpoint.own(opened), endpoint.settings)
    return FurtherEndpoint(endpoint.label, own.get("api_base", ""), endpoint.harmless, held)


def _is_fresh(connection: Connection, spread: int) -> bool:
    """Whether a secret of the connection is newer than the provider's spreading time."""
    return any(
        timezone.now() - secret.issued < timedelta(seconds=spread)
        for secret in connection.sent_secrets().values()
    )


def begin_test(
    by: Actor, connection: Connection, last: str = "", *, by_program: bool = False
) -> Test:
    """Write down that a test is to be run; ``last`` is the rung to stop after (empty: the whole
    ladder).

    ``by_program``: nobody is there to look at it, so it goes as far as a round's.
    """
    with transaction.atomic():
        running = connection.tests.filter(
            state__in=(Test.State.WAITING, Test.State.RUNNING),
            round=None,
            by_program=by_program,
            made__gt=timezone.now() - ALIVE,
        ).first()
        if running is not None and not owner.is_gone(running.runner):
            return running
        if running is not None:  # its program was killed
            Test.objects.filter(pk=running.pk).update(state=Test.State.CUT, ended=timezone.now())
        name = by.username
        test = Test.objects.create(
            connection=connection, begun_by=name, last=last, by_program=by_program
        )
        write(by, "tested", "connection", connection.ref)
    return test


def _nonce() -> str:
    """A text never used before, for signatures."""
    return secrets.token_hex(12)


@dataclass
class _TestWatch:
    """Keeps a running test's row alive and notices when somebody stops it."""

    test: Test

    def stop(self) -> bool:
        """Whether somebody asked to stop."""
        asked = (
            Test.objects.filter(pk=self.test.pk).values_list("stop_asked", "round__stopped").first()
        )
        return asked is None or bool(asked[0]) or bool(asked[1])

    def rung(self, result: RungResult) -> None:
        """Save a rung as it ends."""
        self.test.rungs = [*self.test.rungs, as_dict(result)]
        self.test.alive_until = timezone.now() + ALIVE
        self.test.save(update_fields=["rungs", "alive_until"])


def run(test: Test) -> Test:
    """Climb the ladder and save what was seen.

    Safe to call again after being cut off: it starts over, and counts once.
    """
    with transaction.atomic():
        test = Test.objects.select_for_update().get(pk=test.pk)
        if test.state in (Test.State.DONE, Test.State.STOPPED):
            return test
        test.state, test.begun, test.rungs = Test.State.RUNNING, timezone.now(), []
        test.alive_until, test.runner = timezone.now() + ALIVE, owner.sign()
        test.save()
    connection = halves.with_everything(Connection.objects.filter(pk=test.connection_id)).get()
    watch, results, noted = _TestWatch(test), [], leftovers.Record(connection, test)
    plan, test.person_id = (
        plan_of(connection, test),
        tokens.whose_to_test(connection, test.begun_by),
    )
    test.save(update_fields=["person"])
    try:
        transport = destinations.transport_of(
            connection, connection.time_limit, tokens.shown(connection)
        )
    except TransportError as error:
        nowhere = RungResult(Rung.FIND, False, error.failure.detail, 0.0, failure=error.failure)
        watch.rung(nowhere)
        return _finish(test, [nowhere], None)
    with transport:
        ladder_run = LadderRun(
            plan,
            transport,
            tokens.DeskTokenSource(connection, test.person_id),
            timezone.now,
            random.random,
            _nonce,
            watch.stop,
        )
        try:
            for event in ladder_run.run():
                if isinstance(event, Leftover):
                    noted.save(event)
                else:
                    results.append(event)
                    watch.rung(event)
        except TestStopped:
            test.state, test.ended = Test.State.STOPPED, timezone.now()
            test.save(update_fields=["state", "ended"])
            return test
    return _finish(test, results, ladder_run.clock_skew, plan.depth)


@transaction.atomic
def _finish(
    test: Test, results: list[RungResult], skew: float | None, depth: Depth = Depth.WORK
) -> Test:
    """One transaction: the test, its sample, and the connection's state."""
    now = timezone.now()
    if Test.objects.filter(pk=test.pk, state=Test.State.DONE).exists():
        return Test.objects.get(
            pk=test.pk
        )  # another runner took it up and was quicker: it counts once
    connection = halves.with_everything(Connection.objects.filter(pk=test.connection_id)).get()
    failed = next((result for result in results if not result.passed), None)
    test.state, test.ended, test.passed = Test.State.DONE, now, failed is None
    found = None
    begun = test.begun or now
    if _passed(results, "sign_in") and begun >= connection.changed_at:
        connection.proven_at = begun
        if learning.client_was_asked(connection, results):
            connection.secret_taken_at = begun
        learning.learn(connection, results, begun, now)
    pins = halves.work_out(connection, now)
    if failed is not None:
        profile = connection.deployment.application.read_profile()
        found = diagnosis.diagnose(
            failed,
            pins,
            OWN if connection.individual else connection.scheme,
            right="scope" if connection.scheme in OAUTH2 else profile.roles_label,
            credential_is_new=_is_fresh(connection, profile.limits.spread),
            clock_skew=skew,
        )
        test.diagnosis = asdict(found)
    test.save()
    if failed is None and test.last and test.last != Rung.WORK:
        # The credential alone is good. That the connection works is shown by the whole ladder only:
        # no sample, no new state.
        connection.tested_at = now
        connection.save(update_fields=["proven_at", "secret_taken_at", "tested_at"])
        _forget_old(test)
        return test
    sample = Sample.objects.create(
        test_id=test.pk,
        connection=connection,
        at=now,
        passed=failed is None,
        blip=any(result.blip for result in results),
        cause=found.cause_class.value if found else "",
        rung=failed.rung.value if failed else "",
        ms=round(sum(result.ms for result in results), 1),
    )
    if begun >= connection.changed_at:
        _move_state(connection, sample, found, depth)
    connection.tested_at = now
    connection.recent = health.with_latest(connection.recent, sample.passed, sample.ms)
    connection.save(
        update_fields=[*Connection.HEALTH, "proven_at", "secret_taken_at", "tested_at", "recent"]
    )
    _forget_old(test)
    return test


def _forget_old(test: Test) -> None:
    old = (
        test.connection.tests.exclude(pk=test.pk)
        .order_by("-made")
        .values_list("pk", flat=True)[KEPT_TESTS:]
    )
    Test.objects.filter(pk__in=list(old)).delete()


def forget_old_samples(now: datetime) -> int:
    """Delete samples that are older than is kept, oldest first, in blocks; returns how many.

    They were written in the order of their numbers.
    """
    count = 0
    for _ in range(_BLOCKS):
        oldest = list(Sample.objects.order_by("pk").values_list("pk", "at")[:_BLOCK])
        old = [pk for pk, at in oldest if at < now - KEPT_SAMPLES]
        if old:
            # Without the collector of related rows, which would fetch them first: nothing hangs on
            # a sample.
            count += Sample.objects.filter(
                pk__gte=old[0], pk__lte=old[-1], at__lt=now - KEPT_SAMPLES
            )._raw_delete("default")
        if len(old) < _BLOCK:
            break
        giving_way.let_others_write()
    return count


def _passed(results: Iterable[RungResult], rung: str) -> bool:
    return any(result.rung == rung and result.passed for result in results)


def _move_state(
    connection: Connection, sample: Sample, found: diagnosis.Diagnosis | None, depth: Depth
) -> None:
    before = health.Health(
        health.State(connection.state),
        connection.score,
        connection.same_failures,
        CauseClass(connection.last_class) if connection.last_class else None,
        connection.passes,
    )
    cause = CauseClass(sample.cause) if sample.cause else None
    covers = depth.tries(connection.failed_rung)
    after = health.after(
        before, health.Sample(sample.passed, cause, bool(found and found.pin), covers)
    )
    connection.state, connection.score, connection.same_failures = (
        after.state.value,
        after.score,
        after.same_failures,
    )
    connection.last_class, connection.passes = (
        after.last_class.value if after.last_class else "",
        after.passes,
    )
    if found and not sample.passed:
        connection.failing, connection.failed_rung = (
            f"{found.causes[0].says} {found.causes[0].reason}"[:300],
            sample.rung,
        )
    elif covers:
        connection.failing = ""
        connection.failed_rung = (
            connection.failed_rung if after.state is health.State.STICKING else ""
        )
    if after.state != before.state:
        write(
            TEST,
            f"found {after.state.value.replace('_', ' ')}",
            "connection",
            connection.ref,
            {"was": before.state.value, "why": connection.failing},
        )


def stop_test(by: Actor, test: Test) -> Test:
    """Ask a running test to stop; it does before its next call."""
    with transaction.atomic():
        Test.objects.filter(pk=test.pk).update(stop_asked=True)
        write(by, "stopped a test", "connection", test.connection.ref)
    test.stop_asked = True
    return test


# Rounds


def begin_round(by: Actor) -> Round:
    """Begin a round over all connections that are not paused; one that the clock begins leaves out
    those whose own test interval is not over.

    One round runs at a time (the running one is answered). Raises :class:`Problem` where there is
    nothing to test.
    """
    tested = _due(timezone.now()) if by == CLOCK else _tested_in_rounds()
    with transaction.atomic():
        running = Round.objects.filter(ended=None).first()
        if running is not None:
            return running
        if not tested.exists():
            raise Problem(
                409,
                "There is no connection to test.",
                "Set one up, or end the pause of one.",
                code="nothing-to-test",
            )
        begun = Round.objects.create(begun=timezone.now(), begun_by=by.username)
        Test.objects.bulk_create(
            Test(connection_id=connection, round=begun, begun_by=by.username)
            for connection in tested.values_list("pk", flat=True)
        )
        Round.objects.filter(pk=begun.pk).update(total=Test.objects.filter(round=begun).count())
        if by != CLOCK:
            write(by, "began", "round", str(begun.number))
    end_if_done(begun)
    return begun


def _tested_in_rounds() -> QuerySet[Connection]:
    return Connection.objects.filter(paused=False)


def _due(now: datetime) -> QuerySet[Connection]:
    """The connections that a round on schedule tests at a moment.

    Half the time between rounds before its interval is over, one is due: the next round would be
    further from it.
    """
    tested = Func(F("tested_at"), function="unixepoch", output_field=IntegerField())
    early = settings.ROUND_MINUTES * 60 / 2
    over = Q(tested_at=None) | Q(due_at__lte=now.timestamp() + early)
    rows = _tested_in_rounds().alias(due_at=tested + F("test_interval") * 60)
    return rows.filter(Q(test_interval=0) | over)


@transaction.atomic
def permit_work(by: Actor, environment: Environment, permitted: bool) -> Environment:
    """Permit or forbid that rounds do real work in an environment, at connections that permit it
    too.
    """
    environment = Environment.objects.select_for_update().get(pk=environment.pk)
    if environment.work_in_rounds != permitted:
        environment.work_in_rounds = permitted
        environment.save(update_fields=["work_in_rounds"])
        did = "permitted real work in rounds of" if permitted else "forbade real work in rounds of"
        write(by, did, "environment", environment.name)
    return environment


def round_is_due() -> bool:
    """Whether the time between rounds is over; never where none begin on schedule, or where there
    is nothing to test.
    """
    if not settings.ROUND_MINUTES:
        return False
    now, last = timezone.now(), Round.objects.order_by("-number").first()
    between = timedelta(minutes=settings.ROUND_MINUTES)
    if last is not None and (last.ended is None or now - last.begun < between):
        return False
    return _due(now).exists()


def is_under_way() -> bool:
    """Whether a round has not ended."""
    return Round.objects.filter(ended=None).exists()


def work_on(number: int) -> int:
    """Take tests of a round one after the other until none is left; several workers may do so at
    once. Tests that somebody waits for come between. Returns how many of the round were run."""
    count = 0
    while True:
        work_on_awaited()
        if (test := _claim(number)) is None:
            break
        run_safely(test)
        count += 1
    end_if_done(Round.objects.get(number=number))
    return count


def work_on_awaited() -> int:
    """Take the tests that somebody waits for, one after the other; returns how many were run."""
    count = 0
    while (test := _claim(None)) is not None:
        run_safely(test)
        count += 1
    return count


def awaited() -> QuerySet[Test]:
    """Tests of no round that nobody has taken yet. A program runs its own at once."""
    alive = timezone.now() - ALIVE
    waiting = Test.objects.filter(round=None, by_program=False, state=Test.State.WAITING)
    return waiting.filter(made__gt=alive)


def _claim(number: int | None) -> Test | None:
    """The next test of a round: one that waits, or one whose runner was cut off; without a number,
    the next that somebody waits for."""
    with transaction.atomic():
        now = timezone.now()
        if number is None:
            rows = awaited()
        else:
            if Round.objects.filter(number=number, stopped=True).exists():
                waiting = Test.objects.filter(round_id=number, state=Test.State.WAITING)
                waiting.update(state=Test.State.STOPPED, ended=now)
                return None
            free = Q(state__in=(Test.State.WAITING, Test.State.CUT))
            rows = Test.objects.filter(
                free | Q(state=Test.State.RUNNING, alive_until__lt=now), round_id=number
            )
        test = rows.select_for_update().order_by("made", "pk").first()
        if test is not None:
            test.state, test.alive_until, test.runner = (
                Test.State.RUNNING,
                now + ALIVE,
                owner.sign(),
            )
            test.save(update_fields=["state", "alive_until", "runner"])
        return test


def run_safely(test: Test) -> None:
    """Run a test; a mistake of our own ends that test and no other."""
    try:
        run(test)
    except Exception:
        log.exception("a test failed in a way nobody foresaw", test=str(test.pk))
        Test.objects.filter(pk=test.pk).update(state=Test.State.STOPPED, ended=timezone.now())


def end_if_done(begun_round: Round) -> None:
    """End a round when no test of it waits or runs."""
    with transaction.atomic():
        left = (
            Test.objects.filter(round=begun_round)
            .exclude(state__in=(Test.State.DONE, Test.State.STOPPED))
            .exists()
        )
        if not left:
            counts = counts_of([begun_round.pk])[begun_round.pk]
            Round.objects.filter(pk=begun_round.pk, ended=None).update(
                ended=timezone.now(), **asdict(counts)
            )


@dataclass(frozen=True)
class RoundCounts:
    """How many tests a round has, how many of them are over, and how many failed."""

    total: int
    done: int
    failed: int


def counts_of(numbers: Collection[int]) -> dict[int, RoundCounts]:
    """The counts of rounds, by their numbers: those that are kept of rounds that have ended, and
    counted now of others. Two queries.
    """
    rows = Round.objects.filter(number__in=numbers).values_list(
        "number", "ended", "total", "done", "failed"
    )
    found = {number: (ended, RoundCounts(*kept)) for number, ended, *kept in rows}
    going = [number for number, (ended, _) in found.items() if ended is None]
    over = Q(state__in=(Test.State.DONE, Test.State.STOPPED))
    counted = (
        Test.objects.filter(round__in=going)
        .order_by()
        .values("round")
        .annotate(
            total=Count("round"),
            over=Count("state", filter=over),
            in_vain=Count("passed", filter=Q(passed=False)),
        )
    )
    now = {
        number: RoundCounts(*counts)
        for number, *counts in counted.values_list("round", "total", "over", "in_vain")
    }
    return {
        number: kept if ended is not None else now.get(number, RoundCounts(0, 0, 0))
        for number, (ended, kept) in found.items()
    }


@transaction.atomic
def stop_round(by: Actor, stopped: Round) -> Round:
    """Stop a round: tests that run stop before their next call, tests that wait are not begun."""
    if stopped.ended is not None:
        raise Problem(
            409,
            "This round has ended already.",
            "There is nothing left to stop.",
            code="round-over",
        )
    Round.objects.filter(pk=stopped.pk).update(stopped=True)
    Test.objects.filter(round=stopped, state=Test.State.WAITING).update(
        state=Test.State.STOPPED, ended=timezone.now()
    )
    write(by, "stopped", "round", str(stopped.number))
    stopped.refresh_from_db()
    return stopped


# After being cut off


def take_up_again(just_started: bool) -> list[int]:
    """Find what was cut off; returns the rounds that have tests left.

    ``just_started``: the one worker of this installation has just begun, so whatever a round left
    running belongs to a worker that is gone, unless that certainly lives: it is this one.
    """
    now = timezone.now()
    running = Test.objects.filter(state=Test.State.RUNNING)
    runners = list(running.values_list("pk", "runner"))
    killed = [pk for pk, runner in runners if owner.is_gone(runner)]
    gone = running.filter(Q(alive_until__lt=now) | Q(pk__in=killed))
    if just_started:
        living = [pk for pk, runner in runners if owner.is_alive(runner)]
        gone = running.filter(
            (Q(round__isnull=False) & ~Q(pk__in=living)) | Q(alive_until__lt=now) | Q(pk__in=killed)
        )
    gone.filter(round__isnull=True).update(state=Test.State.CUT, ended=now)
    gone.filter(round__isnull=False).update(state=Test.State.CUT)
    Test.objects.filter(
        round=None, state__in=(Test.State.RUNNING, Test.State.WAITING), made__lt=now - ALIVE
    ).exclude(alive_until__gt=now).update(state=Test.State.CUT, ended=now)
    return list(Round.objects.filter(ended=None).values_list("number", flat=True))
