"""Owners: those who are asked before something of theirs changes, and how they are reached."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass, replace
from string import ascii_lowercase, ascii_uppercase
from typing import Any
from zoneinfo import available_timezones

from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import IntegrityError, transaction
from django.db.models import ProtectedError

from neatlatch.core import changes
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, check_unchanged, wrong_fields
from neatlatch.desk.ground.common.quick_rows import Reading
from neatlatch.desk.ground.journal.services import DeclaredChange, write

from .models import Owner, Person, Team

LONGEST = 120
_PERSON, _TEAM = "person/", "team/"


@dataclass(frozen=True)
class ContactDetails:
    """How an owner is reached.

    ``mail``: an address to write to, a person's is changed with the person; ``zone``: a name of the
    IANA time zone database; ``deputy``: an owner as :func:`named` reads it.
    """

    mail: str = ""
    zone: str = ""
    deputy: str = ""

    @classmethod
    def of(cls, owner: Owner) -> ContactDetails:
        """As it stands."""
        deputy = owner.deputy.key if owner.deputy is not None else ""
        return cls(owner.mail, owner.zone, deputy)

    def checked(self) -> ContactDetails:
        """The same, tidied. Raises field errors."""
        given = replace(
            self, mail=self.mail.strip(), zone=self.zone.strip(), deputy=self.deputy.strip()
        )
        errors: dict[str, str] = {}
        if given.mail:
            try:
                validate_email(given.mail)
            except ValidationError:
                errors["mail"] = "Give a mail address, like quays@gannet.example."
        if given.zone and given.zone not in available_timezones():
            errors["zone"] = "Give a time zone by its name, like Europe/London."
        if errors:
            raise wrong_fields(errors)
        return given


def of_person(person: Person) -> Owner:
    """A person as owner. Part of the surrounding transaction."""
    made = {"kind": Owner.Kind.PERSON, "name": person.shown_name[:150]}
    return Owner.objects.get_or_create(person=person, defaults=made)[0]


def of_team(team: Team) -> Owner:
    """A team as owner. Part of the surrounding transaction."""
    made = {"kind": Owner.Kind.TEAM, "name": team.name}
    return Owner.objects.get_or_create(team=team, defaults=made)[0]


_teams_called = Reading(Team, "lower(t.name) IN {keys}")
_people_called = Reading(
    Person,
    (
        "lower(t.username) IN {keys} OR lower(t.email) IN {keys} OR lower(t.first_name || ' ' "
        "|| t.last_name) IN {keys}"
    ),
    only=("username", "email", "first_name", "last_name"),
    order="t.id",
)


class _NamedOwners:
    """The teams and people that some texts name. Two queries, however many texts there are.

    Capital letters do not count, as far as the database knows small ones for them: in ASCII.
    """

    def __init__(self, texts: Iterable[str]) -> None:
        low = {_low(text) for text in texts}
        low |= {name.removeprefix(_TEAM).removeprefix(_PERSON) for name in low}
        self._teams = {_low(team.name): team for team in _teams_called(low)}
        self._people = _people_called(low)

    def of(self, text: str) -> Team | Person | None:
        """The one that a text names: the team, else the person by login name, mail address or name;
        none, where two people bear the name."""
        low = _low(text)
        if low.startswith(_TEAM):
            return self._teams.get(low.removeprefix(_TEAM))
        if text.startswith(_PERSON):
            login = text.removeprefix(_PERSON)
            return next((person for person in self._people if person.username == login), None)
        if (team := self._teams.get(low)) is not None:
            return team
        for field in ("username", "email"):
            for person in self._people:
                if low and _low(getattr(person, field)) == low:
                    return person
        same = [
            person
            for person in self._people
            if _low(f"{person.first_name} {person.last_name}") == low
        ]
        return same[0] if len(same) == 1 else None


_SMALL = str.maketrans(ascii_uppercase, ascii_lowercase)


def _low(text: str) -> str:
    return text.translate(_SMALL)


def named(text: str, field: str = "owner") -> Owner | None:
    """The owner that a text names, made where it is none yet; ``None``: it is empty.

    ``person/LOGIN`` and ``team/NAME`` name exactly one; else it is the team, the person (by login
    name, mail address or name) or the contact that is called so, or a new contact. Part of the
    surrounding transaction. Raises an error of the ``field`` that the text stands in.
    """
    text = text.strip()
    if not text:
        return None
    who = _meant(text, field)
    if isinstance(who, Team):
        return of_team(who)
    if isinstance(who, Person):
        return of_person(who)
    found = Owner.objects.filter(kind=Owner.Kind.CONTACT, name__iexact=text).first()
    return found or _contact(text)


def check_named(text: str, field: str = "owner") -> None:
    """Check that :func:`named` can read a text, without making an owner. Raises a field error."""
    _meant(text.strip(), field)


def _meant(text: str, field: str) -> Team | Person | None:
    """The team or person that a text means; ``None``: it is a contact's name. Raises a field
    error.
    """
    if len(text) > LONGEST:
        raise wrong_fields({field: f"More than {LONGEST} characters are not kept."})
    who = _NamedOwners([text]).of(text)
    if who is None and text.startswith((_PERSON, _TEAM)):
        raise wrong_fields({field: f"There is no {text.replace('/', ' ', 1)}."})
    return who


def keys_of(texts: Iterable[str]) -> dict[str, str]:
    """How a file names the teams and people that some texts mean; a text that means none of them
    stays as it is. Two queries.
    """
    wanted = {text for text in texts if text}
    called = _NamedOwners(wanted)
    found = {}
    for text in wanted:
        who = called.of(text)
        found[text] = (
            f"{_TEAM}{who.name}"
            if isinstance(who, Team)
            else f"{_PERSON}{who.username}"
            if isinstance(who, Person)
            else text
        )
    return found


def written(owners: Iterable[Owner]) -> dict[int, str]:
    """How people write owners so that :func:`named` reads exactly these: by name, where nobody else
    is meant by it, else by key. By their keys in the database; two queries for all."""
    all_of_them = list(owners)
    called = _NamedOwners(owner.name for owner in all_of_them)
    return {owner.pk: _written(owner, called.of(owner.name)) for owner in all_of_them}


def _written(owner: Owner, who: Team | Person | None) -> str:
    if who is None:
        return owner.name if owner.kind == Owner.Kind.CONTACT else owner.key
    return owner.name if who in (owner.team, owner.person) else owner.key


def _contact(name: str) -> Owner:
    # A name that is a mail address says where to write to.
    address = ""
    if "@" in name:
        try:
            validate_email(name)
            address = name
        except ValidationError:
            address = ""
    return Owner.objects.create(kind=Owner.Kind.CONTACT, name=name, address=address)


@transaction.atomic
def add(by: Actor, name: str, reached: ContactDetails) -> Owner:
    """Add a contact outside. Raises field errors."""
    name, given = _checked_name(name), reached.checked()
    if Owner.objects.filter(kind=Owner.Kind.CONTACT, name__iexact=name).exists():
        raise wrong_fields({"name": "A contact of this name is there already."})
    try:
        with transaction.atomic():
            owner = Owner.objects.create(kind=Owner.Kind.CONTACT, name=name)
    except IntegrityError as error:
        raise wrong_fields({"name": "A contact of this name is there already."}) from error
    _put(owner, given)
    owner.save()
    write(by, "added", "owner", owner.key, {"id": owner.pk, "version": 1})
    return owner


def _checked_name(name: str) -> str:
    name = name.strip()
    if not name:
        raise wrong_fields({"name": "What are they called?"})
    if len(name) > LONGEST:
        raise wrong_fields({"name": f"More than {LONGEST} characters are not kept."})
    if name.startswith((_PERSON, _TEAM)):
        raise wrong_fields({"name": "A contact's name does not begin with person/ or team/."})
    return name


def _put(owner: Owner, given: ContactDetails) -> None:
    """Take over how they are reached, without saving. Raises a field error."""
    if owner.person is None:
        owner.address = given.mail
    elif given.mail != owner.mail:
        raise wrong_fields({"mail": "A person's own address is changed with the person."})
    owner.zone = given.zone
    owner.deputy = named(given.deputy, "deputy")
    if owner.deputy == owner:
        raise wrong_fields({"deputy": "Nobody is a deputy of their own."})


@transaction.atomic
def change(by: Actor, owner: Owner, fields: dict[str, Any]) -> Owner:
    """Change how an owner is reached, or what a contact is called, as it was read; what is ``None``
    stays. Raises :class:`Problem`."""
    seen = owner.version
    owner = Owner.objects.select_for_update().get(pk=owner.pk)
    check_unchanged(owner.version, seen)
    before = _comparable(owner)
    kept = {key: value for key, value in fields.items() if value is not None}
    if "name" in kept and kept["name"].strip() != owner.name:
        if owner.kind != Owner.Kind.CONTACT:
            raise wrong_fields({"name": "They are renamed where they are administered."})
        owner.name = _checked_name(kept["name"])
    kept.pop("name", None)
    _put(owner, replace(ContactDetails.of(owner), **kept).checked())
    owner.version += 1
    try:
        with transaction.atomic():
            owner.save()
    except IntegrityError as error:
        raise wrong_fields({"name": "A contact of this name is there already."}) from error
    said_of_it = changes.in_words(before, _comparable(owner))
    about = {"id": owner.pk, "version": owner.version, "changes": said_of_it}
    write(by, "changed", "owner", owner.key, about)
    return owner


def _comparable(owner: Owner) -> changes.Plain:
    return {"name": owner.name, **asdict(ContactDetails.of(owner))}


@transaction.atomic
def remove(by: Actor, owner: Owner) -> None:
    """Remove a contact that owns nothing and is nobody's deputy. Raises :class:`Problem`."""
    if owner.kind != Owner.Kind.CONTACT:
        raise Problem(
            409,
            "Only a contact is removed here.",
            "A person leaves on their own page; a team is removed among the teams.",
            code="only-contacts-removed",
        )
    if served := list(owner.deputy_of.values_list("name", flat=True)[:4]):
        raise Problem(
            409,
            f"{owner.name} is the deputy of {served[0]}.",
            (
                f"Give another deputy first, or none: to "
                f"{', '.join(served[:3])}{' and others' if served[3:] else ''}."
            ),
            code="owner-is-deputy",
        )
    write(by, "removed", "owner", owner.key)
    try:
        owner.delete()
    except ProtectedError as error:
        count = len(error.protected_objects)
        raise Problem(
            409,
            f"{owner.name} still owns something.",
            f"Hand over what is theirs first: {count} {'thing' if count == 1 else 'things'}.",
            code="owner-still-owns",
        ) from error


@transaction.atomic
def declare(by: Actor, key: str, reached: ContactDetails, declared_change: DeclaredChange) -> Owner:
    """Say how the owner that a file names is reached. Raises a field error."""
    owner = named(key)
    if owner is None:
        raise wrong_fields(
            {"key": "an owner is named by person/LOGIN, team/NAME, or a contact's name"}
        )
    if owner.person is not None:
        reached = replace(reached, mail=owner.mail)
    _put(owner, reached.checked())
    owner.version += 1
    owner.save()
    declared_change.write(by, "owner", owner.key)
    return owner


def renamed_person(person: Person) -> None:
    """Follow a person's new name. Part of the surrounding transaction."""
    _rename(Owner.objects.filter(person=person).first(), person.shown_name)


def renamed_team(team: Team) -> None:
    """A team is called otherwise now. Part of the surrounding transaction."""
    _rename(Owner.objects.filter(team=team).first(), team.name)


def _rename(owner: Owner | None, name: str) -> None:
    if owner is not None and owner.name != name[:150]:
        owner.name = name[:150]
        owner.save(update_fields=["name"])


def team_goes(team: Team) -> None:
    """A team is taken away: what it owns stays with a contact of its name, until it is handed over.
    Part of the surrounding transaction."""
    owner = Owner.objects.filter(team=team).first()
    if owner is None:
        return
    taken = Owner.objects.filter(kind=Owner.Kind.CONTACT, name__iexact=team.name).exists()
    owner.name = f"{team.name} (the team that was)"[:150] if taken else team.name
    owner.kind, owner.team = Owner.Kind.CONTACT, None
    owner.save()
