"""What a change of an application's profile means for its connections: worked out before it is
saved, and done with it.
"""

from __future__ import annotations

from dataclasses import dataclass

from django.utils import timezone

from neatlatch.core import changes, pins, sent
from neatlatch.core.profiles import Profile
from neatlatch.core.schemes import OAUTH2
from neatlatch.core.sent import Sender
from neatlatch.desk.estate.applications.following import Save, follows
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.connections.models import Connection

from . import halves

GONE = "Its authentication scheme would be removed; it would have to change to another."


@dataclass(frozen=True)
class ChangeEffect:
    """What a change means for a connection.

    ``pin``: one that would stand otherwise, and how (``before``, ``after``). ``sent``: a request of
    a test that would be sent otherwise. Neither: the connection would stop at once.
    """

    ref: str
    why: str
    pin: str = ""
    before: str = ""
    after: str = ""
    sent: str = ""


def of_change(application: Application, profile: Profile) -> list[ChangeEffect]:
    """Work out what a profile would change, connection by connection."""
    before, now, found = application.read_profile(), timezone.now(), []
    for connection in halves.each(Connection.objects.filter(deployment__application=application)):
        if profile.scheme(connection.scheme) is None:
            found.append(ChangeEffect(connection.ref, GONE))
            continue
        old_pins = {pin.key: pin for pin in pins.work_out(halves.halves(connection, now))}
        new_pins = {pin.key: pin for pin in pins.work_out(halves.halves(connection, now, profile))}
        found += [
            _of_pin(connection.ref, old_pins.get(key), new_pins.get(key))
            for key in dict.fromkeys((*old_pins, *new_pins))
            if _fit(old_pins.get(key)) != _fit(new_pins.get(key))
        ]
        found += _of_requests(connection, before, profile)
    return found


def _fit(pin: pins.Pin | None) -> str:
    return pin.fit.value if pin else ""


def _of_pin(ref: str, old: pins.Pin | None, new: pins.Pin | None) -> ChangeEffect:
    shown = new or old
    assert shown is not None
    return ChangeEffect(
        ref,
        new.why if new else "This pin would no longer be asked for.",
        shown.label,
        _fit(old),
        _fit(new),
    )


def _of_requests(connection: Connection, before: Profile, after: Profile) -> list[ChangeEffect]:
    old, new = _requests(connection, before), _requests(connection, after)
    # What changes several requests in the same way is said once.
    found: dict[str, list[str]] = {}
    for what in dict.fromkeys((*old, *new)):
        stood, stands = old.get(what), new.get(what)
        if stood == stands:
            continue
        if stands is None:
            why = "It would not be sent any more."
        elif stood is None:
            why = f"It would be sent in addition: {stands.method} {stands.address}."
        else:
            why = f"{'; '.join(changes.in_words(stood.as_plain(), stands.as_plain()))}."
        found.setdefault(why, []).append(what)
    return [
        ChangeEffect(connection.ref, why, sent=", ".join(whats)) for why, whats in found.items()
    ]


def _requests(connection: Connection, profile: Profile) -> dict[str, sent.SentRequest]:
    held: frozenset[str] | None
    if connection.scheme in OAUTH2:
        granted = halves.granted(connection)
        held = frozenset(connection.scopes) if granted is None else granted
    else:
        held = profile.known_rights(connection.client.rights if connection.client else ())
    sender = Sender(
        connection.scheme,
        connection.values,
        frozenset(connection.sent_secrets()),
        frozenset(connection.scopes),
        held,
    )
    return sent.requests(profile, sender)


@follows
def no_longer_proven(application: Application, before: Profile, after: Profile) -> Save:
    """Work out which connections would send something else: nobody has tried them since, once it is
    saved.
    """
    rows = halves.each(Connection.objects.filter(deployment__application=application))
    changed = [row.pk for row in rows if _requests(row, before) != _requests(row, after)]

    def save() -> None:
        for connection in Connection.objects.select_for_update().filter(pk__in=changed):
            connection.forget_health()
            connection.changed_at = timezone.now()
            connection.save(update_fields=[*Connection.HEALTH, "changed_at"])

    return save
