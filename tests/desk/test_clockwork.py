"""What the worker does on schedule waits for nothing else, and what lies in its queue is ours."""

from __future__ import annotations

import pickle
import threading
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import structlog.testing
from django.db import OperationalError
from django.utils import timezone
from huey import SqliteHuey
from huey.serializer import Serializer

from neatlatch.desk import settings
from neatlatch.desk.work.rounds import tasks
from neatlatch.desk.work.rounds.clockwork import Clockwork, Loop

AT_ONCE = timedelta(0)


class Counted:
    """Work that counts its times, and says when a number is reached."""

    def __init__(self, wanted: int) -> None:
        self.times, self.wanted, self.reached = 0, wanted, threading.Event()

    def __call__(self) -> None:
        self.times += 1
        if self.times >= self.wanted:
            self.reached.set()


def test_work_that_does_not_end_holds_no_other_up() -> None:
    begun, release, others = threading.Event(), threading.Event(), Counted(5)

    def round_of_any_length() -> None:
        begun.set()
        release.wait()

    clockwork = Clockwork(
        Loop("rounds", round_of_any_length, AT_ONCE), Loop("renewals", others, AT_ONCE)
    )
    clockwork.start()
    try:
        assert begun.wait(60)
        assert others.reached.wait(60)  # five times, while the first has not come to an end
        assert not release.is_set()
    finally:
        release.set()
        clockwork.stop()


def test_work_that_fails_is_logged_and_done_again() -> None:
    after = Counted(3)

    def fall() -> None:
        after()
        raise RuntimeError("a fault of ours")

    loop = Loop("renewals", fall, AT_ONCE)
    with structlog.testing.capture_logs() as said:
        loop.start()
        assert after.reached.wait(60)
        loop.stop()
        loop.join()
    assert [item["what"] for item in said if item["log_level"] == "error"][:3] == ["renewals"] * 3


def test_the_clock_starts_though_the_database_is_locked(monkeypatch: pytest.MonkeyPatch) -> None:
    """What a forerunner left is taken up as soon as it can be."""
    asked: list[bool] = []
    renewals, taken_up = Counted(3), threading.Event()

    def take_up_again(just_started: bool) -> list[int]:
        asked.append(just_started)
        if len(asked) < 3:
            raise OperationalError("database is locked")
        if not just_started:
            taken_up.set()
        return []

    monkeypatch.setattr(tasks.services, "take_up_again", take_up_again)
    monkeypatch.setattr(tasks.services, "round_is_due", lambda: False)
    monkeypatch.setattr(tasks.leftovers, "clear_all", lambda: 0)
    monkeypatch.setattr(tasks, "renew", renewals)
    monkeypatch.setattr(tasks, "keep_house", lambda: None)
    monkeypatch.setattr(tasks, "_started", [])
    monkeypatch.setattr(tasks, "_took_up", threading.Event())
    for name in ("ROUNDS", "RENEWALS", "HOUSE"):
        monkeypatch.setattr(tasks, name, AT_ONCE)
    tasks.start()
    try:
        assert renewals.reached.wait(60)
        assert taken_up.wait(60)
    finally:
        tasks.stop()
    assert asked[:4] == [True, True, True, False]


def test_a_loop_that_waits_stops_at_once() -> None:
    work = Counted(1)
    loop = Loop("house", work, timedelta(hours=1))
    loop.start()
    assert work.reached.wait(60)
    loop.stop()
    loop.join(60)
    assert not loop.is_alive()
    assert work.times == 1


def test_a_clock_that_is_set_back_stops_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    """The machine's clock goes back a year while something is done: the next time comes all the
    same.
    """
    work, now = Counted(3), timezone.now()

    def step_back() -> None:
        monkeypatch.setattr(timezone, "now", lambda: now - timedelta(days=365 * work.times))
        work()

    loop = Loop("renewals", step_back, timedelta(milliseconds=1))
    loop.start()
    assert work.reached.wait(60)
    loop.stop()
    loop.join(60)


class Marker:
    """A pickle that makes a file when it is unpacked."""

    def __init__(self, file: Path) -> None:
        self.file = file

    def __reduce__(self) -> Any:
        return (Path.touch, (self.file,))


@pytest.mark.parametrize("how", ["unsigned", "another key's", "changed"])
def test_what_did_not_come_from_here_is_not_unpacked(tmp_path: Path, how: str) -> None:
    serializer, planted = settings.HUEY["serializer"], tmp_path / "planted"
    queue = SqliteHuey("neatlatch", filename=str(tmp_path / "queue.sqlite3"), serializer=serializer)
    message = {
        "unsigned": pickle.dumps(Marker(planted)),
        "another key's": type(serializer)(secret="another", salt="neatlatch.queue").serialize(
            Marker(planted)
        ),
        "changed": pickle.dumps(Marker(planted)) + serializer.serialize(1)[-41:],
    }[how]
    queue.storage.enqueue(message)
    with pytest.raises(ValueError, match="Signature|Separator"):
        queue.dequeue()
    assert not planted.exists()
    Serializer().deserialize(pickle.dumps(Marker(planted)))
    assert planted.exists()  # so would it have been


def test_our_own_work_comes_out_of_the_queue(tmp_path: Path) -> None:
    queue = SqliteHuey(
        "neatlatch",
        filename=str(tmp_path / "queue.sqlite3"),
        serializer=settings.HUEY["serializer"],
        immediate=False,
    )
    done: list[int] = []

    @queue.task()
    def work(number: int) -> None:
        done.append(number)

    work(7)
    queue.execute(queue.dequeue())
    assert done == [7]
