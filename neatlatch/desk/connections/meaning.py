"""What a change of an application's profile means for its connections, worked out before it is saved."""

from __future__ import annotations

from typing import Any

from django.utils import timezone

from neatlatch.core import pins
from neatlatch.core.profiles import Profile
from neatlatch.desk.applications.models import Application

from . import halves
from .models import Connection


def of_change(application: Application, profile: Profile) -> list[dict[str, Any]]:
    """Every pin that would stand otherwise, connection by connection; a scheme that is taken away stops its connections at once."""
    now, found = timezone.now(), []
    for one in halves.each(Connection.objects.filter(place__application=application)):
        if profile.scheme(one.scheme) is None:
            found.append(
                {
                    "ref": one.ref,
                    "pin": "",
                    "before": "",
                    "after": "",
                    "why": "Its way of being let in would be gone; it would have to change to another.",
                }
            )
            continue
        before = {pin.key: pin for pin in pins.work_out(halves.halves(one, now))}
        after = {pin.key: pin for pin in pins.work_out(halves.halves(one, now, profile))}
        for key in dict.fromkeys((*before, *after)):
            old, new = before.get(key), after.get(key)
            if old is None or new is None or old.fit is not new.fit:
                shown = new or old
                assert shown is not None
                found.append({"ref": one.ref, "pin": shown.label, "before": old.fit.value if old else "", "after": new.fit.value if new else "",
                              "why": new.why if new else "This pin would no longer be asked for."})  # fmt: skip
    return found
