"""Answers that are given before the whole of Django is gone through, for the few questions that come thousands of times."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from typing import Any

# However many ask at once, no more than these hold database connections; the others queue without holding anything.
HANDS = int(os.environ.get("NEATLATCH_DRAW_HANDS", "16"))
POOL = ThreadPoolExecutor(HANDS, "at-once")
LARGEST_BODY = 64 * 1024


def headers_of(scope: dict[str, Any]) -> dict[str, str]:
    """The headers of a request, their names in small letters (ASGI HTTP §2.2)."""
    return {name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]}


def address_of(scope: dict[str, Any]) -> str:
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
    await send({"type": "http.response.start", "status": 200, "headers": [(name.encode(), value.encode()) for name, value in told]})
    await send({"type": "http.response.body", "body": body})


async def read(receive: Any) -> tuple[bytes | None, Any]:
    """The body of a request, if it is not too large, and a ``receive`` that gives it once more to whoever comes after."""
    seen, body = [], b""
    while True:
        event = await receive()
        seen.append(event)
        body += event.get("body", b"")
        if event["type"] != "http.request" or not event.get("more_body") or len(body) > LARGEST_BODY:
            break

    async def again() -> Any:
        return seen.pop(0) if seen else await receive()

    whole = all(one["type"] == "http.request" for one in seen) and not seen[-1].get("more_body")
    return body if whole else None, again
