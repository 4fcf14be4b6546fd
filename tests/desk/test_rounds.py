"""Tests and rounds: faults of the stand-in, retries, stopping, and taking up what was cut off."""

from __future__ import annotations

import threading
from datetime import timedelta
from typing import Any
from uuid import uuid4

import pytest
from django.db import connections as databases
from django.utils import timezone

from neatlatch.core import health
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.ground.common.actors import CLOCK, Program
from neatlatch.desk.work.rounds import at_work, leftovers, services, tasks
from neatlatch.desk.work.rounds.models import Leftover, Round, Sample, Test
from neatlatch.wire import ladder
from tests.harness import wait_until
from tests.refused import refused_with
from tests.watch import Watch

from .conftest import Setup


@pytest.mark.parametrize(
    ("fault", "rung", "code", "cause"),
    [
        ({"kind": "unavailable", "where": "api", "count": 9}, "allowed", "status_503", "theirs"),
        (
            {"kind": "too_many", "where": "api", "count": 9, "seconds": 60},
            "allowed",
            "pace",
            "pace",
        ),
        ({"kind": "refuse", "where": "api", "count": 9}, "allowed", "invalid_token", "credential"),
        (
            {"kind": "refuse", "where": "token", "count": 9},
            "sign_in",
            "invalid_client",
            "credential",
        ),
        ({"kind": "ended_certificate"}, "secure", "expired", "tls"),
    ],
)
def test_faults_are_told_apart(
    setup: Setup, watch: Watch, fault: dict[str, Any], rung: str, code: str, cause: str
) -> None:
    connection = setup.latched()
    setup.stand_ins.fault(**fault)
    test = setup.test(connection)
    assert test.passed is False
    assert test.rungs[-1]["rung"] == rung
    assert (test.diagnosis["code"], test.diagnosis["cause_class"]) == (code, cause)
    sample = Sample.objects.get(connection=connection)
    assert (sample.cause, sample.rung) == (cause, rung)


def test_a_passing_fault_is_a_blip(setup: Setup) -> None:
    """Repeated because GET is safe to repeat (RFC 9110 §9.2.2)."""
    connection = setup.latched()
    setup.stand_ins.fault("unavailable", where="api", count=2)
    test = setup.test(connection)
    assert test.passed
    assert Sample.objects.get().blip
    allowed = next(rung for rung in test.rungs if rung["rung"] == "allowed")
    assert allowed["tries"] == 3
    assert [exchange["status"] for exchange in allowed["exchanges"]] == [503, 503, 200]


@pytest.fixture
def watch(monkeypatch: pytest.MonkeyPatch) -> Watch:
    """The ladder's pauses, without waiting."""
    found = Watch()
    monkeypatch.setattr(ladder, "time", found)
    return found


def test_retry_after_is_honoured(setup: Setup, watch: Watch) -> None:
    connection = setup.latched()
    setup.stand_ins.fault("too_many", where="api", count=1, seconds=1)
    assert setup.test(connection).passed
    assert watch.waited == pytest.approx(1.0)  # once, and no longer than it was asked for


def test_a_slow_answer_ends_at_the_time_limit(setup: Setup) -> None:
    connection = setup.latched()
    connections.change(setup.by, connection, {"time_limit": 1})
    setup.stand_ins.fault("slow", where="api", count=9, seconds=3)
    test = setup.test(connection)
    assert test.diagnosis["code"] == "timeout"


def test_states_follow_the_samples(setup: Setup, watch: Watch) -> None:
    connection = setup.latched()
    assert setup.test(connection).passed
    for state in ("latched", "sticking", "unlatched"):
        setup.stand_ins.fault("unavailable", where="api", count=9)
        setup.test(connection)
        assert Connection.objects.get().state == state
    setup.stand_ins.fault("none")
    for state in ("sticking", "sticking", "latched"):
        setup.test(connection)
        assert Connection.objects.get().state == state


def test_a_round_tests_every_connection_but_the_paused(setup: Setup) -> None:
    setup.latched(name="one")
    setup.latched(name="two")
    connections.change(setup.by, setup.latched(name="three"), {"paused": True})
    begun = services.begin_round(CLOCK)
    assert services.begin_round(CLOCK) == begun  # one at a time
    assert tasks.start_round(CLOCK) == begun
    begun.refresh_from_db()
    assert begun.ended is not None
    assert sorted(begun.tests.values_list("connection__ref", "passed")) == [
        ("sandbox/one", True),
        ("sandbox/two", True),
    ]
    assert not services.round_is_due()
    Round.objects.update(begun=timezone.now() - timedelta(minutes=6))
    assert services.round_is_due()


def test_a_test_that_somebody_waits_for_comes_before_the_rest_of_a_round(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("one", "two", "three"):
        setup.latched(name=name)
    begun, ran = services.begin_round(CLOCK), list[str]()

    def run(test: Test) -> Test:
        ran.append(f"{test.connection.ref} {'round' if test.round_id else 'awaited'}")
        if len(ran) == 1:  # while the first is under way, somebody presses the button
            services.begin_test(setup.by, Connection.objects.get(ref="sandbox/three"))
            services.begin_test(
                Program("Night run"), Connection.objects.get(ref="sandbox/two"), by_program=True
            )  # it is run where it was asked for
        Test.objects.filter(pk=test.pk).update(state=Test.State.DONE)
        return test

    monkeypatch.setattr(services, "run", run)
    assert services.work_on(begun.number) == 3
    assert (ran[1], len(ran)) == ("sandbox/three awaited", 4)
    assert Test.objects.filter(state=Test.State.WAITING).get().by_program


def test_nothing_is_begun_while_no_worker_runs(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    monkeypatch.setattr(tasks.HUEY, "immediate", False)
    monkeypatch.setattr(at_work, "_held", [])
    for start in (
        lambda: tasks.start_test(setup.by, connection),
        lambda: tasks.start_round(setup.by),
    ):
        with refused_with("worker-not-running") as refused:
            start()
        assert (refused.value.status, refused.value.extra["retry_after"]) == (503, 10)
    assert not Test.objects.exists()
    at_work.begin()
    assert at_work.is_running()
    while at_work._held:
        at_work._held.pop().close()
    assert not at_work.is_running()


def test_no_round_is_due_where_none_begins_by_the_clock(setup: Setup, settings: Any) -> None:
    setup.latched()
    assert services.round_is_due()
    settings.ROUND_MINUTES = 0
    assert not services.round_is_due()


def test_no_round_begins_where_there_is_nothing_to_test(setup: Setup, settings: Any) -> None:
    settings.ROUND_MINUTES = 5
    assert not services.round_is_due()
    with refused_with("nothing-to-test") as refused:
        services.begin_round(setup.by)
    assert refused.value.status == 409
    assert not Round.objects.exists()
    connections.change(setup.by, setup.latched(), {"paused": True})
    assert not services.round_is_due()
    setup.latched(name="another")
    assert services.round_is_due()


def test_a_round_is_stopped(setup: Setup) -> None:
    setup.latched(name="one")
    setup.latched(name="two")
    begun = services.begin_round(Program("ewan"))
    services.stop_round(setup.by, begun)
    assert services.work_on(begun.number) == 0
    begun.refresh_from_db()
    assert begun.ended is not None
    assert set(begun.tests.values_list("state", flat=True)) == {"stopped"}
    assert not Sample.objects.exists()


def test_a_running_test_is_stopped(setup: Setup) -> None:
    connection = setup.latched()
    setup.stand_ins.fault("hold", where="api")
    test = services.begin_test(setup.by, connection)
    assert services.begin_test(setup.by, connection) == test  # pressed twice is one test

    def work() -> None:
        services.run_safely(test)
        databases.close_all()

    thread = threading.Thread(target=work)
    thread.start()
    wait_until(lambda: setup.stand_ins.state()["held"] == 1, what="the answer that is held")
    calls = setup.stand_ins.calls("api")
    services.stop_test(setup.by, test)
    setup.stand_ins.fault("none")
    thread.join()
    test.refresh_from_db()
    assert test.state == "stopped"
    assert test.passed is None
    assert (
        setup.stand_ins.calls("api") == calls
    )  # nothing was sent after the answer that was waited for
    assert not Sample.objects.exists()


def test_what_was_cut_off_is_taken_up_and_counts_once(setup: Setup) -> None:
    setup.latched("manifest.read", name="one")
    begun = services.begin_round(CLOCK)
    test = services._claim(begun.number)
    assert test is not None
    assert services._claim(begun.number) is None  # it runs, as far as anybody knows
    Test.objects.update(rungs=[{"rung": "find"}])
    assert services.take_up_again(just_started=False) == [begun.number]
    assert services._claim(begun.number) is None
    services.take_up_again(just_started=True)
    assert services._claim(begun.number) is None  # it is this process's own
    Test.objects.update(runner="elsewhere/7/1/00")
    assert services.take_up_again(just_started=True) == [begun.number]
    assert services.work_on(begun.number) == 1
    services.run(test)  # a second runner, late: nothing is doubled
    assert Sample.objects.count() == 1
    assert len(Test.objects.get().rungs) == 6


def test_a_token_that_ended_before_its_time_is_renewed_by_the_test(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As the relay does; where the application can be asked about its tokens, that is found before
    any call.
    """
    connection = setup.latched()
    monkeypatch.setattr(
        services.halves, "published", lambda *_: ""
    )  # it publishes no address to ask at
    setup.stand_ins.age(2000, "access")
    issued = setup.stand_ins.calls("issued:refresh_token")
    test = setup.test(connection)
    assert test.passed
    allowed = next(rung for rung in test.rungs if rung["rung"] == "allowed")
    assert [exchange["status"] for exchange in allowed["exchanges"]] == [401, 200, 200]
    assert allowed["facts"]["renewed"]
    assert setup.stand_ins.calls("issued:refresh_token") == issued + 1


def test_a_token_that_cannot_be_renewed_is_called_what_the_application_calls_it(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    monkeypatch.setattr(services.halves, "published", lambda *_: "")
    TokenSet.objects.update(refresh=None)
    setup.stand_ins.age(2000, "access")
    test = setup.test(connection)
    assert (test.passed, test.rungs[-1]["failure"]["code"]) == (False, "invalid_token")


def test_what_a_cut_off_test_made_is_cleared_away(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    deployment = setup.deployment()
    client = setup.client(deployment, "manifest.read", "manifest.write")
    visitor = setup.visitor()
    visitor.enter_office()
    visitor.consent(client.client_id, "manifest.write")
    connection = setup.connection(client, account="svc-manifests@gannet.example")
    setup.sign_in(connection)
    test = services.begin_test(setup.by, connection)

    class Killed(BaseException):
        pass

    save = leftovers.Record.save

    def save_and_die(self: leftovers.Record, event: Any) -> None:
        save(self, event)
        if event.piece.seen:
            raise Killed

    # Killed after the manifest was made and seen, before it was cleared away.
    monkeypatch.setattr(leftovers.Record, "save", save_and_die)
    with pytest.raises(Killed):
        services.run(test)
    kept = Leftover.objects.get()
    assert (kept.name, kept.known) == (f"TEST-{str(test.pk)[:8]}", "seen")
    assert kept.name in kept.address
    assert kept.name in setup.stand_ins.state()["manifests"]
    assert leftovers.clear_all() == 0  # the test may still be running
    Test.objects.update(state="cut")
    Leftover.objects.update(made=timezone.now() - timedelta(minutes=1))
    assert leftovers.clear_all() == 1
    assert kept.name not in setup.stand_ins.state()["manifests"]


def test_a_mistake_of_our_own_ends_one_test_only(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    setup.latched(name="one")
    setup.latched(name="two")
    begun, real = services.begin_round(CLOCK), services.plan_of

    def stumble(connection: Connection, test: Test) -> Any:
        if connection.ref == "sandbox/one":
            raise KeyError("unforeseen")
        return real(connection, test)

    monkeypatch.setattr(services, "plan_of", stumble)
    services.work_on(begun.number)
    begun.refresh_from_db()
    assert begun.ended is not None
    assert dict(begun.tests.values_list("connection__ref", "state")) == {
        "sandbox/one": "stopped",
        "sandbox/two": "done",
    }


def test_old_evidence_goes_and_samples_stay(setup: Setup, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(services, "KEPT_TESTS", 2)
    connection = setup.latched("manifest.read")
    for _ in range(4):
        setup.test(connection)
    assert Test.objects.count() == 3
    assert Sample.objects.count() == 4


def test_a_test_whose_program_was_killed_does_not_block_the_next(setup: Setup) -> None:
    connection = setup.latched("manifest.read")
    dead = services.begin_test(setup.by, connection)
    host = services.owner.sign().split("/")[0]
    Test.objects.filter(pk=dead.pk).update(
        state="running",
        runner=f"{host}/999999/1/x",
        alive_until=timezone.now() + timedelta(minutes=2),
    )
    test = setup.test(connection)
    assert test.pk != dead.pk
    assert test.passed
    assert Test.objects.get(pk=dead.pk).state == "cut"


def test_the_pace_is_kept(setup: Setup, watch: Watch) -> None:
    """Two calls at once, and two a second from then on."""
    connection = setup.latched()
    connections.change(setup.by, connection, {"pace": 2.0})
    test = setup.test(connection)
    calls = sum(len(rung["exchanges"]) for rung in test.rungs)
    assert test.passed
    assert calls > 3
    assert watch.waited == pytest.approx((calls - 2) / 2)


def past(connection: Connection, *ages: timedelta) -> None:
    """Samples of a connection, so old each."""
    now = timezone.now()
    Sample.objects.bulk_create(
        Sample(
            test_id=uuid4(),
            connection=connection,
            at=now - age,
            passed=number % 3 > 0,
            ms=float(number),
        )
        for number, age in enumerate(ages)
    )


def test_the_last_tests_stand_with_their_connection(setup: Setup) -> None:
    connection = setup.latched()
    assert setup.test(connection).passed
    setup.stand_ins.fault("unavailable", where="api", count=9)
    assert not setup.test(connection).passed
    took = [sample.ms for sample in Sample.objects.order_by("pk")]
    recent = Connection.objects.get(pk=connection.pk).recent
    assert recent == [max(1, round(took[0])), -max(1, round(took[1]))]
    kept: list[int] = []
    for number in range(30):
        kept = health.with_latest(kept, number % 2 == 0, number)
    assert len(kept) == health.RECENT
    assert kept[-2:] == [28, -29]


def test_samples_go_after_a_fortnight_in_blocks(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.connection(setup.client(setup.deployment(), "manifest.read"))
    past(
        connection,
        *(timedelta(days=20, minutes=-number) for number in range(50)),
        *(timedelta(days=13, minutes=number) for number in (5, 1)),
    )
    monkeypatch.setattr(services, "_BLOCK", 20)
    monkeypatch.setattr(services, "_BLOCKS", 2)
    assert services.forget_old_samples(timezone.now()) == 40  # no more in one go
    assert services.forget_old_samples(timezone.now()) == 10
    assert services.forget_old_samples(timezone.now()) == 0
    assert Sample.objects.count() == 2


def test_a_sample_has_one_index_beside_its_number() -> None:
    """An index more is a third of what a sample costs."""
    assert [index.fields for index in Sample._meta.indexes] == [["connection", "-at"]]
    assert not any(
        field.db_index or field.unique
        for field in Sample._meta.concrete_fields
        if not field.primary_key
    )
