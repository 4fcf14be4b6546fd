"""Background work: the clock that begins rounds, renews tokens, and takes up what was cut off."""

from __future__ import annotations

import structlog
from django.utils import timezone
from huey import crontab
from huey.contrib.djhuey import HUEY, db_periodic_task, db_task, on_startup

from neatlatch.desk.common import guard
from neatlatch.desk.connections import tokens
from neatlatch.desk.credentials import handing
from neatlatch.desk.drawing import ledger
from neatlatch.desk.house import tokens as house_tokens

from . import services

log = structlog.get_logger()
# So many tests of a round run side by side.
HANDS = 4


@db_task()
def work_on(number: int) -> None:
    """Work on a round until none of its tests is left."""
    services.work_on(number)


def all_hands(number: int) -> None:
    """Put every worker thread on a round. More hands than tests do no harm: they find nothing and end."""
    for _ in range(HANDS):
        work_on(number)


@db_task()
def renew() -> None:
    """Renew tokens that are near their end."""
    tokens.renew_those_due()


@db_task()
def clear_leftovers() -> None:
    """Clear away what tests left behind."""
    services.clear_leftovers()


@db_task()
def keep_house() -> None:
    """Revoke what nobody took, and clear away what ended."""
    now = timezone.now()
    handing.end_untaken(now)
    house_tokens.clear_ended(now)
    guard.forget_old(now)
    ledger.roll_up(now)


@db_periodic_task(crontab(minute="*"))
def tick() -> None:
    """Each minute: take up what was cut off, renew, and begin a round when one is due."""
    renew()
    for number in services.take_up_again(just_started=False):
        all_hands(number)
    if services.round_is_due():
        all_hands(services.begin_round("the clock").number)
    clear_leftovers()
    keep_house()


_started = {"first": True}


@on_startup()
def take_up() -> None:
    """When the worker starts, once for the process: what its forerunner left running is begun again at once."""
    if not _started.pop("first", False):
        return
    numbers = services.take_up_again(just_started=True)
    for number in numbers:
        all_hands(number)
    if not numbers and services.round_is_due():
        all_hands(services.begin_round("the clock").number)
    renew()
    clear_leftovers()


__all__ = ["HUEY", "all_hands", "clear_leftovers", "keep_house", "renew", "tick", "work_on"]
