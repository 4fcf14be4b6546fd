"""Requests that arrive at the same time are worked on in batches, and each gets the response that
it would have got alone.
"""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Sequence

from structlog.testing import capture_logs

from neatlatch.desk.ground.common import fast_path


def test_those_that_come_together_go_together_and_each_has_its_own_answer() -> None:
    batches: list[list[int]] = []

    def work(asked: Sequence[int]) -> list[str]:
        batches.append(list(asked))
        return [f"answer {number}" for number in asked]

    async def run() -> list[str | None]:
        calls = fast_path.BatchedCalls(work)
        return list(await asyncio.gather(*(calls.call(number) for number in range(100))))

    assert asyncio.run(run()) == [f"answer {number}" for number in range(100)]
    assert [len(batch) for batch in batches] == [32, 32, 32, 4]
    assert asyncio.run(run())[-1] == "answer 99"  # another loop, the same work


def test_what_comes_meanwhile_is_the_next_batch_and_one_who_hangs_up_stops_nobody() -> None:
    begun, go_on = threading.Event(), threading.Event()
    batches: list[list[int]] = []

    def work(asked: Sequence[int]) -> list[int]:
        batches.append(list(asked))
        begun.set()
        go_on.wait(30)
        return [number * 2 for number in asked]

    async def run() -> list[int | None]:
        calls = fast_path.BatchedCalls(work)
        first = asyncio.create_task(calls.call(1))
        await asyncio.to_thread(begun.wait, 30)
        later = [asyncio.create_task(calls.call(number)) for number in (2, 3, 4)]
        await asyncio.sleep(0)
        first.cancel()
        later[1].cancel()
        go_on.set()
        return [await later[0], await later[2]]

    assert asyncio.run(run()) == [4, 8]
    assert batches == [[1], [2, 3, 4]]


def test_a_batch_that_fails_goes_the_long_way_and_the_next_does_not() -> None:
    def work(asked: Sequence[int]) -> list[int]:
        if 7 in asked:
            raise OSError("the disk is full")
        return list(asked)

    async def run() -> list[int | None]:
        calls = fast_path.BatchedCalls(work)
        return [*await asyncio.gather(calls.call(7), calls.call(8)), await calls.call(9)]

    assert asyncio.run(run()) == [None, None, 9]
    before = fast_path.FAILED["builtins.int"]
    with capture_logs() as logged:
        assert fast_path.or_none(int, "no number") is None
    assert fast_path.FAILED["builtins.int"] == before + 1
    assert [(item["work"], item["kind"]) for item in logged] == [("builtins.int", "ValueError")]
    assert fast_path.or_none(int, "12") == 12
