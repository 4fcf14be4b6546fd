"""Making and changing connections, and the acts that mend a pin."""

from __future__ import annotations

import re
from typing import Any

from django.db import IntegrityError, transaction
from django.utils import timezone

from neatlatch.core import health, profiles
from neatlatch.core.intake.clean import clean, suspicions
from neatlatch.core.profiles import Scheme
from neatlatch.core.scopes import malformed
from neatlatch.desk.applications.models import Place
from neatlatch.desk.clients import services as clients
from neatlatch.desk.clients.models import Client
from neatlatch.desk.common import safe
from neatlatch.desk.common.problems import Problem, wrong_fields
from neatlatch.desk.credentials.models import Credential
from neatlatch.desk.credentials.services import check_pasted, keep
from neatlatch.desk.journal.services import write
from neatlatch.desk.people.models import Person

from . import tokens
from .models import Connection, ConnectionUser, TokenSet

_REF = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")
# A change of these makes the tokens we hold belong to something else.
_IDENTITY = ("issuer", "token_endpoint", "client_id")


def clean_values(scheme: Scheme, given: dict[str, str]) -> tuple[dict[str, str], dict[str, list[str]]]:
    """The values of a scheme, cleaned; answers them and, by key, what was cleaned or still looks wrong."""
    values, notes = {}, {}
    for value in scheme.values:
        if value.secret or value.type == "scopes" or value.key not in given:
            continue
        cleaned = clean(str(given[value.key]))
        values[value.key] = cleaned.value
        if said := [*cleaned.notes, *(suspicions(cleaned.value) if value.type in ("text", "address") else ())]:
            notes[value.key] = said
    return values, notes


def defaults(place: Place, scheme: Scheme, client: Client | None, redirect_uri: str) -> dict[str, str]:
    """What can be filled in already: the provider's published addresses and what the registered client says."""
    known = {"issuer": place.issuer, "authorization_endpoint": place.authorization_endpoint, "token_endpoint": place.token_endpoint,
             "api_base": place.api_base, "redirect_uri": redirect_uri, "client_sign_in": "client_secret_basic", "account": ""}  # fmt: skip
    if client is not None:
        known |= {"client_id": client.client_id, "client_sign_in": client.sign_in_method}
    return {value.key: known.get(value.key, "") for value in scheme.values if not value.secret and value.type != "scopes"}


def create(by: Person, place: Place, ref: str, scheme_key: str, client: Client | None, given: dict[str, str], scopes: list[str],
           pasted_secret: str, secret_ends: Any = None) -> tuple[Connection, dict[str, list[str]]]:  # fmt: skip
    """Make a connection. Without a pasted secret it takes the one the client was registered with, if that is known here."""
    profile = place.application.read_profile()
    scheme = profile.scheme(scheme_key)
    errors: dict[str, str] = {}
    if not _REF.fullmatch(ref):
        errors["ref"] = "A reference name is small letters, digits and hyphens, like cargo-manifests."
    elif Connection.objects.filter(ref=ref).exists():
        errors["ref"] = "This reference name is taken."
    if scheme is None:
        raise wrong_fields({"scheme": "Choose one of the ways this application lets others in."})
    if client is not None and client.place.application_id != place.application_id:
        errors["client"] = "This client belongs to another application."
    values, notes = clean_values(scheme, given)
    errors |= profiles.check_values(scheme, values) | _wrong_scopes(scopes)
    if errors:
        raise wrong_fields(errors)
    with transaction.atomic():
        connection = Connection(ref=ref, place=place, client=client, scheme=scheme_key, values=values, scopes=sorted(set(scopes)), changed_at=timezone.now(),
                                changed_by=by.username)  # fmt: skip
        if pasted_secret.strip():
            connection.credential, said = _pasted(by, client, pasted_secret, secret_ends)
            notes |= {"client_secret": said} if said else {}
        elif client is not None and not client.public:
            connection.credential = client.credentials.filter(state=Credential.State.ACTIVE).order_by("-issued").first()
        try:
            connection.save(force_insert=True)
        except IntegrityError as error:
            raise wrong_fields({"ref": "This reference name is taken."}) from error
        write(
            by,
            "made",
            "connection",
            ref,
            {"application": place.application.key, "environment": place.environment.name, "scheme": scheme_key},
        )
    return connection, notes


def _wrong_scopes(scopes: list[str]) -> dict[str, str]:
    bad = sorted(one for one in scopes if malformed(one))
    return {"scopes": f"“{bad[0]}” holds characters that a scope must not (RFC 6749 §3.3)."} if bad else {}


def _pasted(by: Person, client: Client | None, pasted: str, ends: Any) -> tuple[Credential, list[str]]:
    """A pasted secret: the very one that was handed over, if it is known here, else a new one of the caller side."""
    value, notes, odd = check_pasted(pasted)
    if client is not None:
        # Pasted again is not a second secret: one entry for each value.
        known = client.credentials.filter(fingerprint=safe.fingerprint(value)).first()
        if known is not None:
            return known, [*notes, *odd]
    credential = keep(value, client=client, source="pasted", by=by.username, ends=ends)
    return credential, [*notes, *odd]


def _touch(connection: Connection, by: Person) -> None:
    """Save a change of the caller side: nobody has tried it yet."""
    connection.version += 1
    connection.changed_at, connection.changed_by = timezone.now(), by.username
    forget_health(connection)
    connection.save()


def forget_health(connection: Connection) -> None:
    """After a change on either side the past counts no more. Does not save."""
    fresh = health.after_change(health.Health())
    connection.state, connection.score, connection.same_failures, connection.last_class = (
        fresh.state.value,
        fresh.score,
        fresh.same_failures,
        "",
    )
    connection.failing = ""


def locked(connection: Connection) -> Connection:
    """The connection as it stands now, in the surrounding transaction."""
    return (
        Connection.objects.select_for_update()
        .select_related("place__application", "place__environment", "client", "credential")
        .get(pk=connection.pk)
    )


@transaction.atomic
def change(by: Person, connection: Connection, given: dict[str, Any]) -> tuple[Connection, dict[str, list[str]]]:
    """Change the caller side. The version must have been checked. A half-finished connection may stay so: pins say what is missing."""
    connection = locked(connection)
    scheme = connection.place.application.read_profile().scheme(connection.scheme)
    assert scheme is not None
    values, notes = clean_values(scheme, given.get("values") or {})
    wrong = {
        key: text for key, text in profiles.check_values(scheme, {**connection.values, **values}).items() if key in values and values[key]
    }
    scopes = given.get("scopes")
    wrong |= _wrong_scopes(scopes or [])
    for key, least, most in (("pace", 0.01, 1000), ("time_limit", 1, 120)):
        if given.get(key) is not None and not least <= given[key] <= most:
            wrong[key] = f"Give a number from {least} to {most}."
    if wrong:
        raise wrong_fields(wrong)
    before = dict(connection.values)
    connection.values = {**connection.values, **values}
    if scopes is not None:
        connection.scopes = sorted(set(scopes))
    for key in ("pace", "time_limit", "paused"):
        if given.get(key) is not None:
            setattr(connection, key, given[key])
    _touch(connection, by)
    if any(before.get(key) != connection.values.get(key) for key in _IDENTITY):
        TokenSet.objects.filter(connection=connection).delete()
    changed = sorted(
        [key for key, value in connection.values.items() if before.get(key) != value] + (["scopes"] if scopes is not None else [])
    )
    write(by, "changed", "connection", connection.ref, {"fields": changed})
    return connection, notes


@transaction.atomic
def put_secret(by: Person, connection: Connection, pasted: str, ends: Any = None) -> tuple[Connection, list[str]]:
    """Put in a new secret on the caller side; answers what was cleaned."""
    connection = locked(connection)
    connection.credential, notes = _pasted(by, connection.client, pasted, ends)
    _touch(connection, by)
    write(by, "put in a secret", "connection", connection.ref, {"hint": connection.credential.hint, "cleaned": notes})
    return connection, notes


@transaction.atomic
def choose_client(by: Person, connection: Connection, client: Client) -> Connection:
    """Name another client registration; its client ID and sign-in method are taken over."""
    connection = locked(connection)
    if client.place.application_id != connection.place.application_id:
        raise wrong_fields({"client": "This client belongs to another application."})
    connection.client = client
    connection.values = {**connection.values, "client_id": client.client_id, "client_sign_in": client.sign_in_method}
    connection.credential = client.credentials.filter(state=Credential.State.ACTIVE).order_by("-issued").first()
    TokenSet.objects.filter(connection=connection).delete()
    _touch(connection, by)
    write(by, "named another client", "connection", connection.ref, {"client": client.client_id})
    return connection


def remove(by: Person, connection: Connection) -> None:
    """Take a connection away, with its tokens and its history. The provider is asked to end the tokens first; if it cannot be, that is in the journal."""
    revoked = tokens.revoke(connection)
    with transaction.atomic():
        connection = locked(connection)
        connection.samples.all().delete()
        write(
            by, "removed", "connection", connection.ref, {"environment": connection.place.environment.name, "tokens revoked there": revoked}
        )
        connection.delete()


# The acts of the pins

_FIELD_OF_PIN = {"issuer": "issuer", "redirect_uri": "redirect_uri", "client_id": "client_id", "client_sign_in": "client_sign_in"}


def act(by: Person, connection: Connection, pin: str, key: str, value: str) -> Connection:
    """Carry out an act that a pin offers. Raises :class:`Problem` for one that is not offered."""
    if key == "take_provider":
        return _take_provider(by, connection, pin, value)
    if key in ("drop_scope", "request_scope", "drop_secret", "expect_account"):
        return _own_side(by, connection, key, value)
    client = connection.client
    if client is None:
        raise Problem(409, "No client is named.", "Name the client registration of this connection first.")
    if key == "register_ours":
        clients.change(by, client, clients.with_uri(value))
    elif key == "permit_scope":
        clients.change(by, client, clients.with_scope(value))
    elif key == "enable_grant":
        clients.change(by, client, clients.with_grant(value))
    elif key == "note_consent":
        clients.note_consent(by, client, value, True)
    else:
        raise Problem(422, "There is no such act.", "Reload the page; the pin may have changed.")
    provider_changed(client)
    return connection


@transaction.atomic
def provider_changed(client: Client) -> None:
    """The provider's half changed, so nobody has tried any of the client's connections since."""
    for one in Connection.objects.select_for_update().filter(client=client):
        forget_health(one)
        one.save()


@transaction.atomic
def _take_provider(by: Person, connection: Connection, pin: str, value: str) -> Connection:
    connection = locked(connection)
    place, values = connection.place, dict(connection.values)
    addresses = {"issuer": place.issuer, "authorization_endpoint": place.authorization_endpoint, "token_endpoint": place.token_endpoint,
                 "api_base": place.api_base}  # fmt: skip
    if pin == "endpoints" and value in addresses:
        values[value] = addresses[value]
    elif pin == "environment":
        values |= {key: address for key, address in addresses.items() if key in values}
    elif pin in _FIELD_OF_PIN:
        held = {"issuer": [place.issuer], "redirect_uri": connection.client.redirect_uris if connection.client else [],
                "client_id": [connection.client.client_id] if connection.client else [],
                "client_sign_in": [connection.client.sign_in_method] if connection.client else []}[pin]  # fmt: skip
        if value not in held:
            raise Problem(409, "The provider's value has changed meanwhile.", "Reload the page and look again.")
        values[_FIELD_OF_PIN[pin]] = value
    else:
        raise Problem(422, "There is no such act.", "Reload the page; the pin may have changed.")
    moved = any(values.get(key) != connection.values.get(key) for key in _IDENTITY)
    connection.values = values
    if moved:
        TokenSet.objects.filter(connection=connection).delete()
    _touch(connection, by)
    write(by, "took the provider's value", "connection", connection.ref, {"pin": pin})
    return connection


@transaction.atomic
def _own_side(by: Person, connection: Connection, key: str, value: str) -> Connection:
    connection = locked(connection)
    if key == "drop_scope":
        connection.scopes = [one for one in connection.scopes if one != value]
    elif key == "request_scope":
        connection.scopes = sorted({*connection.scopes, value})
    elif key == "drop_secret":
        connection.credential = None
    else:
        connection.values = {**connection.values, "account": value}
    _touch(connection, by)
    write(by, key.replace("_", " "), "connection", connection.ref, {"value": value})
    return connection


# Users

_KINDS = ("job", "report", "script", "agent")


@transaction.atomic
def add_user(by: Person, connection: Connection, name: str, kind: str, owner: str, runs: str, operations: list[str]) -> ConnectionUser:
    """Note who uses a connection, and which operations it calls."""
    profile = connection.place.application.read_profile()
    errors = {}
    if not name.strip():
        errors["name"] = "What is it called?"
    elif connection.users.filter(name=name.strip()).exists():
        errors["name"] = "A user of this name is noted already."
    if kind not in _KINDS:
        errors["kind"] = f"A user is one of {', '.join(_KINDS)}."
    if unknown := [one for one in operations if profile.operation(one) is None]:
        errors["operations"] = f"{unknown[0]} is not an operation of this application."
    if errors:
        raise wrong_fields(errors)
    user = ConnectionUser.objects.create(
        connection=connection, name=name.strip(), kind=kind, owner=owner.strip(), runs=runs.strip(), operations=operations
    )
    write(by, "noted a user", "connection", connection.ref, {"user": user.name})
    return user


@transaction.atomic
def remove_user(by: Person, user: ConnectionUser) -> None:
    """A user no longer uses the connection."""
    write(by, "took a user off", "connection", user.connection.ref, {"user": user.name})
    user.delete()
