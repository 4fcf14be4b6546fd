"""The pace of calls from many threads: one call takes from several buckets, or from none."""

from __future__ import annotations

import contextlib
import sqlite3
import threading
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.wire import pace
from neatlatch.wire.pace import Paces, SharedPaces


@pytest.fixture(params=["of a process", "of a machine"])
def paces(request: pytest.FixtureRequest, tmp_path: Path) -> Paces | SharedPaces:
    return Paces() if request.param == "of a process" else SharedPaces(tmp_path / "paces.sqlite3")


def test_one_call_takes_from_both_or_from_neither(paces: Paces | SharedPaces) -> None:
    both = {"connection": 10.0, "key": 1.0}
    assert paces.take(both, 0.0, 5.0) == (0.0, True)
    assert paces.take(both, 0.0, 0.5) == (1.0, False)  # the key's own pace is slower
    assert paces.take({"connection": 10.0}, 0.0, 0.0) == (0.0, True)
    for _ in range(8):
        assert paces.take({"connection": 10.0}, 0.0, 0.0) == (
            0.0,
            True,
        )  # ten in all: the refused one took nothing
    assert paces.take({"connection": 10.0}, 0.0, 1.0)[0] == pytest.approx(0.1)


def test_those_taken_from_longest_ago_are_forgotten() -> None:
    paces = Paces(most=3)
    for name in "abcd":
        paces.take({name: 1.0}, 0.0, 9.0)
    assert len(paces) == 3


@given(st.lists(st.sampled_from([1.0, 2.0, 5.0]), min_size=1, max_size=60))
def test_no_more_calls_than_the_pace_whatever_it_changes_to(changes: list[float]) -> None:
    """A change of pace gives nothing back: of so many calls, no second has more than the quickest
    pace and one second's worth at once.
    """
    paces, at, calls = Paces(), 0.0, list[float]()
    for changed in changes:
        wait, taken = paces.take({"a": changed}, at, 1e9)
        assert taken
        at += wait
        calls.append(at)
    for begin in calls:
        assert sum(begin <= call < begin + 1 for call in calls) <= 2 * max(changes) + 1


def test_processes_share_a_pace_and_a_machine_that_started_anew_begins_anew(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "paces.sqlite3"
    one, other = SharedPaces(file), SharedPaces(file)
    assert [one.take({"a": 2.0}, 1000.0, 9.0)[0] for _ in range(2)] == [0.0, 0.0]
    assert other.take({"a": 2.0}, 1000.0, 9.0)[0] == pytest.approx(0.5)
    assert one.take({"a": 2.0}, 1000.0, 9.0)[0] == pytest.approx(1.0)
    assert file.stat().st_mode & 0o777 == 0o600
    another = tmp_path / "boot_id"
    another.write_text("another run\n")
    monkeypatch.setattr(pace, "_BOOT", another)
    # The clock is behind what was kept; nobody waits for it to come there.
    assert [SharedPaces(file).take({"a": 2.0}, 5.0, 9.0)[0] for _ in range(2)] == [0.0, 0.0]


def test_of_very_many_only_the_newest_are_kept(tmp_path: Path) -> None:
    file = tmp_path / "paces.sqlite3"
    paces = SharedPaces(file, most=50)
    for number in range(220):
        paces.take({number: 1.0}, 0.0, 9.0)
    with contextlib.closing(sqlite3.connect(file)) as kept:
        assert kept.execute("SELECT count(*) FROM bucket").fetchone()[0] <= 100
    assert paces.take({219: 1.0}, 0.0, 9.0)[0] == 1.0


def test_many_threads_take_turns(paces: Paces | SharedPaces) -> None:
    waits, turn = list[float](), threading.Lock()

    def take() -> None:
        for _ in range(50):
            wait, _ = paces.take({"a": 10.0}, 0.0, 1e9)
            with turn:
                waits.append(round(wait, 6))

    threads = [threading.Thread(target=take) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(waits) == [0.0] * 10 + [round(number / 10, 6) for number in range(1, 191)]
