"""The pace of calls from many threads: one call takes from several buckets, or from none."""

from __future__ import annotations

import threading

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.wire.pace import Paces


def test_one_call_takes_from_both_or_from_neither() -> None:
    paces = Paces()
    both = {"connection": 10.0, "key": 1.0}
    assert paces.take(both, 0.0, 5.0) == (0.0, True)
    assert paces.take(both, 0.0, 0.5) == (1.0, False)  # the key's own pace is slower
    assert paces.take({"connection": 10.0}, 0.0, 0.0) == (0.0, True)
    for _ in range(8):
        assert paces.take({"connection": 10.0}, 0.0, 0.0) == (0.0, True)  # ten in all: the refused one took nothing
    assert paces.take({"connection": 10.0}, 0.0, 1.0)[0] == pytest.approx(0.1)


def test_those_taken_from_longest_ago_are_forgotten() -> None:
    paces = Paces(most=3)
    for name in "abcd":
        paces.take({name: 1.0}, 0.0, 9.0)
    assert len(paces) == 3


@given(st.lists(st.sampled_from([1.0, 2.0, 5.0]), min_size=1, max_size=60))
def test_no_more_calls_than_the_pace_whatever_it_changes_to(changes: list[float]) -> None:
    """A change of pace gives nothing back: of so many calls, no second has more than the quickest pace and one second's worth at once."""
    paces, at, calls = Paces(), 0.0, list[float]()
    for pace in changes:
        wait, taken = paces.take({"a": pace}, at, 1e9)
        assert taken
        at += wait
        calls.append(at)
    for begin in calls:
        assert sum(begin <= one < begin + 1 for one in calls) <= 2 * max(changes) + 1


def test_many_threads_take_turns() -> None:
    paces, waits, turn = Paces(), list[float](), threading.Lock()

    def take() -> None:
        for _ in range(50):
            wait, _ = paces.take({"a": 10.0}, 0.0, 1e9)
            with turn:
                waits.append(round(wait, 6))

    threads = [threading.Thread(target=take) for _ in range(4)]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert sorted(waits) == [0.0] * 10 + [round(number / 10, 6) for number in range(1, 191)]
