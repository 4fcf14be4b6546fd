"""Adding people, changing their roles, taking away their access."""

from __future__ import annotations

from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction

from neatlatch.desk.common.problems import wrong_fields
from neatlatch.desk.journal.services import write

from .models import Person, Role


@transaction.atomic
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
    person.set_password(password)
    person.save()
    write(by, "added", "person", username, {"role": role})
    return person


@transaction.atomic
def change(by: Person, person: Person, role: str | None, active: bool | None) -> Person:
    """Change a role, or switch somebody's access on or off. One administrator always remains."""
    if role is not None and role not in Role.values:
        raise wrong_fields({"role": f"A role is one of {', '.join(Role.values)}."})
    loses = person.role == Role.ADMINISTRATOR and ((role is not None and role != Role.ADMINISTRATOR) or active is False)
    others = Person.objects.filter(role=Role.ADMINISTRATOR, is_active=True).exclude(pk=person.pk)
    if loses and not others.exists():
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
