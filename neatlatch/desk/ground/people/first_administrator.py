"""The first administrator, made at a one-time address that is printed when Neat Latch starts."""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import secrets
from datetime import datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.utils import timezone

from neatlatch.desk.ground.common.actors import NOBODY
from neatlatch.desk.ground.common.problems import Problem

from . import services
from .models import Person, Role

VALID_FOR = timedelta(hours=24)


def open_address() -> str:
    """A new token for the set-up address, in place of any before it; empty: somebody is there."""
    if Person.objects.exists():
        return ""
    token = secrets.token_urlsafe(24)
    ends = timezone.now() + VALID_FOR
    content = json.dumps({"digest": _digest(token), "ends": ends.isoformat()})
    beside = _file().with_suffix(".new")
    beside.write_text(content)
    beside.chmod(0o600)
    os.replace(beside, _file())
    return token


def make(token: str, username: str, name: str, password: str) -> Person:
    """Make the first administrator. Raises :class:`Problem`: 409 where somebody is there already,
    403 for a token that is not the newest, or has expired, 422 for what is wrong with the fields.
    """
    if Person.objects.exists():
        raise services.somebody_is_there()
    if not _is_valid(token):
        raise Problem(
            403,
            "This set-up address does not work.",
            "It has expired, or Neat Latch was started again since and printed a new one. Start "
            "it again with “nlatch serve” and open the address that it prints.",
            code="bad-set-up-address",
        )
    person = services.add(NOBODY, username, name, Role.ADMINISTRATOR, password, only_as_first=True)
    _file().unlink(missing_ok=True)
    return person


def _is_valid(token: str) -> bool:
    try:
        kept = json.loads(_file().read_text())
        digest, ends = str(kept["digest"]), datetime.fromisoformat(kept["ends"])
    except (OSError, ValueError, TypeError, KeyError):  # there is none, or somebody damaged it
        return False
    return hmac.compare_digest(digest, _digest(token)) and timezone.now() < ends


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).hexdigest()


def _file() -> Path:
    return Path(settings.HOME) / "first-administrator.json"
