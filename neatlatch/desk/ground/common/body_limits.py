"""How many octets a request may bring, by its address.

Counted as they arrive, before anything is kept of them, in memory or on disk.
"""

from __future__ import annotations

import asyncio
import os
import re
from collections.abc import Awaitable, Callable

from neatlatch.desk.ground.common.asgi import Event

from .problems import Problem, octets

KIB = 1024
USUAL = 8 * KIB * KIB
# The first that fits counts. Anyone who is not known yet, or comes thousands of times, has little
# to say.
BY_ADDRESS = (
    (re.compile(r"/api/session(/.*)?"), 64 * KIB),
    (re.compile(r"/api/links/.*"), 64 * KIB),
    (re.compile(r"/house/.*"), 64 * KIB),
    (re.compile(r"/draw(/.*)?"), 64 * KIB),
    (re.compile(r"/relay/.*"), 2 * KIB * KIB),
    (re.compile(r"/api/inventory/(previews|imports)"), 40 * KIB * KIB),
    (re.compile(r"/api/.*"), USUAL),
    # Pages, and what answers nobody's body.
    (re.compile(r".*", re.DOTALL), 64 * KIB),
)
Receive = Callable[[], Awaitable[Event]]
Send = Callable[[Event], Awaitable[None]]


# Seconds from a request's header to the end of its body: half a body holds a place for ever
# otherwise.
WITHIN = float(os.environ.get("NEATLATCH_BODY_SECONDS", "60"))


class TooLarge(Exception):
    """A body has more octets than its address takes."""


class TooSlow(Exception):
    """A body did not come to its end in time."""


def of(path: str) -> int:
    """The most octets that a body to this address may have."""
    return next(most for pattern, most in BY_ADDRESS if pattern.fullmatch(path))


def declared(headers: list[tuple[bytes, bytes]]) -> int:
    """What ``Content-Length`` says; 0 where it says nothing.

    The server has refused what is no number (RFC 9112 §6.3).
    """
    said = next((value for name, value in headers if name == b"content-length"), b"0")
    return int(said) if said.isdigit() else 0


def counted(receive: Receive, most: int) -> Receive:
    """A ``receive`` that raises :class:`TooLarge` at the event with which the body becomes too
    large, and :class:`TooSlow` where it has not come in time.
    """
    got, until, whole = 0, asyncio.get_running_loop().time() + WITHIN, False

    async def count() -> Event:
        nonlocal got, whole
        if whole:  # what comes now is that the caller hangs up
            return await receive()
        try:
            async with asyncio.timeout_at(until):
                event = await receive()
        except TimeoutError as error:
            raise TooSlow from error
        if event["type"] == "http.request":
            got += len(event.get("body", b""))
            whole = not event.get("more_body", False)
            if got > most:
                raise TooLarge
        return event

    return count


async def refuse(send: Send, most: int) -> None:
    """Answer with 413.

    The rest of the body is not read: the line is closed after the answer (RFC 9110 §15.5.14).
    """
    shown = f"{most // KIB // KIB} MiB" if most >= KIB * KIB else f"{most // KIB} KiB"
    says = f"More than {shown} is not read here. Send only the part with the values."
    await _close_with(
        send, Problem(413, "This is too large.", says, {"text": says}, code="too-large")
    )


async def give_up(send: Send) -> None:
    """Answer with 408 (RFC 9110 §15.5.9), and close the line."""
    await _close_with(
        send,
        Problem(
            408,
            "The request did not come to its end.",
            f"Its body must be here within {WITHIN:.0f} seconds. Nothing was done; send it again.",
            code="request-incomplete",
        ),
    )


async def _close_with(send: Send, problem: Problem) -> None:
    body = octets(problem)
    headers = [
        (b"content-type", b"application/problem+json"),
        (b"content-length", str(len(body)).encode()),
        (b"connection", b"close"),
        (b"cache-control", b"no-store"),
        (b"x-content-type-options", b"nosniff"),
    ]
    await send({"type": "http.response.start", "status": problem.status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
