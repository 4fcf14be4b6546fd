"""When users that draw will be able to draw no longer: the ends of what they have of their own (``core.breaks``)."""

from __future__ import annotations

from datetime import datetime

from django.db.models import Count, F, Max, Prefetch, Q

from neatlatch.core import breaks
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.users.models import User

_WORDS = {"token": "API key", "client_secret": "client secret"}


def soonest(now: datetime, most: int) -> list[tuple[User, breaks.Break]]:
    """Users that use a connection, with the end of the last thing they draw with, soonest first, so
    many at the most. Three queries."""
    own = Q(keys__credentials__state__in=Credential.LETS_IN) & ~Q(keys__credentials__digest="")
    ends_soon = (
        User.objects.filter(own)
        .annotate(
            given=Count("keys__credentials"),
            ending=Count("keys__credentials__ends"),
            last=Max("keys__credentials__ends"),
        )
        .filter(given=F("ending"), last__lte=now + breaks.HORIZON, uses__connection__isnull=False)
        .order_by("last", "name")
        .values_list("pk", flat=True)
    )
    given = Credential.objects.exclude(digest="").defer("value")
    users = User.objects.filter(pk__in=list(ends_soon[:most])).select_related("environment")
    found = []
    for user in users.prefetch_related("keys", Prefetch("keys__credentials", given)):
        own_keys = [_own(one) for key in user.keys.all() for one in key.credentials.all() if one.lives]
        if end := breaks.of_user(user.name, own_keys, now):
            found.append((user, end))
    return sorted(found, key=lambda one: breaks.urgency(one[1]))


def _own(one: Credential) -> breaks.OwnKey:
    return breaks.OwnKey(_WORDS.get(one.kind, "certificate"), one.hint, one.ends)
