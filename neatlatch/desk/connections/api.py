"""Connections: the caller side, and the shear line."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router, Schema

from neatlatch.core import breaks, pins
from neatlatch.core.evidence import curl_line
from neatlatch.core.pins import Pin
from neatlatch.core.profiles import CODE
from neatlatch.core.scopes import closure, lacking
from neatlatch.desk.applications.api import EnvironmentOut, SchemeOut, environment_out, find_place, scheme_out
from neatlatch.desk.clients.models import Client
from neatlatch.desk.common import guard, problems, safe
from neatlatch.desk.common.pages import page
from neatlatch.desk.common.problems import Problem, wrong_fields

from . import halves, services, sign_in
from .models import Connection, ConnectionUser, SignIn

router = Router(tags=["connections"])


class PieceOut(Schema):
    """A run of characters, and whether the other side has it too."""

    text: str
    same: bool


class ActOut(Schema):
    """Something that would mend a pin."""

    key: str
    label: str
    value: str


class PinOut(Schema):
    """A pin: both values, how they fit, and why."""

    key: str
    label: str
    fit: str
    provider: str
    caller: str
    why: str
    provider_marked: list[PieceOut]
    caller_marked: list[PieceOut]
    acts: list[ActOut]


class GlyphOut(Schema):
    """The pins as a small drawing: one letter-free word for each, and all of them as a sentence."""

    fits: list[str]
    says: str


class ConnectionRow(Schema):
    """A connection in the list."""

    ref: str
    application: str
    application_name: str
    environment: EnvironmentOut
    state: str
    glyph: GlyphOut
    latches: bool
    failing: str
    tested_at: datetime | None
    users: int
    paused: bool


class Connections(Schema):
    """A page of connections."""

    items: list[ConnectionRow]
    next: str | None


class UserOut(Schema):
    """A user of a connection, and what it lacks."""

    id: int
    name: str
    kind: str
    owner: str
    runs: str
    operations: list[str]
    lacks: list[str]


class DueOut(Schema):
    """Something that ends, or comes due."""

    what: str
    at: datetime | None
    says: str
    act: str = ""


class ClientChoice(Schema):
    """A client registration that this connection could name."""

    id: UUID
    name: str
    client_id: str
    environment: str


class ConnectionOut(ConnectionRow):
    """A connection in full."""

    scheme: SchemeOut
    values: dict[str, str]
    scopes: list[str]
    pace: float
    time_limit: float
    version: int
    changed_at: datetime
    changed_by: str
    client: UUID | None
    managed: bool
    secret_hint: str
    pins: list[PinOut]
    users_of: list[UserOut]
    due: list[DueOut]
    choices: list[ClientChoice]
    operations: list[str]
    signs_person_in: bool
    signed_in: bool
    curl: str
    last_test: UUID | None
    waiting_sign_in: datetime | None
    next_break: str = ""
    notes: dict[str, list[str]] = {}


class ConnectionIn(Schema):
    """A new connection."""

    ref: str
    application: str
    environment: str
    scheme: str
    client: UUID | None = None
    values: dict[str, str] = {}
    scopes: list[str] = []
    secret: str = ""
    secret_ends: datetime | None = None


class ConnectionChange(Schema):
    """What to change; absent: stays."""

    values: dict[str, str] | None = None
    scopes: list[str] | None = None
    pace: float | None = None
    time_limit: float | None = None
    paused: bool | None = None


class ActIn(Schema):
    """An act of a pin."""

    pin: str
    key: str
    value: str = ""


class SecretIn(Schema):
    """A new secret for the caller side."""

    secret: str
    ends: datetime | None = None


class ClientName(Schema):
    """The client registration to name."""

    client: UUID


class SignInIn(Schema):
    """The page to come back to."""

    back: str = ""


class SignInOut(Schema):
    """Where to send the person."""

    id: UUID
    address: str


class SignInState(Schema):
    """How a sign-in went."""

    id: UUID
    connection: str
    outcome: str
    says: str
    ended: datetime | None


class UserIn(Schema):
    """A user of the connection."""

    name: str
    kind: str = "job"
    owner: str = ""
    runs: str = ""
    operations: list[str] = []


class Draft(Schema):
    """What a new connection starts from."""

    scheme: SchemeOut
    values: dict[str, str]
    scopes: list[ScopeChoice]
    ref: str
    secret_known: bool


class ScopeChoice(Schema):
    """A scope to choose."""

    name: str
    meaning: str
    kind: str
    administrator: bool
    permitted: bool


Draft.model_rebuild()


def pin_out(pin: Pin) -> dict[str, Any]:
    """A pin as the page wants it."""
    marked = pin.marked
    return {
        "key": pin.key, "label": pin.label, "fit": pin.fit.value, "provider": pin.provider, "caller": pin.caller, "why": pin.why,
        "provider_marked": [{"text": p.text, "same": p.same} for p in marked.provider] if marked else [],
        "caller_marked": [{"text": p.text, "same": p.same} for p in marked.caller] if marked else [],
        "acts": [{"key": a.key, "label": a.label, "value": a.value} for a in pin.acts],
    }  # fmt: skip


def row(connection: Connection, worked_out: tuple[Pin, ...]) -> dict[str, Any]:
    """A connection in the list."""
    application = connection.place.application
    return {
        "ref": connection.ref, "application": application.key, "application_name": application.name,
        "environment": environment_out(connection.place.environment), "state": connection.state,
        "glyph": {"fits": [one.fit.value for one in worked_out], "says": pins.summary(worked_out)}, "latches": pins.latches(worked_out),
        "failing": connection.failing, "tested_at": connection.tested_at, "users": len(connection.users.all()), "paused": connection.paused,
    }  # fmt: skip


def find(ref: str) -> Connection:
    """A connection with everything, or a 404."""
    found = halves.with_everything(Connection.objects.filter(ref=ref)).first()
    if found is None:
        raise problems.not_found("connection")
    return found


def _due(connection: Connection) -> list[dict[str, Any]]:
    held, credential, found = getattr(connection, "tokens", None), connection.credential, []
    if held is not None:
        renews = held.refresh is not None or connection.scheme != CODE
        says = "renews itself" if renews and not held.refused else held.refused or "cannot be renewed"
        found.append({"what": "Access token", "at": held.ends, "says": says, "act": "" if renews and not held.refused else "sign_in"})
    if credential is not None:
        found.append(
            {
                "what": f"Client secret {credential.hint}",
                "at": credential.ends,
                "says": "" if credential.ends else "no end date known",
                "act": "put_secret",
            }
        )
    if connection.client is not None:
        found += [
            {"what": f"Consent for {scope}", "at": None, "says": "no end date"}
            for scope in sorted(connection.client.consents)
            if scope in connection.scopes
        ]
    return found


def full(connection: Connection, notes: dict[str, list[str]] | None = None) -> dict[str, Any]:
    """A connection in full."""
    now = timezone.now()
    both = halves.halves(connection, now)
    worked_out = pins.work_out(both)
    profile = connection.place.application.read_profile()
    scheme = profile.scheme(connection.scheme)
    assert scheme is not None
    client, held = connection.client, getattr(connection, "tokens", None)
    lacks = _lacks(both)
    waiting = (
        connection.sign_ins.filter(ended=None, begun__gt=now - sign_in.LONGEST).order_by("-begun").values_list("begun", flat=True).first()
    )
    soonest = breaks.next_break(halves.watched(connection, worked_out, now), now)
    call = profile.harmless_call()
    choices = (
        Client.objects.filter(place__application=connection.place.application).exclude(state="asking").select_related("place__environment")
    )
    return {
        **row(connection, worked_out), "scheme": scheme_out(scheme), "values": connection.values, "scopes": connection.scopes, "pace": connection.pace,
        "time_limit": connection.time_limit, "version": connection.version, "changed_at": connection.changed_at, "changed_by": connection.changed_by,
        "client": client.pk if client else None, "managed": bool(client and client.managed),
        "secret_hint": connection.credential.hint if connection.credential else "", "pins": [pin_out(one) for one in worked_out],
        "users_of": [{"id": u.pk, "name": u.name, "kind": u.kind, "owner": u.owner, "runs": u.runs, "operations": u.operations, "lacks": lacks.get(u.name, [])}
                     for u in connection.users.all()],
        "due": _due(connection),
        "choices": [{"id": c.pk, "name": c.name, "client_id": c.client_id, "environment": c.place.environment.name} for c in choices],
        "operations": [one.name for one in profile.operations], "signs_person_in": connection.scheme == CODE, "signed_in": held is not None,
        "curl": _curl(connection, call.method, call.path) if call else "",
        "last_test": connection.tests.exclude(begun=None).order_by("-made").values_list("pk", flat=True).first(), "waiting_sign_in": waiting,
        "next_break": soonest.why if soonest else "", "notes": notes or {},
    }  # fmt: skip


def _curl(connection: Connection, method: str, path: str) -> str:
    return curl_line(method, connection.values.get("api_base", "").rstrip("/") + path, [("Accept", "application/json")])


def _lacks(both: pins.Halves) -> dict[str, list[str]]:
    permitted = both.caller.scopes & closure(both.provider.scopes, both.implies)
    lacks: dict[str, list[str]] = {}
    for one in both.needs:
        for scope in sorted(lacking(permitted, one.alternatives, both.implies)):
            if scope not in lacks.setdefault(one.user, []):
                lacks[one.user].append(scope)
    return lacks


@router.get("/connections", response=Connections)
def connections(request: HttpRequest, cursor: str | None = None, words: str = "") -> dict[str, Any]:
    """Connections by reference name; ``words`` filters by plain words and field words (``env:production state:open pin:scopes app:cargo``)."""
    guard.need(request, "look")
    rows, pin_words = Connection.objects.all(), []
    for word in words.lower().split():
        field, colon, value = word.partition(":")
        if colon and field in ("env", "environment"):
            rows = rows.filter(place__environment__key__startswith=value)
        elif colon and field == "state":
            rows = rows.filter(state__startswith=value)
        elif colon and field in ("app", "application"):
            rows = rows.filter(place__application__key__contains=value)
        elif colon and field == "pin":
            pin_words.append(value)
        else:
            rows = rows.filter(ref__icontains=word) | rows.filter(place__application__name__icontains=word)
    found, following = page(halves.with_everything(rows), "ref", cursor)
    now = timezone.now()
    items = []
    for one in found:
        worked_out = halves.work_out(one, now)
        off = {pin.key for pin in worked_out if pin.fit in (pins.Fit.DIFFERS, pins.Fit.MISSING, pins.Fit.NOT_PROVEN)}
        if all(any(key.startswith(word.replace("-", "_")) for key in off) for word in pin_words):
            items.append(row(one, worked_out))
    return {"items": items, "next": following}


@router.get("/connections/drafts/{application}/{environment}/{scheme}", response=Draft)
def draft(request: HttpRequest, application: str, environment: str, scheme: str, client: UUID | None = None) -> dict[str, Any]:
    """What a new connection starts from: the values the profile wants, with what is known filled in."""
    guard.need(request, "look")
    place = find_place(application, environment)
    profile = place.application.read_profile()
    found = profile.scheme(scheme)
    if found is None:
        raise problems.not_found("scheme")
    chosen = Client.objects.filter(pk=client, place__application=place.application).first() if client else None
    ref = application if place.environment.production else f"{application}-{environment}"
    taken = set(Connection.objects.filter(ref__startswith=ref).values_list("ref", flat=True))
    number = 2
    while ref in taken:
        ref = f"{application}-{environment}-{number}"
        number += 1
    return {
        "scheme": scheme_out(found), "values": services.defaults(place, found, chosen, f"{settings.PUBLIC_URL}/return"), "ref": ref,
        "secret_known": bool(chosen and chosen.credentials.exists()),
        "scopes": [{"name": s.name, "meaning": s.meaning, "kind": s.kind, "administrator": s.administrator,
                    "permitted": chosen is not None and s.name in chosen.scopes} for s in profile.scopes],
    }  # fmt: skip


@router.post("/connections", response={201: ConnectionOut})
def create(request: HttpRequest, given: ConnectionIn) -> tuple[int, dict[str, Any]]:
    """Make a connection."""
    by = guard.need(request, "change")
    place = find_place(given.application, given.environment)
    client = Client.objects.select_related("place").filter(pk=given.client).first() if given.client else None
    if given.client and client is None:
        raise wrong_fields({"client": "There is no such client."})

    def make() -> tuple[int, dict[str, Any]]:
        connection, notes = services.create(
            by, place, given.ref.strip(), given.scheme, client, given.values, given.scopes, given.secret, given.secret_ends
        )
        return 201, full(find(connection.ref), notes)

    # The secret's keyed fingerprint, never the secret itself, takes part in telling requests apart.
    return guard.repeatable(request, {**given.dict(exclude={"secret"}), "secret": safe.fingerprint(given.secret)}, make)


@router.get("/connections/{ref}", response=ConnectionOut)
def connection(request: HttpRequest, response: HttpResponse, ref: str) -> dict[str, Any]:
    """A connection with its shear line."""
    guard.need(request, "look")
    found = find(ref)
    guard.tagged(response, found.version)
    return full(found)


@router.patch("/connections/{ref}", response=ConnectionOut)
def change(request: HttpRequest, response: HttpResponse, ref: str, given: ConnectionChange) -> dict[str, Any]:
    """Change the caller side."""
    by = guard.need(request, "change")
    found = find(ref)
    guard.check_version(request, found.version, found.changed_by or "Somebody")
    changed, notes = services.change(by, found, given.dict())
    guard.tagged(response, changed.version)
    return full(find(ref), notes)


@router.delete("/connections/{ref}", response={204: None})
def remove(request: HttpRequest, ref: str, confirm: str = "") -> tuple[int, None]:
    """Take a connection away; ``confirm`` must be its reference name."""
    by = guard.need(request, "change")
    if confirm != ref:
        raise Problem(422, "Type the reference name to confirm.", f"It is {ref}.")
    services.remove(by, find(ref))
    return 204, None


@router.post("/connections/{ref}/acts", response=ConnectionOut)
def act(request: HttpRequest, ref: str, given: ActIn) -> dict[str, Any]:
    """Carry out an act that a pin offers."""
    services.act(guard.need(request, "change"), find(ref), given.pin, given.key, given.value)
    return full(find(ref))


@router.post("/connections/{ref}/secrets", response=ConnectionOut)
def put_secret(request: HttpRequest, ref: str, given: SecretIn) -> dict[str, Any]:
    """Put in a new secret on the caller side."""
    _, notes = services.put_secret(guard.need(request, "change"), find(ref), given.secret, given.ends)
    return full(find(ref), {"client_secret": notes} if notes else {})


@router.post("/connections/{ref}/clients", response=ConnectionOut)
def choose_client(request: HttpRequest, ref: str, given: ClientName) -> dict[str, Any]:
    """Name the client registration."""
    by = guard.need(request, "change")
    client = Client.objects.select_related("place").filter(pk=given.client).first()
    if client is None:
        raise problems.not_found("client")
    services.choose_client(by, find(ref), client)
    return full(find(ref))


@router.post("/connections/{ref}/sign-ins", response={201: SignInOut})
def begin_sign_in(request: HttpRequest, ref: str, given: SignInIn) -> tuple[int, dict[str, Any]]:
    """Begin a sign-in: where to send the person."""
    begun, address = sign_in.begin(guard.need(request, "test"), find(ref), given.back)
    return 201, {"id": begun.pk, "address": address}


@router.get("/sign-ins/{identity}", response=SignInState)
def sign_in_state(request: HttpRequest, identity: UUID) -> dict[str, Any]:
    """How a sign-in went."""
    guard.need(request, "look")
    found = SignIn.objects.select_related("connection").filter(pk=identity).first()
    if found is None:
        raise problems.not_found("sign-in")
    return {"id": found.pk, "connection": found.connection.ref, "outcome": found.outcome, "says": found.says, "ended": found.ended}


@router.post("/connections/{ref}/users", response={201: ConnectionOut})
def add_user(request: HttpRequest, ref: str, given: UserIn) -> tuple[int, dict[str, Any]]:
    """Note who uses this connection."""
    services.add_user(guard.need(request, "change"), find(ref), given.name, given.kind, given.owner, given.runs, given.operations)
    return 201, full(find(ref))


@router.delete("/connections/{ref}/users/{identity}", response=ConnectionOut)
def remove_user(request: HttpRequest, ref: str, identity: int) -> dict[str, Any]:
    """A user no longer uses this connection."""
    by = guard.need(request, "change")
    user = ConnectionUser.objects.select_related("connection").filter(pk=identity, connection__ref=ref).first()
    if user is None:
        raise problems.not_found("user of this connection")
    services.remove_user(by, user)
    return full(find(ref))
