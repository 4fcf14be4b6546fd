"""Fast path: responses to the few requests that come thousands of times, without Django's
middleware and views.
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

# At most so many threads hold database connections; further requests queue without one.
DRAW_THREADS = int(os.environ.get("NEATLATCH_DRAW_THREADS", "16"))
POOL = ThreadPoolExecutor(DRAW_THREADS, "fast-path")
LARGEST_BODY = 64 * 1024
# Some eight milliseconds of work: no request waits longer for the others of its batch.
LARGEST_BATCH = 32
log = structlog.get_logger()
# How often each fast path has failed in this process, by its name.
FAILED: Counter[str] = Counter()
A = TypeVar("A")
B = TypeVar("B")


class BatchedCalls(Generic[A, B]):
    """Batch requests of one kind on a dedicated thread.

    Requests that arrive while a batch is being worked on form the next one: threads that take turns
    at the interpreter would cost more than the work, and on a thread of its own a batch does not
    wait behind another request's renewal. ``None`` as a result sends the request on the slow path;
    so does a failure of ``work``, for the whole batch.
    """

    def __init__(self, work: Callable[[Sequence[A]], Sequence[B | None]]) -> None:
        self._work, self._thread = work, ThreadPoolExecutor(1, "batches")
        self._waiting: list[tuple[A, asyncio.Future[B | None]]] = []
        self._runner: asyncio.Task[None] | None = None

    async def call(self, request: A) -> B | None:
        """Return the result for a request, once its batch is done."""
        loop = asyncio.get_running_loop()
        future: asyncio.Future[B | None] = loop.create_future()
        self._waiting.append((request, future))
        if self._runner is None or self._runner.done():
            self._runner = loop.create_task(self._run())
        return await future

    async def _run(self) -> None:
        loop = asyncio.get_running_loop()
        while self._waiting:
            await asyncio.sleep(0)  # what arrives in the same turn of the loop is one batch
            batch, self._waiting = self._waiting[:LARGEST_BATCH], self._waiting[LARGEST_BATCH:]
            answers = await loop.run_in_executor(
                self._thread, or_none, self._work, [request for request, _ in batch]
            ) or [None] * len(batch)
            for (_, future), answer in zip(batch, answers, strict=True):
                if not future.done():  # the client may have disconnected
                    future.set_result(answer)


def or_none(work: Callable[..., B | None], *arguments: Any) -> B | None:
    """Return the result of ``work``; ``None`` where it raises, which is logged and counted.

    The slow path meets the same error, and reports it to the client.
    """
    try:
        return work(*arguments)
    except Exception as error:
        name = f"{work.__module__}.{work.__qualname__}"
        FAILED[name] += 1
        # A path that fails each time would fill the log with the same traceback.
        whole = FAILED[name] == 1
        kind = type(error).__name__
        log.warning("a fast path failed", work=name, times=FAILED[name], kind=kind, exc_info=whole)
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
    anyone who comes after.
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
