"""Fair shares of the workers that serve programs: however much one connection or one workload asks
for, others are served meanwhile.

Anyone who waits for a share, or for anything that :class:`Wait` stands for, holds no worker.
"""

from __future__ import annotations

import asyncio
import contextvars
import time
from asyncio import sleep
from collections import Counter
from collections.abc import Callable, Generator, Hashable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, TypeVar

from .problems import Problem

T = TypeVar("T")
# Of 16 workers: at work for one connection, and for one workload.
MOST = 4
# Seconds that somebody waits for a share, and how many do at once.
_PATIENCE, _MOST_WAITING = 10.0, 200


@dataclass(frozen=True)
class Wait:
    """Go on after so many seconds."""

    seconds: float


@dataclass(frozen=True)
class Share:
    """Go on once a worker is free for all of these; it is given back at the end."""

    of: tuple[Hashable, ...]


# Work in steps: between them it waits, and no step is run by a worker before that is over.
Steps = Generator[Wait | Share, None, T]


def run_here(steps: Steps[T]) -> T:
    """Run work in this thread, alone: it waits here, and every share is free."""
    while True:
        try:
            asked = next(steps)
        except StopIteration as end:
            return end.value  # type: ignore[no-any-return]
        if isinstance(asked, Wait):
            time.sleep(asked.seconds)


class Shares:
    """Counts who is at work. For one event loop."""

    def __init__(self, most: int = MOST, patience: float = _PATIENCE) -> None:
        self.most, self.patience = most, patience
        self._taken: Counter[Hashable] = Counter()
        self._waiting: list[asyncio.Future[None]] = []

    async def run(self, pool: ThreadPoolExecutor, steps: Steps[T]) -> T:
        """Run work in a pool, step by step.

        Where no share is free in time, :class:`Problem` (429) is raised at the step that wants it.
        """
        loop, held = asyncio.get_running_loop(), list[Hashable]()
        context, push, done = contextvars.copy_context(), steps.__next__, False
        step: asyncio.Future[Any] | None = None
        try:
            while True:
                step = loop.run_in_executor(pool, context.run, _one, push)
                done, asked = await asyncio.shield(step)
                push = steps.__next__
                if done:
                    return asked  # type: ignore[no-any-return]
                if isinstance(asked, Wait):
                    await sleep(asked.seconds)
                elif await self._take(asked.of):
                    held += asked.of
                else:
                    push = _throwing(steps)
        except Exception:
            done = True  # raised by the work itself, which has ended so
            raise
        finally:
            if done:
                self._give_back(held)
            else:
                # Nobody waits any more. A worker may still be at it; then the work is told to end,
                # by a worker too, for it tidies up.
                assert step is not None
                step.add_done_callback(lambda _: self._close(loop, pool, steps, held))

    def _close(
        self,
        loop: asyncio.AbstractEventLoop,
        pool: ThreadPoolExecutor,
        steps: Steps[Any],
        held: list[Hashable],
    ) -> None:
        def closed(done: asyncio.Future[None]) -> None:
            done.exception()  # looked at, so that nobody logs what concerns nobody
            self._give_back(held)

        loop.run_in_executor(pool, steps.close).add_done_callback(closed)

    def _give_back(self, held: list[Hashable]) -> None:
        self._taken.subtract(held)
        for hashable in held:
            if not self._taken[hashable]:
                del self._taken[hashable]
        waiting, self._waiting = self._waiting, []
        for each in waiting:
            if not each.done():
                each.set_result(None)

    async def _take(self, keys: tuple[Hashable, ...]) -> bool:
        loop = asyncio.get_running_loop()
        until = loop.time() + self.patience
        while any(self._taken[key] >= self.most for key in keys):
            if len(self._waiting) >= _MOST_WAITING or loop.time() >= until:
                return False
            turn: asyncio.Future[None] = loop.create_future()
            self._waiting.append(turn)
            await asyncio.wait([turn], timeout=until - loop.time())
        self._taken.update(keys)
        return True


def _one(push: Callable[[], Any]) -> tuple[bool, Any]:
    """One step: whether it was the last, and what it answers or wants.

    ``StopIteration`` cannot pass a future.
    """
    try:
        return False, push()
    except StopIteration as end:
        return True, end.value


def _throwing(steps: Steps[Any]) -> Callable[[], Any]:
    says = (
        "Requests for this connection, or of your own, are answered already as many as are at once."
    )
    problem = Problem(
        429, "Too many requests at once.", says, retry_after=2, code="too-many-requests"
    )
    return lambda: steps.throw(problem)
