"""Logging in and out, and the list of people."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.middleware.csrf import get_token
from ninja import Router, Schema
from ninja.utils import check_csrf

from neatlatch.core import filter_words
from neatlatch.desk.common import filtering, guard, problems
from neatlatch.desk.common.given import Given
from neatlatch.desk.common.problems import Problem
from neatlatch.desk.connections import leaving
from neatlatch.desk.journal.services import write

from . import services
from .models import Person

router = Router(tags=["people"])


class LogIn(Given):
    """Login name and password, and the code of the second factor where there is one."""

    username: str
    password: str
    code: str = ""


class SessionOut(Schema):
    """Who is logged in (``null``: nobody), what they may do, and the token that changing requests must carry."""

    csrf: str
    person: str | None = None
    username: str | None = None
    initials: str | None = None
    role: str | None = None
    may: list[str] = []
    keys_on: bool = True
    second_factor: bool = False
    notices: list[NoticeOut] = []


class FactorOut(Schema):
    """A second factor that is being set up: its secret as it is typed, and as an address that devices take. Shown this once."""

    secret: str
    address: str


class FactorBegin(Given):
    """That it is the person: a code of the second factor that is there, or the password where there is none."""

    password: str = ""
    code: str = ""


class NoticeOut(Schema):
    """What somebody else did to one's log-in."""

    at: datetime
    says: str


class FactorCode(Given):
    """The code that a device shows."""

    code: str


class PersonIn(Given):
    """A new person."""

    username: str
    name: str = ""
    role: str
    password: str


class PersonChange(Given):
    """What to change; absent: stays."""

    role: str | None = None
    active: bool | None = None


class PersonOut(Schema):
    """A person, without anything secret."""

    username: str
    name: str
    role: str
    active: bool
    last_login: str | None
    second_factor: bool


class Preferences(Given):
    """A person's own settings."""

    keys_on: bool


def _session(request: HttpRequest) -> dict[str, Any]:
    person = request.user
    if not isinstance(person, Person):
        return {"csrf": get_token(request)}
    initials = "".join(part[0] for part in person.shown_name.split()[:2]).upper()
    allowed = [what for what in ("look", "test", "change", "read_journal") if guard.may(person, what)]
    return {"csrf": get_token(request), "person": person.shown_name, "username": person.username, "initials": initials, "role": person.role,
            "may": allowed, "keys_on": person.keys_on, "second_factor": person.factor is not None, "notices": person.notices}  # fmt: skip


def locked_out(request: HttpRequest, credentials: Any = None, *args: Any, **kwargs: Any) -> JsonResponse:
    """The answer while somebody is locked out (django-axes calls this)."""
    return problems.answer(Problem(429, "Too many wrong passwords.", "Wait fifteen minutes, then try again, or ask an administrator."))


@router.get("/session", auth=None, response=SessionOut)
def session(request: HttpRequest) -> dict[str, Any]:
    """Who is logged in."""
    return _session(request)


@router.post("/session", auth=None, response=SessionOut)
def log_in(request: HttpRequest, given: LogIn) -> Any:
    """Log in. After five wrong passwords a login name is locked for fifteen minutes."""
    if check_csrf(request):
        raise Problem(403, "This page is too old.", "Reload it and try again.")
    person = authenticate(request, username=given.username, password=given.password)
    if person is None:
        if getattr(request, "axes_locked_out", False):
            write(None, "locked out", "person", given.username[:100])
            return locked_out(request)
        write(None, "failed to log in", "person", given.username[:100])
        raise Problem(401, "Login name and password do not fit together.", "Check both and try again.")
    assert isinstance(person, Person)
    if person.factor is not None:
        services.check_factor(person, given.code)
    login(request, person)
    write(person, "logged in", "person", person.username)
    return _session(request)


@router.delete("/session", response={204: None})
def log_out(request: HttpRequest) -> tuple[int, None]:
    """Log out."""
    person = request.user
    assert isinstance(person, Person)
    write(person, "logged out", "person", person.username)
    logout(request)
    return 204, None


@router.put("/session/preferences", response=SessionOut)
def preferences(request: HttpRequest, given: Preferences) -> dict[str, Any]:
    """Change one's own settings."""
    person = request.user
    assert isinstance(person, Person)
    person.keys_on = given.keys_on
    person.save(update_fields=["keys_on"])
    return _session(request)


def _me(request: HttpRequest) -> Person:
    person = request.user
    assert isinstance(person, Person)
    return person


@router.post("/session/second-factors", response={201: FactorOut})
def begin_factor(request: HttpRequest, response: HttpResponse, given: FactorBegin) -> tuple[int, dict[str, str]]:
    """Begin to set up a second factor of one's own. One that is there already stays until the new one is confirmed."""
    secret, address = services.begin_factor(_me(request), given.password, given.code)
    response["Cache-Control"] = "no-store"
    return 201, {"secret": secret, "address": address}


@router.post("/session/second-factors/confirmations", response=SessionOut)
def confirm_factor(request: HttpRequest, given: FactorCode) -> dict[str, Any]:
    """Confirm it with a code that the device shows."""
    services.confirm_factor(_me(request), given.code)
    return _stay(request)


@router.post("/session/second-factors/removals", response=SessionOut)
def drop_factor(request: HttpRequest, given: FactorCode) -> dict[str, Any]:
    """Do without a second factor from now on."""
    services.check_factor(_me(request), given.code)
    services.drop_factor(_me(request), _me(request))
    return _stay(request)


def _stay(request: HttpRequest) -> dict[str, Any]:
    """The session in which this was done goes on, under a new key; all others of the person have ended."""
    request.user = Person.objects.get(pk=_me(request).pk)
    update_session_auth_hash(request, request.user)
    return _session(request)


@router.post("/session/endings", response=SessionOut)
def end_other_sessions(request: HttpRequest) -> dict[str, Any]:
    """Log out everywhere else."""
    services.end_sessions(_me(request))
    return _stay(request)


@router.delete("/session/notices", response=SessionOut)
def read_notices(request: HttpRequest) -> dict[str, Any]:
    """What was done to one's log-in is read."""
    services.read_notices(_me(request))
    request.user = Person.objects.get(pk=_me(request).pk)
    return _session(request)


@router.delete("/people/{username}/second-factors", response={204: None})
def drop_factor_of(request: HttpRequest, username: str) -> tuple[int, None]:
    """Take away the second factor of somebody who lost their device."""
    by = guard.need(request, "change")
    person = Person.objects.filter(username=username).first()
    if person is None:
        raise problems.not_found("person")
    if person.pk == by.pk:
        raise Problem(409, "This is your own.", "Do without it at “My log-in”, with a code of it, or ask another administrator.")
    services.drop_factor(by, person)
    return 204, None


def _person(person: Person) -> dict[str, Any]:
    return {"username": person.username, "name": person.shown_name, "role": person.role, "active": person.is_active,
            "last_login": person.last_login.isoformat() if person.last_login else None, "second_factor": person.factor is not None}  # fmt: skip


@router.get("/people", response=list[PersonOut])
def people(request: HttpRequest, words: str = "") -> list[dict[str, Any]]:
    """All people, by login name; filtered by plain words and field words (``role:operator access:off``)."""
    guard.need(request, "look")
    rows = [_person(one) for one in Person.objects.order_by("username")]
    asked = filter_words.read(words, {"role": "role", "access": "access"})
    picked = {"role": lambda one: one["role"], "access": lambda one: "on" if one["active"] else "off"}
    return filtering.pick(rows, asked, picked, lambda one: f"{one['name']} {one['username']}")


@router.post("/people", response={201: PersonOut})
def add(request: HttpRequest, given: PersonIn) -> tuple[int, dict[str, Any]]:
    """Add a person."""
    by = guard.need(request, "change")
    return 201, _person(services.add(by, given.username, given.name, given.role, given.password))


@router.patch("/people/{username}", response=PersonOut)
def change(request: HttpRequest, username: str, given: PersonChange) -> dict[str, Any]:
    """Change a person's role, or switch their access on or off."""
    by = guard.need(request, "change")
    person = Person.objects.filter(username=username).first()
    if person is None:
        raise problems.not_found("person")
    return _person(leaving.change(by, person, given.role, given.active))
