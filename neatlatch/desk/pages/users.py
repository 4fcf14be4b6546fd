"""Users of connections: jobs, reports, scripts and agents."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from django.db.models import Prefetch, QuerySet
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router

from neatlatch.core import filter_words, windows
from neatlatch.core.uses import Warned
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.users.models import Use, User
from neatlatch.desk.estate.users import services
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import filtering, problems
from neatlatch.desk.ground.common.given import Given
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.problems import wrong_fields

from .applications import EnvironmentOut, environment_out

router = Router(tags=["users"])


@dataclass(frozen=True)
class WarnedOut:
    """A warning about one use of a user, and the act that mends it."""

    says: str
    act: str
    ref: str


@dataclass(frozen=True)
class UseOut:
    """An application that a user calls."""

    id: int
    application: str
    application_name: str
    connection: str
    state: str
    operations: list[str]
    seen: dict[str, int]
    seen_at: datetime | None


@dataclass(frozen=True)
class UserOut:
    """A user of connections."""

    id: UUID
    name: str
    environment: EnvironmentOut
    kind: str
    owner: str
    runs: str
    windows: list[str]
    next_window: datetime | None
    notice_days: int
    draws: bool
    uses: list[UseOut]
    warnings: list[WarnedOut]
    version: int
    changed_at: datetime
    changed_by: str


@dataclass(frozen=True)
class Users:
    """A page of users."""

    items: list[UserOut]
    next: str | None


class UserIn(Given):
    """A new user; ``uses`` may name what it calls at once."""

    name: str
    environment: str
    kind: str = "job"
    owner: str = ""
    runs: str = ""
    windows: list[str] = []
    notice_days: int = 0
    draws: bool = False


class UserChange(Given):
    """What to change; absent: stays."""

    name: str | None = None
    environment: str | None = None
    kind: str | None = None
    owner: str | None = None
    runs: str | None = None
    windows: list[str] | None = None
    notice_days: int | None = None
    draws: bool | None = None


class UseIn(Given):
    """What a user calls: by a connection, or an application whose connection is not set up yet."""

    application: str = ""
    connection: str = ""
    operations: list[str] = []


class UseChange(Given):
    """What to change; absent: stays. An empty ``connection``: none."""

    connection: str | None = None
    operations: list[str] | None = None


class CallLogIn(Given):
    """An access log, a HAR file, or lines with method and path."""

    text: str


class CallLogTake(CallLogIn):
    """The same, to be taken as the user's operations: beside those noted, or in their place."""

    only_seen: bool = False


@dataclass(frozen=True)
class CountOut:
    """A call and how often it was seen."""

    name: str
    count: int


@dataclass(frozen=True)
class SeenOut:
    """What a log says that was called."""

    operations: list[CountOut]
    others: list[CountOut]
    lines: int
    unread: int
    not_noted: list[str]
    not_seen: list[str]


def with_uses(rows: QuerySet[User]) -> QuerySet[User]:
    """Users with all that is told of them, in a constant number of queries."""
    uses = Use.objects.select_related("application", "connection__place__environment", "connection__place__application")
    return rows.select_related("environment", "owner__person").prefetch_related(
        Prefetch("uses", uses), "uses__connection__held_secrets__credential"
    )


def _shape(user: User, warned: tuple[Warned, ...]) -> UserOut:
    opening = windows.next_open([windows.read(one) for one in user.windows], timezone.localtime())
    return UserOut(
        id=user.pk,
        name=user.name,
        environment=environment_out(user.environment),
        kind=user.kind,
        owner=user.owner_name,
        runs=user.runs,
        windows=user.windows,
        next_window=opening[0] if opening else None,
        notice_days=user.notice_days,
        draws=user.draws,
        uses=[_use_out(one) for one in user.uses.all()],
        warnings=[WarnedOut(one.says, one.act, one.ref) for one in warned],
        version=user.version,
        changed_at=user.changed_at,
        changed_by=user.changed_by,
    )


def _use_out(use: Use) -> UseOut:
    connection = use.connection
    return UseOut(
        id=use.pk,
        application=use.application.key,
        application_name=use.application.name,
        connection=connection.ref if connection else "",
        state=connection.state if connection else "",
        operations=use.operations,
        seen=use.seen,
        seen_at=use.seen_at,
    )


def _find(identity: UUID) -> User:
    """A user, or a 404."""
    found = with_uses(User.objects.filter(pk=identity)).first()
    if found is None:
        raise problems.not_found("user")
    return found


def _full(identity: UUID) -> UserOut:
    found = _find(identity)
    return _shape(found, services.warnings([found])[found.pk])


LOOKUPS = {"env": "environment__key__startswith", "kind": "kind__startswith", "owner": "owner__name__icontains", "app": "uses__application__key__contains",
           "connection": "uses__connection__ref__contains"}  # fmt: skip


@router.get("/users", response=Users)
def users(request: HttpRequest, words: str = "", cursor: str | None = None) -> Users:
    """Users by name; filtered by plain words and field words (``env:production kind:job owner:freight app:cargo warned:yes``)."""
    guard.need(request, "look")
    asked = filter_words.read(words, {**{key: key for key in LOOKUPS}, "warned": "warned"})
    rows = filtering.apply(User.objects.all(), asked, LOOKUPS, ("name__icontains", "owner__name__icontains"))
    found, following = page(with_uses(rows.distinct()), "name", cursor, then="id")
    warned = services.warnings(found)
    wants = next((one for one in asked if one.field == "warned"), None)
    asked_for = wants is None or (wants.text in ("yes", "true", "1")) != wants.without
    items = [_shape(one, warned[one.pk]) for one in found if wants is None or bool(warned[one.pk]) == asked_for]
    return Users(items, following)


@router.post("/users", response={201: UserOut})
def add(request: HttpRequest, given: UserIn) -> tuple[int, UserOut]:
    """Note a user."""
    by = guard.need(request, "change")
    wanted = services.Given(**{**given.dict(), "windows": tuple(given.windows)})
    return guard.repeatable(request, given.dict(), lambda: (201, _full(services.add(by, wanted).pk)), alone=True)


@router.get("/users/{identity}", response=UserOut)
def user(request: HttpRequest, response: HttpResponse, identity: UUID) -> UserOut:
    """A user with what it calls and what is wrong with that."""
    guard.need(request, "look")
    found = _full(identity)
    guard.tagged(response, found.version)
    return found


@router.patch("/users/{identity}", response=UserOut)
def change(request: HttpRequest, response: HttpResponse, identity: UUID, given: UserChange) -> UserOut:
    """Change what is said of a user."""
    by, found = guard.need(request, "change"), _find(identity)
    guard.check_version(request, found.version, found.changed_by, ("user", found.pk))
    changed = services.change(by, found, given.dict())
    guard.tagged(response, changed.version)
    return _full(identity)


@router.delete("/users/{identity}", response={204: None})
def remove(request: HttpRequest, identity: UUID) -> tuple[int, None]:
    """A user that no longer exists."""
    services.remove(guard.need(request, "change"), _find(identity))
    return 204, None


def _connection(ref: str) -> Connection:
    found = Connection.objects.select_related("place__application", "place__environment").filter(ref=ref).first()
    if found is None:
        raise wrong_fields({"connection": "There is no such connection."})
    return found


@router.post("/users/{identity}/uses", response={201: UserOut})
def use(request: HttpRequest, identity: UUID, given: UseIn) -> tuple[int, UserOut]:
    """Note what a user calls."""
    by = guard.need(request, "change")
    found = _find(identity)
    connection = _connection(given.connection) if given.connection else None
    application = connection.place.application if connection else Application.objects.filter(key=given.application).first()
    if application is None:
        raise wrong_fields({"application": "Choose the application that it calls."})
    services.use(by, found, application, connection, given.operations)
    return 201, _full(identity)


def _use(identity: UUID, number: int) -> Use:
    found = Use.objects.select_related("user", "application", "connection__place").filter(pk=number, user=identity).first()
    if found is None:
        raise problems.not_found("use")
    return found


@router.patch("/users/{identity}/uses/{number}", response=UserOut)
def change_use(request: HttpRequest, identity: UUID, number: int, given: UseChange) -> UserOut:
    """Name another connection, or other operations."""
    by = guard.need(request, "change")
    connection = _connection(given.connection) if given.connection else None
    services.change_use(by, _use(identity, number), given.operations, connection, given.connection is not None)
    return _full(identity)


@router.delete("/users/{identity}/uses/{number}", response=UserOut)
def stop_using(request: HttpRequest, identity: UUID, number: int) -> UserOut:
    """It no longer calls this application by this connection."""
    services.stop_using(guard.need(request, "change"), _use(identity, number))
    return _full(identity)


@router.post("/users/{identity}/uses/{number}/logs", response=SeenOut)
def read_log(request: HttpRequest, identity: UUID, number: int, given: CallLogIn) -> SeenOut:
    """What a log says that it called, against what is noted. Nothing is kept."""
    guard.need(request, "change")
    found = _use(identity, number)
    seen = services.seen(found, given.text)
    names = [name for name, _ in seen.operations]
    return SeenOut(
        operations=[CountOut(*one) for one in seen.operations],
        others=[CountOut(*one) for one in seen.others],
        lines=seen.lines,
        unread=seen.unread,
        not_noted=[one for one in names if one not in found.operations],
        not_seen=[one for one in found.operations if one not in names],
    )


@router.post("/users/{identity}/uses/{number}/seen", response=UserOut)
def take_seen(request: HttpRequest, identity: UUID, number: int, given: CallLogTake) -> UserOut:
    """Take what it was seen to call as its operations."""
    services.take_seen(guard.need(request, "change"), _use(identity, number), given.text, given.only_seen)
    return _full(identity)
