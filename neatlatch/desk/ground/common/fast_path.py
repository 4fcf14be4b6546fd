"""Answers that are given before the whole of Django is gone through, for the few questions that
come thousands of times.
"""

from __future__ import annotations

import asyncio
import os
from collections import Counter
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Generic, TypeVar

import structlog

from neatlatch.desk.ground.common.asgi import Scope

# However many ask at once, no more than these hold database connections; the others queue without
# holding anything.
HANDS = int(os.environ.get("NEATLATCH_DRAW_HANDS", "16"))
POOL = ThreadPoolExecutor(HANDS, "at-once")
LARGEST_BODY = 64 * 1024
# Some eight milliseconds of work: nobody waits longer for those who came along.
MOST_TOGETHER = 32
log = structlog.get_logger()
# How often each quick path has failed in this process, by its name.
FAILED: Counter[str] = Counter()
A = TypeVar("A")
B = TypeVar("B")


class Together(Generic[A, B]):
    """Questions of one kind, worked on by one hand: those that come while it is at work are its
    next batch. Threads that take turns at the interpreter would cost more than the work. The hand
    is its own, so that nothing here waits behind the renewal of another. ``None`` as an answer: the
    long way is to answer. It also answers all of a batch whose work fails as a whole.
    """

    def __init__(self, work: Callable[[Sequence[A]], Sequence[B | None]]) -> None:
        self._work, self._thread = work, ThreadPoolExecutor(1, "together")
        self._waiting: list[tuple[A, asyncio.Future[B | None]]] = []
        self._hand: asyncio.Task[None] | None = None

    async def ask(self, a: A) -> B | None:
        """The answer, once its batch is done."""
        loop = asyncio.get_running_loop()
        future: asyncio.Future[B | None] = loop.create_future()
        self._waiting.append((a, future))
        if self._hand is None or self._hand.done():
            self._hand = loop.create_task(self._run())
        return await future

    async def _run(self) -> None:
        loop = asyncio.get_running_loop()
        while self._waiting:
            await asyncio.sleep(0)  # what arrived together goes together
            batch, self._waiting = self._waiting[:MOST_TOGETHER], self._waiting[MOST_TOGETHER:]
            answers = await loop.run_in_executor(
                self._thread, or_none, self._work, [one for one, _ in batch]
            ) or [None] * len(batch)
            for (_, future), answer in zip(batch, answers, strict=True):
                if not future.done():  # whoever asked may have hung up
                    future.set_result(answer)


def or_none(work: Callable[..., B | None], *given: Any) -> B | None:
    """What the work answers; ``None`` where it fails, whatever it is, which is logged and counted.

    The long way meets it again, and says it properly.
    """
    try:
        return work(*given)
    except Exception as error:
        name = f"{work.__module__}.{work.__qualname__}"
        FAILED[name] += 1
        # One that fails each time would fill the log with the same lines.
        whole = FAILED[name] == 1
        kind = type(error).__name__
        log.warning("a quick path failed", work=name, times=FAILED[name], kind=kind, exc_info=whole)
        return None


def headers_of(scope: Scope) -> dict[str, str]:
    """The headers of a request, their names in small letters (ASGI HTTP §2.2)."""
    return {name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]}


def address_of(scope: Scope) -> str:
    """Where a request comes from."""
    return str(scope["client"][0]) if scope.get("client") else ""


async def answer(send: Any, kind: str, text: str) -> None:
    """Answer with 200. Nothing of it is kept on the way."""
    body = text.encode()
    told = (
        ("content-type", kind),
        ("content-length", str(len(body))),
        ("cache-control", "no-store"),
        ("x-content-type-options", "nosniff"),
    )
    await send(
        {
            "type": "http.response.start",
            "status": 200,
            "headers": [(name.encode(), value.encode()) for name, value in told],
        }
    )
    await send({"type": "http.response.body", "body": body})


# What Django's own middleware says with every answer.
_WITH_ALL = (
    ("X-Content-Type-Options", "nosniff"),
    ("Referrer-Policy", "same-origin"),
    ("X-Frame-Options", "DENY"),
)


async def reply(send: Any, status: int, headers: Sequence[tuple[str, str]], body: bytes) -> None:
    """Answer with any status and header fields; its length is added."""
    told = [(name, value) for name, value in headers if name.lower() != "content-length"]
    told += [*_WITH_ALL, ("Content-Length", str(len(body)))]
    await send(
        {
            "type": "http.response.start",
            "status": status,
            "headers": [
                (name.lower().encode(), value.encode("latin-1", "replace")) for name, value in told
            ],
        }
    )
    await send({"type": "http.response.body", "body": body})


async def read(receive: Any) -> tuple[bytes | None, Any]:
    """The body of a request, if it is not too large, and a ``receive`` that gives it once more to
    whoever comes after.
    """
    seen, body = [], b""
    while True:
        event = await receive()
        seen.append(event)
        body += event.get("body", b"")
        if (
            event["type"] != "http.request"
            or not event.get("more_body")
            or len(body) > LARGEST_BODY
        ):
            break

    async def again() -> Any:
        return seen.pop(0) if seen else await receive()

    whole = all(message["type"] == "http.request" for message in seen) and not seen[-1].get(
        "more_body"
    )
    return body if whole else None, again
