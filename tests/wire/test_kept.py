"""Roads that are kept between calls: by name, for some seconds, and never after a failure."""

from __future__ import annotations

import threading
import time
from typing import Any

import pytest

from neatlatch.wire import kept_connections
from neatlatch.wire.kept_connections import KeptTransports


class Plain:
    """Stands for a road: whether it is closed is all that is asked."""

    def __init__(self) -> None:
        self.closed = 0

    def close(self) -> None:
        self.closed += 1


def use(roads: KeptTransports, name: str) -> Any:
    with roads.transport(name, Plain) as transport:  # type: ignore[arg-type]
        return transport


def test_the_same_road_is_taken_again_by_its_name() -> None:
    roads = KeptTransports()
    first, other = use(roads, "a"), use(roads, "b")
    assert use(roads, "a") is first
    assert use(roads, "b") is other
    assert first is not other
    assert (first.closed, len(roads)) == (0, 2)
    roads.close()
    assert (first.closed, other.closed, len(roads)) == (1, 1, 0)


def test_a_road_serves_one_call_at_a_time_and_so_many_wait() -> None:
    roads = KeptTransports(most_of_one=2, most=3)
    with (
        roads.transport("a", Plain) as one,
        roads.transport("a", Plain) as two,
        roads.transport("a", Plain) as three,
    ):  # type: ignore[arg-type]
        assert len({id(one), id(two), id(three)}) == 3
    assert [transport.closed for transport in (three, two, one)] == [0, 0, 1]  # type: ignore[attr-defined]
    first = use(roads, "b")
    use(roads, "c")
    assert len(roads) == 3
    assert three.closed == 1  # type: ignore[attr-defined]
    assert first.closed == 0


def test_a_call_that_fails_leaves_no_road() -> None:
    roads = KeptTransports()
    seen: list[Any] = []

    def fail() -> None:
        with roads.transport("a", Plain) as transport:  # type: ignore[arg-type]
            seen.append(transport)
            raise OSError("cut")

    with pytest.raises(OSError, match="cut"):
        fail()
    assert (seen[0].closed, len(roads)) == (1, 0)


def test_what_nobody_takes_is_closed_also_where_no_call_comes() -> None:
    roads = KeptTransports(idle=0.05)
    transport = use(roads, "a")
    until = time.monotonic() + 20
    while len(roads) and time.monotonic() < until:
        time.sleep(0.01)
    assert (transport.closed, len(roads)) == (1, 0)


def test_one_that_is_old_is_not_kept_however_often_it_is_used(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    roads = KeptTransports()
    transport = use(roads, "a")
    monkeypatch.setattr(kept_connections, "OLDEST", -1.0)
    assert use(roads, "a") is transport
    assert (transport.closed, len(roads)) == (1, 0)


def test_many_threads_never_share_a_road() -> None:
    roads, wrong = KeptTransports(most_of_one=8), list[str]()

    def work() -> None:
        for _ in range(200):
            with roads.transport("a", Plain) as transport:  # type: ignore[arg-type]
                if getattr(transport, "taken", False) or transport.closed:  # type: ignore[attr-defined]
                    wrong.append("shared or closed")
                transport.taken = True  # type: ignore[attr-defined]
                time.sleep(0)
                transport.taken = False  # type: ignore[attr-defined]

    threads = [threading.Thread(target=work) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert wrong == []
    roads.close()
