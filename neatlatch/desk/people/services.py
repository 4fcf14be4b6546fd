"""Adding people, changing their roles, taking away their access."""

from __future__ import annotations

import base64
import os
from datetime import datetime, timedelta

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.db.models import F
from django.utils import timezone

from neatlatch.core import totp
from neatlatch.desk.common import safe
from neatlatch.desk.common.problems import Problem, wrong_fields
from neatlatch.desk.journal.services import write

from .models import Person, Role


def add(by: Person | None, username: str, name: str, role: str, password: str) -> Person:
    """Add a person. Raises :class:`Problem` where something is wrong with what was given."""
    errors: dict[str, str] = {}
    username = username.strip()
    if not username or " " in username:
        errors["username"] = "A login name has no spaces and is not empty."
    elif Person.objects.filter(username__iexact=username).exists():
        errors["username"] = "Somebody has this login name already."
    if role not in Role.values:
        errors["role"] = f"A role is one of {', '.join(Role.values)}."
    first, _, last = name.strip().partition(" ")
    person = Person(username=username, first_name=first[:150], last_name=last[:150], role=role)
    try:
        validate_password(password, person)
    except ValidationError as error:
        errors["password"] = " ".join(error.messages)
    if errors:
        raise wrong_fields(errors)
    person.set_password(password)  # slow on purpose, so before anybody waits for the database
    try:
        with transaction.atomic():
            person.save(force_insert=True)
            write(by, "added", "person", username, {"role": role})
    except IntegrityError as error:
        raise wrong_fields({"username": "Somebody has this login name already."}) from error
    return person


def is_last_administrator(person: Person) -> bool:
    """Whether a person is the only administrator who can log in: one always remains."""
    administrators = Person.objects.filter(role=Role.ADMINISTRATOR, is_active=True, left=None)
    return administrators.filter(pk=person.pk).exists() and not administrators.exclude(pk=person.pk).exists()


@transaction.atomic
def change(by: Person, person: Person, role: str | None, active: bool | None) -> Person:
    """Change a role, or switch somebody's access on or off. One administrator always remains."""
    if role is not None and role not in Role.values:
        raise wrong_fields({"role": f"A role is one of {', '.join(Role.values)}."})
    loses = (role is not None and role != Role.ADMINISTRATOR) or active is False
    if loses and is_last_administrator(person):
        raise wrong_fields({"role": "This is the last administrator. Make somebody else one first."})
    before = {"role": person.role, "active": person.is_active}
    if role is not None:
        person.role = role
    if active is not None:
        person.is_active = active
        person.left = None if active else person.left
    if before != {"role": person.role, "active": person.is_active}:
        person.epoch += 1  # a session of before does not come back with the access either
    person.save(update_fields=["role", "is_active", "left", "epoch"])
    write(by, "changed", "person", person.username, {"before": before, "after": {"role": person.role, "active": person.is_active}})
    return person


# The second factor

_MOST_WRONG, _REST = 5, timedelta(minutes=15)


# A factor that whoever has a session for an hour could set up opens nothing that is stored.
_YOUNG = timedelta(hours=24)
_MOST_NOTICES = 20


def begin_factor(person: Person, password: str, code: str) -> tuple[str, str]:
    """Begin to set up a second factor: answers its secret as it is typed and as an address for devices. It counts once a code of it was shown.

    A session alone is not enough: the old factor's ``code`` is wanted, or the ``password`` where there is none. Raises :class:`Problem`.
    """
    prove(person, password, code)
    secret = os.urandom(totp.SECRET_OCTETS)
    sealed = safe.seal(base64.b64encode(secret).decode(), person.place_of("factor_begun"))
    Person.objects.filter(pk=person.pk).update(factor_begun=sealed)
    return totp.as_text(secret), totp.address(secret, person.username, "Neat Latch")


def prove(person: Person, password: str, code: str) -> None:
    """That it is the person, and not only their session: by their second factor, by their password where they have none. Raises :class:`Problem`."""
    if Person.objects.filter(pk=person.pk, factor__isnull=False).exists():
        check_factor(person, code)
        return
    right = person.check_password(password)  # slow on purpose, so outside of the transaction
    if not _counted(person, right):
        raise Problem(
            403, "The password was not accepted.", "Give the password that you log in with.", {"password": "This is not your password."}
        )


@transaction.atomic
def _counted(person: Person, right: bool) -> bool:
    """Count a proof; answers whether it is right. Raises :class:`Problem` while the person rests."""
    now = timezone.now()
    person = Person.objects.select_for_update().get(pk=person.pk)
    if person.factor_rests is not None and person.factor_rests > now:
        raise _resting()
    _count(person, right, now)
    person.save(update_fields=["factor_wrong", "factor_rests"])
    return right


def _count(person: Person, right: bool, now: datetime) -> None:
    if right:
        person.factor_wrong, person.factor_rests = 0, None
        return
    person.factor_wrong += 1
    if person.factor_wrong >= _MOST_WRONG:
        person.factor_wrong, person.factor_rests = 0, now + _REST
        write(person, "gave too many wrong codes", "person", person.username)


def _resting() -> Problem:
    return Problem(429, "Too many wrong codes.", "Wait fifteen minutes, then try again.", retry_after=int(_REST.total_seconds()))


def tell(person: Person, says: str) -> None:
    """Leave word for a person of what was done to their log-in, as part of the surrounding transaction; they see it on every page until they have read it."""
    kept = Person.objects.select_for_update().get(pk=person.pk)
    kept.notices = [*kept.notices, {"at": timezone.now().isoformat(), "says": says[:300]}][-_MOST_NOTICES:]
    kept.save(update_fields=["notices"])


@transaction.atomic
def end_sessions(person: Person) -> None:
    """End every session of a person; what they do on from here goes on by a new one."""
    Person.objects.filter(pk=person.pk).update(epoch=F("epoch") + 1)
    write(person, "logged out everywhere", "person", person.username)


def read_notices(person: Person) -> None:
    """The person has read them."""
    Person.objects.filter(pk=person.pk).update(notices=[])


@transaction.atomic
def confirm_factor(person: Person, code: str) -> None:
    """The device shows a right code: the second factor counts from now on."""
    person = Person.objects.select_for_update().get(pk=person.pk)
    if person.factor_begun is None:
        raise Problem(409, "No second factor is being set up.", "Begin again.")
    plain = safe.unseal(person.factor_begun, person.place_of("factor_begun")).reveal()
    step = totp.accept(base64.b64decode(plain), code, timezone.now().timestamp())
    if step is None:
        raise wrong_fields({"code": "This is not the code that the device should show now. Compare its clock and the secret."})
    person.factor, person.factor_begun, person.factor_step, person.factor_wrong = safe.seal(plain, person.place_of("factor")), None, step, 0
    person.factor_rests, person.factor_since = None, timezone.now()
    person.epoch += 1
    person.save(update_fields=["factor", "factor_begun", "factor_step", "factor_wrong", "factor_rests", "factor_since", "epoch"])
    write(person, "set up a second factor", "person", person.username)


def check_factor(person: Person, code: str, for_stored: bool = False) -> None:
    """Take a fresh code of the second factor; each serves once. ``for_stored``: a factor younger than a day does not open what is stored.

    Raises :class:`Problem`, and after five wrong ones rests for a quarter of an hour.
    """
    now = timezone.now()
    with transaction.atomic():
        person = Person.objects.select_for_update().get(pk=person.pk)
        if person.factor is None:
            raise Problem(403, "This wants a second factor.", "Set one up below your menu, at “My log-in”, then try again.")
        if for_stored and (person.factor_since is None or now - person.factor_since < _YOUNG):
            raise Problem(403, "Your second factor is younger than a day.", "What is stored is shown by one that has been there for 24 hours, so that nobody who got "
                          "hold of your session can set one up for it.")  # fmt: skip
        if person.factor_rests is not None and person.factor_rests > now:
            raise _resting()
        secret = base64.b64decode(safe.unseal(person.factor, person.place_of("factor")).reveal())
        step = totp.accept(secret, code, now.timestamp(), person.factor_step)
        _count(person, step is not None, now)
        if step is not None:
            person.factor_step = step
        person.save(update_fields=["factor_step", "factor_wrong", "factor_rests"])
    if step is None:
        says = (
            "This code is not right, or was used already. Wait for the next one."
            if code.strip()
            else "Give the code that your device shows."
        )
        raise Problem(403, "The second factor was not accepted.", says, {"code": says})


@transaction.atomic
def drop_factor(by: Person, person: Person) -> None:
    """Take a second factor away: one's own, whose code must have been checked, or that of somebody who lost their device, who is told."""
    person = Person.objects.select_for_update().get(pk=person.pk)
    person.factor = person.factor_begun = person.factor_rests = person.factor_since = None
    person.factor_step, person.factor_wrong, person.epoch = -1, 0, person.epoch + 1
    person.save(update_fields=["factor", "factor_begun", "factor_step", "factor_wrong", "factor_rests", "factor_since", "epoch"])
    if by.pk != person.pk:
        tell(
            person,
            f"{by.shown_name} took away your second factor. Set up a new one; if you did not ask for this, tell another administrator.",
        )
    write(by, "took away the second factor of", "person", person.username)
