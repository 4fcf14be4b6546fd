"""How many octets a request may bring, by its address. Counted as they arrive, before anything is kept of them, in memory or on disk."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable
from typing import Any

from .problems import Problem, octets

KIB = 1024
USUAL = 8 * KIB * KIB
# The first that fits counts. Whoever is not known yet, or comes thousands of times, has little to say.
BY_ADDRESS = (
    (re.compile(r"/api/session(/.*)?"), 64 * KIB),
    (re.compile(r"/api/asked/.*"), 64 * KIB),
    (re.compile(r"/house/.*"), 64 * KIB),
    (re.compile(r"/draw(/.*)?"), 64 * KIB),
    (re.compile(r"/relay/.*"), 2 * KIB * KIB),
    (re.compile(r"/api/.*"), USUAL),
    # Pages, and what answers nobody's body.
    (re.compile(r".*", re.DOTALL), 64 * KIB),
)
Receive = Callable[[], Awaitable[dict[str, Any]]]
Send = Callable[[dict[str, Any]], Awaitable[None]]


class TooLarge(Exception):
    """A body has more octets than its address takes."""


def of(path: str) -> int:
    """The most octets that a body to this address may have."""
    return next(most for pattern, most in BY_ADDRESS if pattern.fullmatch(path))


def declared(headers: list[tuple[bytes, bytes]]) -> int:
    """What ``Content-Length`` says; 0 where it says nothing. The server has refused what is no number (RFC 9112 §6.3)."""
    said = next((value for name, value in headers if name == b"content-length"), b"0")
    return int(said) if said.isdigit() else 0


def counted(receive: Receive, most: int) -> Receive:
    """A ``receive`` that raises :class:`TooLarge` at the event with which the body becomes too large."""
    got = 0

    async def count() -> dict[str, Any]:
        nonlocal got
        event = await receive()
        if event["type"] == "http.request":
            got += len(event.get("body", b""))
            if got > most:
                raise TooLarge
        return event

    return count


async def refuse(send: Send, most: int) -> None:
    """Answer with 413. The rest of the body is not read: the line is closed after the answer (RFC 9110 §15.5.14)."""
    shown = f"{most // KIB // KIB} MiB" if most >= KIB * KIB else f"{most // KIB} KiB"
    says = f"More than {shown} is not read here. Send only the part with the values."
    body = octets(Problem(413, "This is too large.", says, {"text": says}))
    headers = [(b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode()), (b"connection", b"close"),
               (b"cache-control", b"no-store"), (b"x-content-type-options", b"nosniff")]  # fmt: skip
    await send({"type": "http.response.start", "status": 413, "headers": headers})
    await send({"type": "http.response.body", "body": body})
