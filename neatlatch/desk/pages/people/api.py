"""The list of people, and what an administrator does to their log-in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.db.models import Exists, OuterRef, QuerySet
from django.http import HttpRequest
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.desk.estate import object_notes, reaches
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import filtering, problems
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.ground.people import factors, log_in, services
from neatlatch.desk.ground.people.models import Passkey, Person
from neatlatch.desk.work import offboarding

router = Router(tags=["people"])


class LimitsIn(RequestBody):
    """What somebody's rights hold for: keys of environments and of applications, and teams, which
    stand for the applications that they own; empty: not limited by that.
    """

    environments: list[str] = []
    applications: list[str] = []
    teams: list[str] = []


@dataclass(frozen=True, kw_only=True)
class LimitsOut:
    """What somebody's rights hold for; all empty: for everything."""

    environments: list[str]
    applications: list[str]
    teams: list[str]


class PersonIn(RequestBody):
    """A new person."""

    username: str
    name: str = ""
    role: str
    password: str


class PersonChange(RequestBody):
    """What to change; absent: stays."""

    role: str | None = None
    active: bool | None = None


@dataclass(frozen=True, kw_only=True)
class PersonOut:
    """A person, without anything secret."""

    username: str
    name: str
    role: str
    active: bool
    must_change: bool
    last_login: str | None
    second_factor: bool
    limits: LimitsOut


@dataclass(frozen=True, kw_only=True)
class People:
    """A page of people."""

    items: list[PersonOut]
    next: str | None


class TemporaryPasswordIn(RequestBody):
    """A password that somebody is given, and must change when they log in with it."""

    password: str


def _people() -> QuerySet[Person]:
    return Person.objects.annotate(
        has_passkey=Exists(Passkey.objects.filter(person=OuterRef("pk")))
    )


def _find(username: str) -> Person:
    person = Person.objects.filter(username=username).first()
    if person is None:
        raise problems.not_found("person")
    return person


def _other(by: Actor, username: str) -> Person:
    person = _find(username)
    if person.username == by.username:
        raise Problem(
            409,
            "This is your own.",
            "Do it at “My log-in”, or ask another administrator.",
            code="own-access",
        )
    return person


def _person(username: str) -> PersonOut:
    return _row(_people().get(username=username))


def _row(person: Any) -> PersonOut:
    return PersonOut(
        username=person.username,
        name=person.shown_name,
        role=person.role,
        active=person.is_active,
        must_change=person.must_change,
        last_login=person.last_login.isoformat() if person.last_login else None,
        second_factor=person.factor is not None or person.has_passkey,
        limits=limits_out(person),
    )


def limits_out(person: Person) -> LimitsOut:
    """The limits of a person's rights, as pages show them."""
    limits = reaches.Limits.of(person.limits)
    return LimitsOut(**{name: list(keys) for name, keys in vars(limits).items()})


@router.put("/people/{username}/limits", response=PersonOut)
def set_limits(request: HttpRequest, username: str, body: LimitsIn) -> PersonOut:
    """Limit somebody's rights to environments, applications and teams, or lift the limits.

    They look at everything that their role shows, and act only on what is within.
    """
    by = guard.need(request, "people")
    limits = reaches.Limits(tuple(body.environments), tuple(body.applications), tuple(body.teams))
    reaches.limit(by, _other(by, username), limits)
    return _person(username)


@router.delete("/people/{username}/second-factors", response={204: None})
def drop_factors_of(request: HttpRequest, username: str) -> tuple[int, None]:
    """Take away every second factor of somebody who lost them."""
    by = guard.need(request, "people")
    factors.drop_all(by, _other(by, username))
    return 204, None


@router.post("/people/{username}/passwords", response=PersonOut)
def give_password(request: HttpRequest, username: str, body: TemporaryPasswordIn) -> PersonOut:
    """Give somebody a password, which they must change when they log in with it.

    Their sessions end, and they are told.
    """
    by = guard.need(request, "people")
    log_in.give_password(by, _other(by, username), body.password)
    return _person(username)


@router.post("/people/{username}/log-outs", response={204: None})
def end_sessions_of(request: HttpRequest, username: str) -> tuple[int, None]:
    """Log somebody out everywhere. They are told."""
    by = guard.need(request, "people")
    log_in.end_sessions(by, _other(by, username))
    return 204, None


@router.get("/people", response=People)
def people(request: HttpRequest, cursor: str | None = None, words: str = "") -> People:
    """People by login name; filtered by plain words and field words (``role:operator
    access:off``).
    """
    guard.need(request, "look")
    asked = filter_words.read(words, {field: field for field in ("role", "access", "tag")})
    rows = filtering.apply(
        _people(),
        asked,
        {"role": "role__contains", "tag": object_notes.BY_TAG},
        ("username__icontains", "first_name__icontains", "last_name__icontains"),
    )
    for word in asked:
        if word.field == "access":
            rows = rows.filter(is_active=(word.text != "off") != word.without)
    found, following = page(rows, "username", cursor)
    return People(items=[_row(person) for person in found], next=following)


@router.post("/people", response={201: PersonOut})
def add(request: HttpRequest, body: PersonIn) -> tuple[int, PersonOut]:
    """Add a person."""
    by = guard.need(request, "people")
    return 201, _person(
        services.add(
            by, body.username, body.name, body.role, body.password, must_change=True
        ).username
    )


@router.patch("/people/{username}", response=PersonOut)
def change(request: HttpRequest, username: str, body: PersonChange) -> PersonOut:
    """Change a person's role, or switch their access on or off."""
    by = guard.need(request, "people")
    offboarding.change(by, _find(username), body.role, body.active)
    return _person(username)
