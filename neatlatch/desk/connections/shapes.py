"""What the API takes and answers about connections."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from django.utils import timezone
from ninja import Schema

from neatlatch.core import breaks, pins
from neatlatch.core.evidence import curl_line
from neatlatch.core.pins import Pin
from neatlatch.core.schemes import CODE, KINDS, STREAM, Scheme
from neatlatch.core.scopes import closure, lacking
from neatlatch.desk.applications.api import EnvironmentOut, SchemeOut, ValueOut, environment_out, scheme_out, value_out
from neatlatch.desk.clients.models import Client

from . import halves, sign_in
from .models import Connection


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


class UsedBy(Schema):
    """A user of a connection, and what it lacks."""

    id: int
    user: UUID
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
    key: str = ""


class ClientChoice(Schema):
    """A client registration that this connection could name."""

    id: UUID
    name: str
    client_id: str
    environment: str


class HeldOut(Schema):
    """A secret of the caller side, without its value. ``hint`` is empty while there is none."""

    key: str
    label: str
    type: str
    where: str
    hint: str
    ends: datetime | None
    put_in: datetime | None
    put_in_by: str


class CertificateOut(Schema):
    """Our client certificate, explained."""

    subject: str
    sha256: str
    ends: datetime | None
    verdict: str
    says: str


class SchemeChoice(Schema):
    """Another of the ways the application offers."""

    key: str
    label: str


class ConnectionOut(ConnectionRow):
    """A connection in full."""

    scheme: SchemeOut
    schemes: list[SchemeChoice]
    slots: dict[str, str]
    slot_values: list[ValueOut]
    secrets: list[HeldOut]
    certificate: CertificateOut | None
    values: dict[str, str]
    scopes: list[str]
    pace: float
    time_limit: float
    version: int
    changed_at: datetime
    changed_by: str
    client: UUID | None
    managed: bool
    pins: list[PinOut]
    users_of: list[UsedBy]
    individual: bool
    team: str
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
    slots: dict[str, str] = {}
    secrets: dict[str, str] = {}
    secret_ends: datetime | None = None


class ConnectionChange(Schema):
    """What to change; absent: stays."""

    values: dict[str, str] | None = None
    slots: dict[str, str] | None = None
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
    """A new secret for the caller side; ``key`` is that of the value it is for (empty: the first)."""

    secret: str
    key: str = ""
    ends: datetime | None = None


class CertificateIn(Schema):
    """A certificate, its chain and its key: PEM as text, or any of the forms in base64; ``password`` opens what is locked."""

    pem: str = ""
    base64: str = ""
    password: str = ""


class SchemeName(Schema):
    """The way in to take."""

    scheme: str


class SetUpIn(Schema):
    """What a set-up begins with."""

    application: str
    environment: str
    scheme: str
    ref: str = ""


class SectionOut(Schema):
    """A step of setting up."""

    key: str
    title: str
    standing: str
    says: str


class EnvironmentChoice(Schema):
    """An environment to copy to."""

    key: str
    name: str


class SetUpOut(Schema):
    """Where a set-up stands."""

    sections: list[SectionOut]
    missing: list[str]
    next: str
    environments_left: list[str]
    copies_to: list[EnvironmentChoice]


class EnvironmentName(Schema):
    """An environment, by its key."""

    environment: str


class CopyOut(Schema):
    """A set-up that was begun in another environment: what was carried over, and what must be new."""

    ref: str
    carried: list[str]
    new: list[str]


class IntakeIn(Schema):
    """Anything that was pasted, or a dropped file in base64; ``connection`` is the one whose values it may fill."""

    text: str = ""
    base64: str = ""
    password: str = ""
    connection: str = ""


class IntakeTake(IntakeIn):
    """What to put in place: ``only`` these values (absent: all that are placed), and by choice what was open."""

    only: list[str] | None = None
    choices: dict[str, str] = {}


class FactOut(Schema):
    """Something explained."""

    label: str
    value: str


class PlacedOut(Schema):
    """A value that would be put in place; of a secret only its hint is shown."""

    key: str
    label: str
    name: str
    notes: list[str]
    secret: bool
    shown: str


class OpenOut(Schema):
    """A place for which a choice is wanted."""

    key: str
    label: str
    names: list[str]


class IntakeOut(Schema):
    """What was recognised."""

    kind: str
    says: str
    facts: list[FactOut]
    placed: list[PlacedOut]
    open: list[OpenOut]
    left: list[str]
    known: list[str]


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


class UsedByIn(Schema):
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
    secrets_known: list[str]
    slots: list[ValueOut]


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


def _due(connection: Connection) -> list[dict[str, Any]]:
    held = connection.tokens
    found: list[dict[str, Any]] = []
    if held is not None:
        renews = held.refresh is not None or connection.scheme != CODE
        says = "renews itself" if renews and not held.refused else held.refused or "cannot be renewed"
        found.append({"what": "Access token", "at": held.ends, "says": says, "act": "" if renews and not held.refused else "sign_in"})
    scheme = KINDS[connection.scheme]
    for key, credential in connection.secrets().items():
        value = scheme.value(key.rpartition(".")[2])
        if credential.kind == "private_key":
            continue
        label = value.label if value else key.rpartition(".")[2].replace("_", " ").capitalize()
        found.append({"what": f"{label} {credential.hint}", "at": credential.ends, "says": "" if credential.ends else "no end date known", "act": "put_secret",
                      "key": key})  # fmt: skip
    sight = halves.certificate_sight(connection, timezone.now()) if "certificate" in connection.values else None
    if sight is not None:
        found.append({"what": "Certificate chain", "at": sight.ends, "says": "", "act": "put_certificate"})
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
    scheme = profile.scheme(connection.scheme) or KINDS[connection.scheme]
    client, held = connection.client, connection.tokens
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
        "schemes": [{"key": one.key, "label": one.label} for one in profile.schemes], "slots": connection.slots,
        "slot_values": [value_out(one) for one in profile.slots], "secrets": _held(connection, scheme), "certificate": _certificate(both), "pins": [pin_out(one) for one in worked_out],
        "users_of": [{"id": u.pk, "user": u.user_id, "name": u.name, "kind": u.user.kind, "owner": u.owner, "runs": u.user.runs, "operations": u.operations, "lacks": lacks.get(u.name, [])}
                     for u in connection.users.all()],
        "due": _due(connection), "individual": connection.individual, "team": connection.team.name if connection.team else "",
        "choices": [{"id": c.pk, "name": c.name, "client_id": c.client_id or c.account or next(iter(c.facts.values()), ""), "environment": c.place.environment.name} for c in choices],
        "operations": [one.name for one in profile.operations], "signs_person_in": connection.scheme == CODE, "signed_in": held is not None,
        "curl": _curl(connection, scheme, call.method, call.path) if call else "",
        "last_test": connection.tests.exclude(begun=None).order_by("-made").values_list("pk", flat=True).first(), "waiting_sign_in": waiting,
        "next_break": soonest.why if soonest else "", "notes": notes or {},
    }  # fmt: skip


def _held(connection: Connection, scheme: Scheme) -> list[dict[str, Any]]:
    secrets = connection.secrets()
    found = []
    for value in scheme.secrets():
        one = secrets.get(value.key)
        found.append({"key": value.key, "label": value.label, "type": value.type, "where": value.where, "hint": one.hint if one else "", "ends": one.ends if one else None,
                      "put_in": one.issued if one else None, "put_in_by": one.put_in_by if one else ""})  # fmt: skip
    return found


def _certificate(both: pins.Halves) -> dict[str, Any] | None:
    sight = both.caller.certificate
    return (
        None
        if sight is None
        else {"subject": sight.subject, "sha256": sight.sha256, "ends": sight.ends, "verdict": sight.verdict, "says": sight.says}
    )


def _curl(connection: Connection, scheme: Scheme, method: str, path: str) -> str:
    if connection.scheme == STREAM:
        return ""
    address = connection.values.get("api_base", "").rstrip("/") + path
    return curl_line(
        method, address, [("Accept", "application/json")], kind=connection.scheme, values=connection.values, settings=scheme.settings
    )


def _lacks(both: pins.Halves) -> dict[str, list[str]]:
    permitted = both.provider.rights if both.roles else both.caller.scopes & closure(both.provider.scopes, both.implies)
    lacks: dict[str, list[str]] = {}
    for one in both.needs:
        for scope in sorted(lacking(permitted, one.alternatives, both.implies)):
            if scope not in lacks.setdefault(one.user, []):
                lacks[one.user].append(scope)
    return lacks
