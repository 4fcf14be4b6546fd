"""Adding people, changing their roles, taking away their access."""

from __future__ import annotations

import base64
import os
from datetime import timedelta

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
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
    person.save(update_fields=["role", "is_active", "left"])
    write(by, "changed", "person", person.username, {"before": before, "after": {"role": person.role, "active": person.is_active}})
    return person


# The second factor

_MOST_WRONG, _REST = 5, timedelta(minutes=15)


@transaction.atomic
def begin_factor(person: Person) -> tuple[str, str]:
    """Begin to set up a second factor: answers its secret as it is typed and as an address for devices. It counts once a code of it was shown."""
    secret = os.urandom(totp.SECRET_OCTETS)
    sealed = safe.seal(base64.b64encode(secret).decode(), person.place_of("factor_begun"))
    Person.objects.filter(pk=person.pk).update(factor_begun=sealed)
    return totp.as_text(secret), totp.address(secret, person.username, "Neat Latch")


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
    person.factor_rests = None
    person.save(update_fields=["factor", "factor_begun", "factor_step", "factor_wrong", "factor_rests"])
    write(person, "set up a second factor", "person", person.username)


def check_factor(person: Person, code: str) -> None:
    """Take a fresh code of the second factor; each serves once. Raises :class:`Problem`, and after five wrong ones rests for a quarter of an hour."""
    now = timezone.now()
    with transaction.atomic():
        person = Person.objects.select_for_update().get(pk=person.pk)
        if person.factor is None:
            raise Problem(403, "This wants a second factor.", "Set one up below your menu, at “My log-in”, then try again.")
        if person.factor_rests is not None and person.factor_rests > now:
            raise Problem(429, "Too many wrong codes.", "Wait fifteen minutes, then try again.")
        secret = base64.b64decode(safe.unseal(person.factor, person.place_of("factor")).reveal())
        step = totp.accept(secret, code, now.timestamp(), person.factor_step)
        if step is not None:
            person.factor_step, person.factor_wrong, person.factor_rests = step, 0, None
        else:
            person.factor_wrong += 1
            if person.factor_wrong >= _MOST_WRONG:
                person.factor_wrong, person.factor_rests = 0, now + _REST
                write(person, "gave too many wrong codes", "person", person.username)
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
    """Take a second factor away: one's own, or that of somebody who lost their device."""
    Person.objects.filter(pk=person.pk).update(factor=None, factor_begun=None, factor_step=-1, factor_wrong=0, factor_rests=None)
    write(by, "took away the second factor of", "person", person.username)
