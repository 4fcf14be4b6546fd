"""Roads that are kept between calls: by name, for some seconds, and never after a failure."""

from __future__ import annotations

import threading
import time
from typing import Any

import pytest

from neatlatch.wire import kept_connections
from neatlatch.wire.kept_connections import KeptTransports


class Plain:
    """Stands for a transport: whether it is closed is all that is asked."""

    def __init__(self) -> None:
        self.closed = 0

    def close(self) -> None:
        self.closed += 1


def use(kept: KeptTransports, name: str) -> Any:
    with kept.transport(name, Plain) as transport:  # type: ignore[arg-type]
        return transport


def test_the_same_road_is_taken_again_by_its_name() -> None:
    kept = KeptTransports()
    first, other = use(kept, "a"), use(kept, "b")
    assert use(kept, "a") is first
    assert use(kept, "b") is other
    assert first is not other
    assert (first.closed, len(kept)) == (0, 2)
    kept.close()
    assert (first.closed, other.closed, len(kept)) == (1, 1, 0)


def test_a_road_serves_one_call_at_a_time_and_so_many_wait() -> None:
    kept = KeptTransports(most_of_one=2, most=3)
    with (
        kept.transport("a", Plain) as one,
        kept.transport("a", Plain) as two,
        kept.transport("a", Plain) as three,
    ):  # type: ignore[arg-type]
        assert len({id(one), id(two), id(three)}) == 3
    closed = [transport.closed for transport in (three, two, one)]  # type: ignore[attr-defined]
    assert closed == [0, 0, 1]
    first = use(kept, "b")
    use(kept, "c")
    assert len(kept) == 3
    assert three.closed == 1  # type: ignore[attr-defined]
    assert first.closed == 0


def test_a_call_that_fails_leaves_no_road() -> None:
    kept = KeptTransports()
    seen: list[Any] = []

    def fail() -> None:
        with kept.transport("a", Plain) as transport:  # type: ignore[arg-type]
            seen.append(transport)
            raise OSError("cut")

    with pytest.raises(OSError, match="cut"):
        fail()
    assert (seen[0].closed, len(kept)) == (1, 0)


def test_what_nobody_takes_is_closed_also_where_no_call_comes() -> None:
    kept = KeptTransports(idle=0.05)
    transport = use(kept, "a")
    until = time.monotonic() + 20
    while len(kept) and time.monotonic() < until:
        time.sleep(0.01)
    assert (transport.closed, len(kept)) == (1, 0)


def test_one_that_is_old_is_not_kept_however_often_it_is_used(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    kept = KeptTransports()
    transport = use(kept, "a")
    monkeypatch.setattr(kept_connections, "OLDEST", -1.0)
    assert use(kept, "a") is transport
    assert (transport.closed, len(kept)) == (1, 0)


def test_many_threads_never_share_a_road() -> None:
    kept, wrong = KeptTransports(most_of_one=8), list[str]()

    def work() -> None:
        for _ in range(200):
            with kept.transport("a", Plain) as transport:  # type: ignore[arg-type]
                if getattr(transport, "taken", False) or getattr(transport, "closed"):  # noqa: B009
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
    kept.close()
