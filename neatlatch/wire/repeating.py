"""Sending a request, at its pace, and again where that is safe and may help.

The rules are those of :mod:`neatlatch.core.retries`; this asks them, and says when to wait. A test
waits in its own thread and may be stopped meanwhile; a relayed request waits without any.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Generator
from datetime import datetime
from typing import TypeVar

from neatlatch.core import replies, retries

from .transport import HttpReply, StreamedReply, Transport, TransportError

A = TypeVar("A", HttpReply, StreamedReply)
# Seconds to wait before going on; what is answered in the end.
Waits = Generator[float, None, A]


def sending(
    transport: Transport,
    method: str,
    send: Callable[[], A],
    *,
    take: Callable[[], float],
    now: Callable[[], datetime],
    chance: Callable[[], float] = random.random,
    safe_anyway: bool = False,
    spread_of: Callable[[A], float | None] = lambda _: None,
) -> Waits[A]:
    """Send until there is an answer that no repetition would better, all within the transport's
    time limit.

    ``take`` takes one call out of the pace, and returns the seconds to wait for it; ``spread_of``
    an answer are the seconds that a credential takes to be known there, where it may only mean
    that. Raises :class:`TransportError` of the last try.
    """
    tries = 0
    while True:
        if (wait := take()) > 0:
            yield wait
        tries += 1
        answer, broken, asked, spread = None, None, None, None
        try:
            answer = send()
        except TransportError as error:
            if error.failure.kind == "tls":  # a certificate is no better a second later
                raise
            broken = error
        else:
            spread = spread_of(answer)
            asked = requested_wait(answer, now())
        again = retries.next_wait(
            method,
            answer.status if answer is not None else None,
            tries,
            asked=asked,
            chance=chance(),
            left=transport.left,
            safe_anyway=safe_anyway,
            spread=spread,
        )
        if again is not None:
            yield again
        elif broken is not None:
            raise broken
        elif answer is not None:
            return answer


def requested_wait(answer: HttpReply | StreamedReply, now: datetime) -> float | None:
    """The seconds to wait that an answer asks for (RFC 9110 §10.2.3); ``None``: it asks
    for none.
    """
    told = replies.header(answer.headers, "Retry-After")
    return replies.retry_after(told, now) if told is not None else None
