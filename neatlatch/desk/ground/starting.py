"""What must be in order before desk or worker start."""

from __future__ import annotations

import sys
from collections.abc import Callable

from django.conf import settings
from django.db import OperationalError

from neatlatch.desk.ground.common.keyfile import check_is_own

from . import won
from .common import safe
from .journal import services as journal

# What else is put in order, by those who know it.
AT_START: list[Callable[[], object]] = []


def check_or_stop() -> None:
    """End the program, in plain words, where the home is open to others, or the key file missing,
    damaged, open to others, or another's; then save what a program before this one won and could
    not save, and look at the journal.
    """
    try:
        check_is_own(settings.HOME)
        safe.check()
    except (safe.BadKeyFile, safe.CannotOpen) as error:
        sys.exit(f"Neat Latch does not start. {error}")
    except OperationalError:
        return  # there is no database yet; migrations make it
    for check in AT_START:
        check()
    won.take_up(again=True)
    journal.check_at_start()
