"""Fair shares of the workers: who waits holds none, and nobody takes all."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest

from neatlatch.desk.ground.common.shares import Share, Shares, Steps, Wait, run_here
from tests.refused import refused_with


@pytest.fixture
def pool() -> Iterator[ThreadPoolExecutor]:
    with ThreadPoolExecutor(16) as found:
        yield found


class Work:
    """Work that goes on when it is told to, and counts how many are at it."""

    def __init__(self) -> None:
        self.go, self.at_once, self.most, self.ended = threading.Event(), 0, 0, 0
        self.lock = threading.Lock()

    def steps(self, *keys: str) -> Steps[str]:
        try:
            yield Share(keys)
            with self.lock:
                self.at_once += 1
                self.most = max(self.most, self.at_once)
            assert self.go.wait(60)
            with self.lock:
                self.at_once -= 1
            return "done"
        finally:
            with self.lock:
                self.ended += 1


def test_no_more_than_so_many_at_once_and_others_are_served(pool: ThreadPoolExecutor) -> None:
    async def run() -> None:
        shares, slow, other = Shares(4), Work(), Work()
        other.go.set()
        busy = [
            asyncio.create_task(shares.run(pool, slow.steps("cargo", "night run")))
            for _ in range(40)
        ]
        assert await shares.run(pool, other.steps("fuel", "quay board")) == "done"
        mixed = asyncio.create_task(shares.run(pool, other.steps("fuel", "night run")))
        slow.go.set()
        assert await asyncio.gather(*busy) == ["done"] * 40
        assert await mixed == "done"
        assert slow.most <= 4
        assert not shares._taken

    asyncio.run(run())


def test_who_waits_too_long_is_told_when_to_come_again(pool: ThreadPoolExecutor) -> None:
    async def run() -> None:
        shares, slow = Shares(1, patience=0.0), Work()
        first = asyncio.create_task(shares.run(pool, slow.steps("cargo")))
        while not slow.at_once:
            await asyncio.sleep(0)
        with refused_with("too-many-requests") as refused:
            await shares.run(pool, slow.steps("cargo"))
        assert (refused.value.status, refused.value.extra["retry_after"] > 0) == (429, True)
        slow.go.set()
        assert await first == "done"
        assert await shares.run(pool, slow.steps("cargo")) == "done"

    asyncio.run(run())


def test_a_share_of_one_who_hung_up_is_free_again_only_when_its_worker_is(
    pool: ThreadPoolExecutor,
) -> None:
    async def run() -> None:
        shares, slow = Shares(1), Work()
        first = asyncio.create_task(shares.run(pool, slow.steps("cargo")))
        while not slow.at_once:
            await asyncio.sleep(0)
        first.cancel()
        with pytest.raises(asyncio.CancelledError):
            await first
        second = asyncio.create_task(shares.run(pool, slow.steps("cargo")))
        await asyncio.to_thread(lambda: None)
        assert slow.most == 1
        slow.go.set()
        assert await second == "done"
        assert (slow.most, slow.ended) == (1, 2)
        assert not shares._taken

    asyncio.run(run())


def test_one_who_hangs_up_while_waiting_leaves_nothing(pool: ThreadPoolExecutor) -> None:
    async def run() -> None:
        shares, ended = Shares(1), threading.Event()

        def steps() -> Steps[str]:
            try:
                yield Share(("cargo",))
                yield Wait(600)
                return "never"
            finally:
                ended.set()

        task = asyncio.create_task(shares.run(pool, steps()))
        while not shares._taken:
            await asyncio.sleep(0)
        task.cancel()
        with pytest.raises(asyncio.CancelledError):
            await task
        assert await asyncio.to_thread(ended.wait, 60)
        slow = Work()
        slow.go.set()
        assert await shares.run(pool, slow.steps("cargo")) == "done"

    asyncio.run(run())


def test_work_that_fails_gives_its_share_back(pool: ThreadPoolExecutor) -> None:
    def fails() -> Steps[str]:
        yield Share(("cargo",))
        raise KeyError("not foreseen")

    async def run() -> None:
        shares = Shares(1)
        for _ in range(3):
            with pytest.raises(KeyError):
                await shares.run(pool, fails())
        assert not shares._taken

    asyncio.run(run())


def test_alone_every_share_is_free() -> None:
    def steps() -> Steps[int]:
        yield Share(("cargo",))
        yield Wait(0.0)
        return 7

    assert run_here(steps()) == 7
