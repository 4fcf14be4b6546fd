"""Live progress as server-sent events (HTML Living Standard §9.2): a test's rungs and a round's
counts as they happen.

The events are read from the database, so it does not matter who runs the test: this process or the
worker. One look serves for all who watch in a process: it asks how far each thing is, and reads
anew only what has gone on.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections import Counter
from collections.abc import AsyncIterator, Callable
from dataclasses import asdict, dataclass, field
from typing import Any
from uuid import UUID
from weakref import WeakKeyDictionary

import structlog
from asgiref.sync import sync_to_async
from django.core.serializers.json import DjangoJSONEncoder
from django.db.models import IntegerField
from django.db.models.expressions import RawSQL
from django.http import HttpRequest, HttpResponseBase, StreamingHttpResponse

from neatlatch.core.program_tokens import ProgramRight
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.people import log_in
from neatlatch.desk.ground.people.actors import DelegatedCaller, lacks_right
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.pages.narrowing import hold
from neatlatch.desk.pages.programs import caller_of
from neatlatch.desk.work.rounds.models import Round, Test

from .api import rounds_out, test_out

log = structlog.get_logger()
_LOOK_EVERY = 0.12
_LONGEST = 600.0
# Streams of one person or program, and of all; and how often it is checked whether those who
# watch still may.
_MOST_OF_ONE, _MOST = 8, 200
_MAY_EVERY = 2.0
_watching: Counter[object] = Counter()
_ENDED = (Test.State.DONE, Test.State.STOPPED, Test.State.CUT)

# A test by its ID, or a round by its number.
Watched = UUID | int


@dataclass(frozen=True)
class WatchedProgress:
    """How far something is (``mark``), the event that tells it, and whether it is over."""

    mark: tuple[Any, ...]
    event: str
    over: bool


def read_watched(
    watched: set[Watched], before: dict[Watched, WatchedProgress]
) -> dict[Watched, WatchedProgress]:
    """What is watched as it stands, without what is gone; what has not gone on is what was seen
    before. One query for all tests and two for all rounds, and one for what has gone on.
    """
    tests = {test for test in watched if isinstance(test, UUID)}
    found: dict[Watched, WatchedProgress] = {}
    if tests:
        marks = {
            key: mark
            for key, *mark in Test.objects.filter(pk__in=tests)
            .annotate(climbed=_CLIMBED)
            .values_list("pk", *_MARK)
        }
        going = [
            key
            for key, mark in marks.items()
            if key not in before or before[key].mark != tuple(mark)
        ]
        found |= {key: before[key] for key in marks.keys() - set(going)}
        for test in Test.objects.select_related("connection").filter(pk__in=going) if going else ():
            found[test.pk] = WatchedProgress(
                tuple(marks[test.pk]), _event(test_out(test)), test.state in _ENDED
            )
    if numbers := {test for test in watched if isinstance(test, int)}:
        for told in rounds_out(list(Round.objects.filter(number__in=numbers))):
            mark = tuple(vars(told).values())
            same = before.get(told.number)
            found[told.number] = (
                same
                if same and same.mark == mark
                else WatchedProgress(mark, _event(told), told.ended is not None)
            )
    return found


_MARK = ("state", "passed", "begun", "ended", "climbed")
_CLIMBED = RawSQL("json_array_length(rounds_test.rungs)", [], output_field=IntegerField())


@dataclass
class _Watcher:
    """The one who looks, of an event loop; it ends when nobody watches any more."""

    watchers: Counter[Watched] = field(default_factory=Counter)
    seen: dict[Watched, WatchedProgress] = field(default_factory=dict)
    news: asyncio.Condition = field(default_factory=asyncio.Condition)
    task: asyncio.Task[None] | None = None

    async def begin(self, what: Watched, first: WatchedProgress) -> None:
        """Somebody watches it from now on."""
        self.watchers[what] += 1
        self.seen.setdefault(what, first)
        if self.task is None or self.task.done():
            self.task = asyncio.create_task(self._read())

    def end(self, what: Watched) -> None:
        """Somebody does not any more."""
        self.watchers[what] -= 1
        if not self.watchers[what]:
            del self.watchers[what]
            self.seen.pop(what, None)

    async def _read(self) -> None:
        while self.watchers:
            await asyncio.sleep(_LOOK_EVERY)
            watched = set(self.watchers)
            try:
                found = await sync_to_async(read_watched)(watched, dict(self.seen))
            except (
                Exception
            ):  # the database is busy, say; those who watch are told at the next look
                log.exception("could not look at what is watched")
                continue
            began_meanwhile = {key: self.seen[key] for key in self.watchers.keys() - watched}
            self.seen = {
                key: found[key] for key in watched & self.watchers.keys() if key in found
            } | began_meanwhile
            async with self.news:
                self.news.notify_all()

    async def next_reading(self) -> None:
        """Wait until it has looked again."""
        async with self.news:
            await self.news.wait()


_lookouts: WeakKeyDictionary[asyncio.AbstractEventLoop, _Watcher] = WeakKeyDictionary()


async def test_events(request: HttpRequest, identity: UUID) -> HttpResponseBase:
    """The test each time something new is known of it, until it has ended."""
    return await _stream(request, identity, "test")


async def round_events(request: HttpRequest, number: int) -> HttpResponseBase:
    """The counts of a round each time they change, until it has ended."""
    return await _stream(request, number, "round")


async def _stream(request: HttpRequest, what: Watched, called: str) -> HttpResponseBase:
    try:
        watcher = await _watcher_of(request)
    except Problem as problem:
        return problems.answer(problem)
    if watcher is None:
        return problems.answer(problems.not_logged_in())
    if isinstance(what, int) and what >= 2**63:
        return problems.answer(problems.not_found(called))
    first = (await sync_to_async(read_watched)({what}, {})).get(what)
    if first is None:
        return problems.answer(problems.not_found(called))
    if _watching[watcher.key] >= _MOST_OF_ONE or _watching.total() >= _MOST:
        return problems.answer(
            Problem(
                429,
                "You watch much at once.",
                "Close other pages that watch a test or a round.",
                retry_after=10,
                code="too-many-streams",
            )
        )
    return StreamingHttpResponse(
        _events(watcher, what, first),
        content_type="text/event-stream",
        headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
    )


@dataclass(frozen=True)
class _OneWhoWatches:
    """Who watches: under which key their streams are counted, and whether they still may."""

    key: object
    still_may: Callable[[], bool]


async def _watcher_of(request: HttpRequest) -> _OneWhoWatches | None:
    """The person who is logged in, or the caller whose token is shown; ``None``: nobody. Raises
    :class:`Problem` for a token that does not let them watch this.
    """
    if "Authorization" in request.headers:
        return await sync_to_async(_by_token)(request)
    person = await request.auser()
    if not isinstance(person, Person) or not guard.may(person, "look"):
        return None
    session = request.session.session_key or ""
    return _OneWhoWatches(person.pk, lambda: log_in.still_may(person, session))


def _by_token(request: HttpRequest) -> _OneWhoWatches:
    def look() -> object:
        caller = caller_of(request)
        if not caller.grant.holds(ProgramRight.READ):
            raise lacks_right(ProgramRight.READ)
        if isinstance(caller, DelegatedCaller):
            return caller.person.pk
        hold(request, caller.grant.environments)
        return caller.client_id

    def still_may() -> bool:
        try:
            look()
        except Problem:
            return False
        return True

    return _OneWhoWatches(look(), still_may)


async def _events(
    watcher: _OneWhoWatches, what: Watched, seen: WatchedProgress
) -> AsyncIterator[str]:
    lookout = _lookouts.setdefault(asyncio.get_running_loop(), _Watcher())
    _watching[watcher.key] += 1
    await lookout.begin(what, seen)
    try:
        until, asked = time.monotonic() + _LONGEST, time.monotonic()
        yield seen.event
        while not seen.over and time.monotonic() < until:
            await lookout.next_reading()
            if time.monotonic() - asked > _MAY_EVERY:
                asked = time.monotonic()
                if not await sync_to_async(watcher.still_may)():
                    return
            if (now := lookout.seen.get(what)) is None:
                return
            if now.event != seen.event:
                yield now.event
            seen = now
    finally:
        lookout.end(what)
        _watching[watcher.key] -= 1
        if not _watching[watcher.key]:
            del _watching[watcher.key]


def _event(seen: Any) -> str:
    return f"data: {json.dumps(asdict(seen), cls=DjangoJSONEncoder)}\n\n"
