"""The desk on this machine, for commands that work on it without asking its API."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any

from neatlatch import locations


class NoDesk(Exception):
    """A command finds no desk on this machine; the message says what to do."""


def _check_home() -> None:
    """Look for the desk before its settings do, which make its folder. Raises :class:`NoDesk`."""
    home = Path(os.environ.get("NEATLATCH_HOME") or locations.default_home())
    if not (home / "desk.sqlite3").is_file():
        raise NoDesk(
            f"there is no desk in {home}. Set NEATLATCH_HOME to its folder; that of a demo "
            f"is var/demo/PORT."
        )


def set_up(serves: bool = False, makes: bool = False) -> None:
    """Set the desk up in this process, so that its services can be called.

    A command tells its log only what is wrong; a program that ``serves`` tells more.

    ``makes``: the command may make the desk that it works on. Raises :class:`NoDesk`.
    """
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
    os.environ.setdefault("NEATLATCH_LOG", "INFO" if serves else "WARNING")
    import django
    from django.apps import apps

    if not apps.ready:
        if not serves and not makes:
            _check_home()
        django.setup()


def acting(username: str) -> Any:
    """The person in whose name a command acts: named, or the only administrator there is."""
    from neatlatch.desk.ground.people.models import Person, Role

    administrators = Person.objects.filter(role=Role.ADMINISTRATOR, is_active=True)
    found = administrators.filter(username=username).first() if username else None
    if found is None and not username and administrators.count() == 1:
        found = administrators.get()
    if found is None:
        print("nlatch: say with --as which administrator does this.", file=sys.stderr)
    return found
