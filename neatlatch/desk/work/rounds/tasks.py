"""Background work: the queue that works on rounds, and what is scheduled beside it."""

from __future__ import annotations

import threading
from datetime import timedelta

import structlog
from django.utils import timezone
from huey.contrib.djhuey import HUEY, db_task, on_shutdown, on_startup

from neatlatch.desk.authority import handovers, scheduled_backups
from neatlatch.desk.authority.house import tokens as house_tokens
from neatlatch.desk.estate.connections import naming, renewals, set_aside
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground import guard, won
from neatlatch.desk.ground.common import settling
from neatlatch.desk.ground.common.actors import CLOCK, Actor
from neatlatch.desk.ground.journal import services as journal
from neatlatch.desk.ground.people import log_in
from neatlatch.desk.work.drawing import ledger
from neatlatch.desk.work.finding import index
from neatlatch.desk.work.inventory import blocks as imports

from . import at_work, leftovers, services
from .clockwork import Clockwork, Loop
from .models import Round, Test

log = structlog.get_logger()
# So many tests of a round run side by side. A worker has two threads more, for the tests that
# somebody waits for.
ROUND_THREADS = 4
# Between two looks. A token is renewed a minute before its end or earlier, so a look of half that
# time finds each.
ROUNDS, RENEWALS, HOUSE = timedelta(seconds=60), timedelta(seconds=30), timedelta(seconds=60)
SETTLING, IMPORTS = timedelta(seconds=2), timedelta(seconds=2)


@db_task()
def work_on(number: int) -> None:
    """Work on a round until none of its tests is left."""
    services.work_on(number)


@db_task()
def work_on_awaited() -> None:
    """Work on the tests that somebody waits for until none is left."""
    services.work_on_awaited()


def _start_threads(number: int) -> None:
    """Put worker threads on a round.

    More threads than tests do no harm: they find nothing to do and end.
    """
    for _ in range(ROUND_THREADS):
        work_on(number)


def start_round(by: Actor) -> Round:
    """Begin a round over all connections, and have the worker work on it.

    Raises :class:`Problem` where no worker runs.
    """
    _need_worker()
    begun = services.begin_round(by)
    _start_threads(begun.number)
    return begun


def start_test(by: Actor, connection: Connection, last: str = "") -> Test:
    """Begin a test, which the worker runs ahead of its rounds; ``last`` is the rung to stop after.

    Raises :class:`Problem` where no worker runs.
    """
    _need_worker()
    test = services.begin_test(by, connection, last)
    if test.state == Test.State.WAITING:
        work_on_awaited()
    return test


def _need_worker() -> None:
    at_work.need("so nothing can be tested")


def look_after_rounds() -> None:
    """Take up what was cut off, the first time all that a forerunner left running, and begin a
    round when one is due.
    """
    numbers = services.take_up_again(just_started=not _took_up.is_set())
    _took_up.set()
    for number in numbers:
        _start_threads(number)
    if services.awaited().exists():  # the one who began it may be gone before it told the queue
        work_on_awaited()
    if services.round_is_due():
        _start_threads(services.begin_round(CLOCK).number)


def renew() -> None:
    """Renew tokens that are near their end, and save what a process that is gone had won."""
    won.take_up()
    renewals.look_after_all()


def catch_up() -> None:
    """Work out what lists show and is stale, and go on with an index that is rewritten."""
    settling.catch_up()
    index.finish()


def keep_house() -> None:
    """Revoke what nobody took, and clear away what ended.

    What fails is logged and holds nothing else up.
    """
    now = timezone.now()
    for work in (
        handovers.end_untaken,
        set_aside.let_go_of_old,
        house_tokens.clear_ended,
        guard.forget_old,
        log_in.forget_old,
        ledger.roll_up,
        journal.check_a_slice,
        services.forget_old_samples,
        imports.forget_old,
        naming.end_unused,
    ):
        try:
            work(now)
        except Exception:
            log.exception("house-keeping failed; it is tried again", what=work.__qualname__)


# Whether what a forerunner left was taken up: where the database refuses that, it is tried again.
_took_up = threading.Event()
_started: list[Clockwork] = []
_starting = threading.Lock()


@on_startup()
def start() -> None:
    """When the worker starts, once for the process: the clock runs, whatever state the database is
    in.
    """
    with _starting:  # every worker thread says that it starts
        if _started:
            return
        at_work.begin()
        _started.append(
            Clockwork(
                Loop("rounds", look_after_rounds, ROUNDS, busy=services.is_under_way),
                Loop("renewals", renew, RENEWALS),
                Loop("leftovers", leftovers.clear_all, HOUSE),
                Loop("house", keep_house, HOUSE),
                Loop("settling", catch_up, SETTLING),
                Loop("imports", imports.go_on, IMPORTS),
                Loop("backups", scheduled_backups.look_after, HOUSE),
            )
        )
        _started[0].start()


@on_shutdown()
def stop() -> None:
    """When the worker stops."""
    for clockwork in _started:
        clockwork.stop()


__all__ = [
    "HUEY",
    "keep_house",
    "look_after_rounds",
    "renew",
    "start",
    "start_round",
    "start_test",
    "stop",
    "work_on",
    "work_on_awaited",
]
