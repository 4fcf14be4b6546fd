"""Live progress as server-sent events (HTML Living Standard §9.2): a test's rungs and a round's counts as they happen.

The events are read from the database, so they show whoever runs the test: this process or the worker.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections import Counter
from collections.abc import AsyncIterator, Callable
from dataclasses import asdict
from typing import TypeVar
from uuid import UUID

from asgiref.sync import sync_to_async
from django.core.serializers.json import DjangoJSONEncoder
from django.http import HttpRequest, HttpResponseBase, StreamingHttpResponse

from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.people import log_in
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.rounds.models import Test

from .api import RoundFull, TestOut, find_test, round_full, test_out

S = TypeVar("S", TestOut, RoundFull)

_LOOK_EVERY = 0.12
_LONGEST = 600.0
# Streams of one person, and of all; and how often it is looked whether whoever watches still may.
_MOST_OF_ONE, _MOST = 8, 200
_MAY_EVERY = 2.0
_watching: Counter[int] = Counter()


async def test_events(request: HttpRequest, identity: UUID) -> HttpResponseBase:
    """The test each time something new is known of it, until it has ended."""
    ended = {Test.State.DONE.value, Test.State.STOPPED.value, Test.State.CUT.value}
    return await _stream(request, lambda: test_out(find_test(identity)), lambda seen: seen.state in ended)


async def round_events(request: HttpRequest, number: int) -> HttpResponseBase:
    """The round each time something changed in it, until it has ended."""
    return await _stream(request, lambda: round_full(number), lambda seen: seen.ended is not None)


async def _stream(request: HttpRequest, look: Callable[[], S], over: Callable[[S], bool]) -> HttpResponseBase:
    person = await request.auser()
    if not isinstance(person, Person) or not guard.may(person, "look"):
        return problems.answer(Problem(401, "Nobody is logged in.", "Log in, then try again."))
    try:
        first = await sync_to_async(look)()
    except Problem as problem:
        return problems.answer(problem)

    if _watching[person.pk] >= _MOST_OF_ONE or _watching.total() >= _MOST:
        return problems.answer(Problem(429, "You watch much at once.", "Close other pages that watch a test or a round.", retry_after=10))
    session = request.session.session_key or ""

    async def events() -> AsyncIterator[str]:
        _watching[person.pk] += 1
        try:
            seen, until, asked = first, time.monotonic() + _LONGEST, time.monotonic()
            yield _event(seen)
            told = _event(seen)
            while not over(seen) and time.monotonic() < until:
                await asyncio.sleep(_LOOK_EVERY)
                if time.monotonic() - asked > _MAY_EVERY:
                    asked = time.monotonic()
                    if not await sync_to_async(log_in.still_may)(person, session):
                        return
                try:
                    seen = await sync_to_async(look)()
                except Problem:
                    return
                if (event := _event(seen)) != told:
                    told = event
                    yield event
        finally:
            _watching[person.pk] -= 1
            if not _watching[person.pk]:
                del _watching[person.pk]

    return StreamingHttpResponse(
        events(), content_type="text/event-stream", headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    )


def _event(seen: TestOut | RoundFull) -> str:
    return f"data: {json.dumps(asdict(seen), cls=DjangoJSONEncoder)}\n\n"
