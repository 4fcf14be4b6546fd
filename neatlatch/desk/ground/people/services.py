"""Adding people, changing their roles, taking away their access."""

from __future__ import annotations

from django.db import IntegrityError, transaction

from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import DeclaredChange, write

from . import factors, log_in, owners, passwords
from .models import Person, Role


def add(
    by: Actor,
    username: str,
    name: str,
    role: str,
    password: str,
    must_change: bool = False,
    only_as_first: bool = False,
) -> Person:
    """Add a person; ``must_change``: the password is known to somebody else, and they choose
    another when they first log in. Raises :class:`Problem`, 409 where there is somebody already
    and it is ``only_as_first``.
    """
    errors: dict[str, str] = {}
    username = username.strip()
    if not username or " " in username or "/" in username:
        errors["username"] = "A login name has no spaces, no “/”, and is not empty."
    elif Person.objects.filter(username__iexact=username).exists():
        errors["username"] = "Somebody has this login name already."
    if role not in Role.values:
        errors["role"] = f"A role is one of {', '.join(Role.values)}."
    first, _, last = name.strip().partition(" ")
    person = Person(
        username=username,
        first_name=first[:150],
        last_name=last[:150],
        role=role,
        must_change=must_change,
    )
    if wrong := passwords.wrong_with(password, person):
        errors["password"] = wrong
    if errors:
        raise wrong_fields(errors)
    passwords.put(person, password)
    try:
        with transaction.atomic():
            if only_as_first and Person.objects.exists():
                raise somebody_is_there()
            person.save(force_insert=True)
            write(by, "added", "person", username, {"role": role})
    except IntegrityError as error:
        raise wrong_fields({"username": "Somebody has this login name already."}) from error
    return person


def somebody_is_there() -> Problem:
    """That a first person was to be added, and is not the first."""
    return Problem(
        409,
        "Neat Latch is set up already.",
        "Log in, or ask an administrator for an account. Nothing was changed.",
        code="already-set-up",
    )


@transaction.atomic
def declare(
    by: Actor,
    username: str,
    name: str,
    email: str,
    role: str,
    active: bool,
    declared_change: DeclaredChange,
) -> Person:
    """Make somebody who logs in, or change their name and address; a new one has no password until
    an administrator sets one. Role and access of one who is there are :func:`change`'s."""
    first, _, last = name.partition(" ")
    found = Person.objects.select_for_update().filter(username=username).first()
    if found is None:
        found = Person(username=username, role=role, is_active=active)
        found.set_unusable_password()
    found.first_name, found.last_name, found.email = first[:150], last[:150], email
    found.save()
    owners.renamed_person(found)
    declared_change.write(by, "person", username)
    return found


LAST_ADMINISTRATOR = "This is the last administrator. Make somebody else one first."


def is_last_administrator(person: Person) -> bool:
    """Whether a person is the only administrator without limits who can log in: one always
    remains.
    """
    administrators = Person.objects.filter(
        role=Role.ADMINISTRATOR, is_active=True, left=None, limits={}
    )
    return (
        administrators.filter(pk=person.pk).exists()
        and not administrators.exclude(pk=person.pk).exists()
    )


@transaction.atomic
def change(by: Actor, person: Person, role: str | None, active: bool | None) -> Person:
    """Change a role, or switch somebody's access on or off. One administrator always remains."""
    if role is not None and role not in Role.values:
        raise wrong_fields({"role": f"A role is one of {', '.join(Role.values)}."})
    loses = (role is not None and role != Role.ADMINISTRATOR) or active is False
    if loses and is_last_administrator(person):
        raise wrong_fields({"role": LAST_ADMINISTRATOR})
    before = {"role": person.role, "active": person.is_active}
    if role is not None:
        person.role = role
    if active is not None:
        person.is_active = active
        person.left = None if active else person.left
    if before != {"role": person.role, "active": person.is_active}:
        person.epoch += 1  # a session of before does not come back with the access either
    person.save(update_fields=["role", "is_active", "left", "epoch"])
    if before != {"role": person.role, "active": person.is_active}:
        log_in.end_rows(person)
        now = (
            f"made you {person.get_role_display()}."
            if before["role"] != person.role
            else f"switched your access {'on' if person.is_active else 'off'}."
        )
        factors.tell_of(by, person, now)
    write(
        by,
        "changed",
        "person",
        person.username,
        {"before": before, "after": {"role": person.role, "active": person.is_active}},
    )
    return person


def read_notices(person: Person) -> None:
    """The person has read what was done to their log-in."""
    Person.objects.filter(pk=person.pk).update(notices=[])
