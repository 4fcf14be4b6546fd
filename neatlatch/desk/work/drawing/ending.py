"""When users that draw will be able to draw no longer: the ends of what they have of their own (``core.breaks``)."""

from __future__ import annotations

from datetime import datetime

from django.db.models import Prefetch

from neatlatch.core import breaks
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.users.models import User

_WORDS = {"token": "API key", "client_secret": "client secret"}


def soonest(now: datetime) -> list[tuple[User, breaks.Break]]:
    """Users that use a connection, with the end of the last thing they draw with. Three queries, however many there are."""
    given = Credential.objects.exclude(digest="").defer("value")
    users = User.objects.filter(keys__isnull=False, uses__connection__isnull=False).distinct().select_related("environment")
    found = []
    for user in users.prefetch_related("keys", Prefetch("keys__credentials", given)):
        own = [_own(one) for key in user.keys.all() for one in key.credentials.all() if one.lives]
        if end := breaks.of_user(user.name, own, now):
            found.append((user, end))
    return found


def _own(one: Credential) -> breaks.OwnKey:
    return breaks.OwnKey(_WORDS.get(one.kind, "certificate"), one.hint, one.ends)
