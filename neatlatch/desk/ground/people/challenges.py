"""What is given out to be brought back, once and in time: challenges for passkeys to sign, and the
codes that stand for one that has.
"""

from __future__ import annotations

import hashlib
from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from .models import Challenge, Passkey, Person

_MOST = 20
# What the code of a passkey that has signed begins with.
PROVED = "passkey-"


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


@transaction.atomic
def give_out(
    person: Person,
    purpose: Challenge.Purpose,
    text: str,
    lives: timedelta,
    passkey: Passkey | None = None,
) -> None:
    """Give a text out, to be brought back once within a time; only its digest is kept."""
    now = timezone.now()
    Challenge.objects.filter(ends__lt=now).delete()
    for old in person.challenges.order_by("-ends")[_MOST - 1 :]:
        old.delete()
    Challenge.objects.create(
        digest=_digest(text), person=person, purpose=purpose, passkey=passkey, ends=now + lives
    )


def brought_back(
    purpose: Challenge.Purpose, text: str, now: datetime, person: Person | None = None
) -> Challenge | None:
    """What was given out, if it has come back in time and for the first time."""
    rows = Challenge.objects.select_related("person", "passkey").filter(
        purpose=purpose, digest=_digest(text), ends__gte=now
    )
    found = (rows.filter(person=person) if person is not None else rows).first()
    return (
        found if found is not None and Challenge.objects.filter(pk=found.pk).delete()[0] else None
    )
