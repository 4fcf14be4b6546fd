"""Making and changing connections."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from hashlib import sha256
from typing import Any
from uuid import UUID

from django.conf import settings
from django.db import IntegrityError, transaction
from django.utils import timezone

from neatlatch.core import changes, profiles
from neatlatch.core.certificates import facts, reading
from neatlatch.core.formats import settings_out
from neatlatch.core.intake.clean import clean, suspicions
from neatlatch.core.pins import environment
from neatlatch.core.profiles import Scheme, Value, fill_slots
from neatlatch.core.schemes import OAUTH2, SIGNING_SECRET
from neatlatch.core.scopes import malformed
from neatlatch.core.signed_calls import unsound_secret
from neatlatch.desk.estate.credentials import ends as credential_ends
from neatlatch.desk.estate.credentials.services import check_key, check_pasted, keep
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client, ResourceServer
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common import heavy, safe
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, check_unchanged, wrong_fields
from neatlatch.desk.ground.journal.services import write

from . import destinations, naming, set_aside, tokens
from .destinations import DestinationPermission
from .halves import provider_addresses

# A change of these makes the tokens we hold belong to something else.
IDENTITY = ("issuer", "token_endpoint", "client_id")


@dataclass(frozen=True)
class OpenedKey:
    """A private key that was opened already, in PEM and not encrypted, with what was cleaned off
    it.
    """

    text: str = field(repr=False)
    notes: tuple[str, ...] = ()


Pasted = str | OpenedKey


def clean_values(
    scheme: Scheme, entered: dict[str, str]
) -> tuple[dict[str, str], dict[str, list[str]]]:
    """The values of a scheme, cleaned; returns them and, by key, what was cleaned or still looks
    wrong.
    """
    values, notes = {}, {}
    for value in scheme.all_values():
        if value.secret or value.type == "scopes" or value.key not in entered:
            continue
        cleaned = clean(str(entered[value.key]))
        values[value.key] = cleaned.value
        if said := [
            *cleaned.notes,
            *(suspicions(cleaned.value) if value.type in ("text", "address", "host") else ()),
        ]:
            notes[value.key] = said
    return values, notes


def clean_slots(deployment: Deployment, entered: dict[str, str]) -> dict[str, str]:
    """The slots of an application's addresses, cleaned; a field error for one whose pattern does
    not fit.
    """
    slots = {}
    for slot in deployment.application.read_profile().slots:
        value = clean(str(entered.get(slot.key, ""))).value
        if value and slot.pattern and not re.fullmatch(slot.pattern, value):
            raise wrong_fields(
                {f"slot.{slot.key}": f"{slot.label} does not look right. {slot.help}"}
            )
        if value:
            slots[slot.key] = value
    return slots


def defaults(
    deployment: Deployment,
    scheme: Scheme,
    client: Client | None,
    redirect_uri: str,
    slots: dict[str, str] | None = None,
) -> dict[str, str]:
    """What can be filled in already: the provider's addresses and what its side says of us."""
    known = {
        "redirect_uri": redirect_uri,
        "client_sign_in": "client_secret_basic",
        "account": "",
        **provider_addresses(deployment, slots or {}, client),
    }
    if client is not None:
        known |= {
            "client_id": client.client_id,
            "client_sign_in": client.sign_in_method,
            **client.facts,
            **_issued_to(client),
        }
    known.setdefault("audience", known.get("token_endpoint", ""))
    return {
        value.key: known.get(value.key, "")
        for value in scheme.all_values()
        if not value.secret and value.type != "scopes"
    }


def _issued_to(client: Client) -> dict[str, str]:
    """The chain of the certificate that the house issued with the newest key of a client."""
    key = newest(client, "private_key")
    return {"certificate": key.whole_chain} if key is not None and key.chain else {}


def refused_client(deployment: Deployment, client: Client | None) -> str | None:
    """Why a client may not be used in a deployment, if so."""
    if isinstance(client, ResourceServer):
        return (
            "This is the application itself, and not a caller of it. Name another, or have one "
            "issued."
        )
    refused = (
        environment.refuses(client.vendor_shared, deployment.environment.production)
        if client is not None
        else ""
    )
    return f"{refused} Register one of our own." if refused else None


def create(
    by: Actor,
    deployment: Deployment,
    name: str,
    scheme_key: str,
    client: Client | None,
    entered: dict[str, str],
    scopes: list[str],
    pasted: dict[str, str],
    secret_ends: Any = None,
    slots: dict[str, str] | None = None,
    leave: DestinationPermission | None = None,
) -> tuple[Connection, dict[str, list[str]]]:
    """Make a connection.

    ``pasted`` are secrets by the keys of the scheme's values; one that is not pasted is the one the
    client was registered with, if that is known here.
    """
    profile = deployment.application.read_profile()
    scheme = profile.scheme(scheme_key)
    errors: dict[str, str] = {}
    if refused_name := naming.obstacle(deployment, name):
        errors["name"] = refused_name
    if scheme is None:
        raise wrong_fields({"scheme": "Choose one of this application's authentication schemes."})
    if client is not None and client.deployment.application_id != deployment.application_id:
        errors["client"] = "This client belongs to another application."
    elif (refused := refused_client(deployment, client)) is not None:
        errors["client"] = refused
    values, notes = clean_values(scheme, entered)
    filled = clean_slots(deployment, slots or {})
    values = {key: fill_slots(value, filled) for key, value in values.items()}
    errors |= profiles.check_values(scheme, values) | _wrong_scopes(scopes)
    if errors:
        raise wrong_fields(errors)
    opened = _opened(scheme, {key: text for key, text in pasted.items() if text.strip()})
    with transaction.atomic():
        connection = Connection(
            **naming.named(deployment, name),
            deployment=deployment,
            client=client,
            scheme=scheme_key,
            values=values,
            scopes=sorted(set(scopes)),
            slots=filled,
        )
        save_new(by, connection)
        for value in scheme.secrets():
            if value.key in opened:
                _, said = _hold(by, connection, value, opened[value.key], secret_ends)
                notes |= {value.key: said} if said else {}
            elif (
                client is not None
                and not client.public
                and (known := newest(client, value.key)) is not None
            ):
                HeldSecret.objects.create(connection=connection, key=value.key, credential=known)
        _learn_end(connection)
        destinations.settle(by, connection, leave)
        write(
            by,
            "made",
            "connection",
            connection.ref,
            {
                "application": deployment.application.key,
                "environment": deployment.environment.name,
                "scheme": scheme_key,
            },
        )
    return connection, notes


def _no_such_secret(reference: str, key: str) -> str:
    """Why a reference to a secret leads nowhere."""
    if Connection.objects.filter(ref=reference).exists():
        return f"{reference} holds no {key} that this could refer to."
    problem = naming.no_connection(reference)
    return f"{problem.title} {problem.detail}"


def save_new(by: Actor, connection: Connection) -> None:
    """Save a connection for the first time, as part of the surrounding transaction. Raises a field
    error where it cannot have its name."""
    naming.check_free(connection.deployment, connection.name)
    connection.changed_at, connection.changed_by = timezone.now(), by.username
    try:
        with transaction.atomic():
            connection.save(force_insert=True)
    except IntegrityError as error:
        raise wrong_fields({"name": f"The name {connection.ref} is taken."}) from error


@transaction.atomic
def begin(
    by: Actor, deployment: Deployment, name: str, scheme: Scheme, values: dict[str, str]
) -> Connection:
    """A connection that is still being set up: values may be missing, and the pins say which."""
    connection = Connection(
        **naming.named(deployment, name),
        deployment=deployment,
        scheme=scheme.key,
        values=values,
        paused=True,
    )
    save_new(by, connection)
    write(
        by,
        "began",
        "connection",
        connection.ref,
        {
            "application": deployment.application.key,
            "environment": deployment.environment.name,
            "scheme": scheme.key,
        },
    )
    return connection


def newest(client: Client, kind: str) -> Credential | None:
    """The newest live secret of a kind that the provider's side holds, if it is known here."""
    return (
        client.credentials.filter(state=Credential.State.ACTIVE, kind=kind)
        .exclude(fingerprint="")
        .order_by("-issued")
        .first()
    )


def _wrong_scopes(scopes: list[str]) -> dict[str, str]:
    bad = sorted(scope for scope in scopes if malformed(scope))
    return (
        {"scopes": f"“{bad[0]}” holds characters that a scope must not (RFC 6749 §3.3)."}
        if bad
        else {}
    )


def _opened(scheme: Scheme, pasted: Mapping[str, Pasted]) -> dict[str, Pasted]:
    """Open the private keys among pasted secrets: before any transaction, because it may take long.

    Raises a field error.
    """
    return {key: _open(scheme.value(key), text) for key, text in pasted.items()}


def _open(value: Value | None, pasted: Pasted) -> Pasted:
    if (
        value is None
        or value.type != "key"
        or isinstance(pasted, OpenedKey)
        or settings_out.read_reference(pasted) is not None
    ):
        return pasted
    return OpenedKey(*check_key(pasted))


def _hold(
    by: Actor, connection: Connection, value: Value, pasted: Pasted, ends: Any
) -> tuple[Credential, list[str]]:
    """Keep a pasted secret and let the connection hold it; returns it, with what was cleaned and
    what still looks wrong.
    """
    credential, notes = _pasted(by, connection, value, pasted, ends)
    # The connection is locked: nobody else gives it a secret meanwhile.
    if not HeldSecret.objects.filter(connection=connection, key=value.key).update(
        credential=credential
    ):
        HeldSecret.objects.create(connection=connection, key=value.key, credential=credential)
    return credential, notes


def _pasted(
    by: Actor, connection: Connection, value: Value, pasted: Pasted, ends: Any
) -> tuple[Credential, list[str]]:
    """A pasted secret: the very one that was handed over or that a reference names, if it is known
    here, else a new one of the caller side.

    Anyone who pastes it knows it, so it may go where the connection sends it; anyone who names a
    reference may not know it.
    """
    # One for signed calls is the connection's: the client does not show it.
    client = connection.client if value.key != SIGNING_SECRET else None
    odd: tuple[str, ...] = ()
    if isinstance(pasted, OpenedKey):
        text, notes = pasted.text, pasted.notes
    elif (named := settings_out.read_reference(pasted)) is not None:
        held = (
            HeldSecret.objects.select_related("credential", "connection")
            .filter(connection__ref=named[0], key=named[1])
            .first()
        )
        if held is None or not held.credential.fingerprint:
            raise wrong_fields({value.key: _no_such_secret(*named)})
        if held.connection.deployment_id != connection.deployment_id:
            raise wrong_fields(
                {
                    value.key: (
                        f"{named[0]} belongs elsewhere. A reference works only within one "
                        f"application and environment."
                    )
                }
            )
        return held.credential, ["taken from the safe by its reference"]
    elif value.type == "key":
        raise Problem(
            409,
            "The scheme was changed meanwhile.",
            "Nothing was kept. Look at the connection, then put the key in again.",
            code="scheme-changed",
        )
    else:
        text, notes, odd = check_pasted(pasted, value.key)
        _check_signing(connection, value, text)
    # Pasted again is not a second secret: one entry for each value.
    known = _same_secret(connection, client, value.key, safe.fingerprint(text))
    if known is not None:
        destinations.put_in_for(connection, value.key, known)
        return known, [*notes, *odd, *_weak(known), *_end_again(by, known, ends)]
    application = connection.deployment.application
    names = [connection.values.get(key, "") for key in ("username", "account")]
    names += [connection.ref, connection.name, application.name, application.key]
    credential = keep(
        text, client=client, source="pasted", by=by.username, ends=ends, kind=value.key, names=names
    )
    destinations.put_in_for(connection, value.key, credential)
    return credential, [*notes, *odd, *_weak(credential)]


def _weak(credential: Credential) -> list[str]:
    return [credential.weak] if credential.weak else []


def _check_signing(connection: Connection, value: Value, text: str) -> None:
    """Refuse what cannot be a signing secret. Raises a field error."""
    rule = connection.deployment.application.read_profile().signed_calls
    if value.key == SIGNING_SECRET and rule and (said := unsound_secret(rule, text)):
        raise wrong_fields({value.key: said})


def _same_secret(
    connection: Connection, client: Client | None, key: str, fingerprint: str
) -> Credential | None:
    """The secret that this very text is known as: of its client, or what the connection holds under
    that key.
    """
    if client is not None:
        return client.credentials.filter(fingerprint=fingerprint, kind=key).first()
    held = Credential.objects.filter(
        holders__connection=connection, holders__key=key, fingerprint=fingerprint
    ).first()
    return held if held is not None and held.lives else None


def _end_again(by: Actor, known: Credential, ends: Any) -> list[str]:
    """The end that was said with a secret that is known already, noted; returns what to say of it.

    Without one, what was noted stays.
    """
    if ends is None or known.ends == ends:
        return []
    if said := credential_ends.told_by(known):
        return [f"its expiry stays as it was. {said}"]
    if known.lives:
        credential_ends.set_end(by, known, ends)
    return []


def _learn_end(connection: Connection) -> None:
    """A private key is of use as long as its certificate is good: the credential ends when that
    does (RFC 5280 §4.1.2.5).
    """
    if not connection.values.get("certificate"):
        return
    held = connection.held_secrets.select_related("credential").filter(key="private_key").first()
    if held is None:
        return
    try:
        leaf = reading.read(connection.values["certificate"].encode("utf-8")).leaf()
        told = facts.of_certificate(leaf) if leaf is not None else None
    except (reading.Unreadable, ValueError):
        return
    if told is not None and told.key.spki_sha256 == held.credential.public_key:
        Credential.objects.filter(pk=held.credential_id).exclude(ends=told.not_after).update(
            ends=told.not_after
        )


# Columns that say how a connection is tested and how fast it is called, but not what is sent: after
# a change of these it is as proven as before.
HOW_TESTED = ("pace", "time_limit", "paused", "test_interval", "work_in_rounds")
LONGEST_INTERVAL = 7 * 24 * 60
# Least and most of those that are numbers; pace in calls a second, time limit in seconds, test
# interval in minutes.
_BOUNDS = {
    "pace": (0.01, 1000),
    "time_limit": (1, 120),
    "test_interval": (0, LONGEST_INTERVAL),
}


@transaction.atomic
def change_how_tested(by: Actor, connection: Connection, wanted: Mapping[str, Any]) -> bool:
    """Change some of :data:`HOW_TESTED`; whether that changed anything. Raises field errors."""
    changed, words = _put_how_tested(by, connection.pk, wanted)
    if words:
        _write_how_tested(by, changed, words)
    return bool(words)


@transaction.atomic
def put_how_tested(by: Actor, connection: UUID, wanted: Mapping[str, Any]) -> None:
    """The same for what a file declares, by the connection's ID: the caller tells the journal
    of it. Raises field errors.
    """
    _put_how_tested(by, connection, wanted)


def _put_how_tested(
    by: Actor, connection: UUID, wanted: Mapping[str, Any]
) -> tuple[Connection, list[str]]:
    """The connection as it then is, and in words what changed."""
    if wrong := out_of_bounds(wanted):
        raise wrong_fields(wrong)
    found = Connection.objects.select_for_update().get(pk=connection)
    before = as_plain(found)
    for column, value in wanted.items():
        setattr(found, column, value)
    words = changes.in_words(before, as_plain(found))
    if words:
        _save_how_tested(by, found)
    return found, words


def out_of_bounds(wanted: Mapping[str, Any]) -> dict[str, str]:
    """What is wrong with some of :data:`HOW_TESTED`, by column."""
    return {
        key: f"Give a number from {least} to {most}."
        for key, (least, most) in _BOUNDS.items()
        if wanted.get(key) is not None and not least <= wanted[key] <= most
    }


def _save_how_tested(by: Actor, connection: Connection) -> None:
    connection.version += 1
    connection.changed_at, connection.changed_by = timezone.now(), by.username
    connection.save(update_fields=["version", "changed_at", "changed_by", *HOW_TESTED])


def _write_how_tested(by: Actor, connection: Connection, words: list[str]) -> None:
    about = {"id": connection.pk, "version": connection.version, "changes": words}
    write(by, "changed", "connection", connection.ref, about)


# The columns that :func:`touched` changes itself.
_TOUCHED = ("version", "changed_at", "changed_by", *Connection.HEALTH)


def touched(
    connection: Connection,
    by: Actor,
    leave: DestinationPermission | None = None,
    *,
    columns: Collection[str] | None = None,
    same_requests: bool = False,
) -> None:
    """Save a change of the caller side, as part of the surrounding transaction: nobody has tried it
    yet, and nothing that is held goes to a new place without leave. ``columns`` are those that were
    changed, where that is known. ``same_requests``: what we send stays as it is, so what tests have
    shown holds. Raises :class:`Problem`.
    """
    _learn_end(connection)
    connection.version += 1
    connection.changed_at, connection.changed_by = timezone.now(), by.username
    if not same_requests:
        connection.forget_health()
    connection.save(update_fields=None if columns is None else [*_TOUCHED, *columns])
    destinations.settle(by, connection, leave)


def locked(connection: Connection) -> Connection:
    """The connection as it stands now, in the surrounding transaction."""
    rows = Connection.objects.select_for_update().select_related(
        "deployment__application", "deployment__environment", "client"
    )
    found = rows.get(pk=connection.pk)
    if found.client is not None and found.client.deployment_id == found.deployment_id:
        found.client.deployment = found.deployment  # the very same, which was fetched already
    return found


def change(
    by: Actor,
    connection: Connection,
    fields: dict[str, Any],
    secrets: Mapping[str, Pasted] | None = None,
    leave: DestinationPermission | None = None,
    seen: int | None = None,
) -> tuple[Connection, dict[str, list[str]]]:
    """Change the caller side, with new secrets by the keys of their values where there are any: one
    version, whatever is in it.

    ``seen``: the version that the change was made on; ``None``: whatever stands. A half-finished
    connection may stay so: pins say what is missing. ``leave`` is what to do where this would send
    what is held to a new place. Raises :class:`Problem`.
    """
    return _change(
        by, connection, fields, _opened(connection.read_scheme(), secrets or {}), leave, seen
    )


@transaction.atomic
def _change(
    by: Actor,
    connection: Connection,
    fields: dict[str, Any],
    secrets: Mapping[str, Pasted],
    leave: DestinationPermission | None,
    seen: int | None,
) -> tuple[Connection, dict[str, list[str]]]:
    connection = locked(connection)
    check_unchanged(connection.version, seen)
    scheme = connection.deployment.application.read_profile().scheme(connection.scheme)
    assert scheme is not None
    values, notes = clean_values(scheme, fields.get("values") or {})
    wrong = {
        key: text
        for key, text in profiles.check_values(scheme, {**connection.values, **values}).items()
        if key in values and values[key]
    }
    scopes = fields.get("scopes")
    wrong |= _wrong_scopes(scopes or []) | out_of_bounds(fields)
    if wrong:
        raise wrong_fields(wrong)
    before, stood = dict(connection.values), as_plain(connection)
    if fields.get("slots") is not None:
        connection.slots = clean_slots(connection.deployment, fields["slots"])
    connection.values = {
        key: fill_slots(value, connection.slots)
        for key, value in {**connection.values, **values}.items()
    }
    if scopes is not None:
        ask_for_scopes(connection, scopes)
    sent_otherwise = changes.in_words(stood, as_plain(connection))
    for key in HOW_TESTED:
        if fields.get(key) is not None:
            setattr(connection, key, fields[key])
    how_tested = changes.in_words(stood, as_plain(connection))
    if how_tested and not (sent_otherwise or secrets):
        _save_how_tested(by, connection)
        _write_how_tested(by, connection, how_tested)
        return connection, notes
    put = {key: _put_secret(by, connection, pasted, None, key) for key, pasted in secrets.items()}
    if any(before.get(key) != connection.values.get(key) for key in IDENTITY):
        tokens.drop(connection)
    touched(connection, by, leave)
    said = changes.in_words(stood, as_plain(connection))
    if said or not put:
        write(
            by,
            "changed",
            "connection",
            connection.ref,
            {"id": connection.pk, "version": connection.version, "changes": said},
        )
    return connection, notes | {key: cleaned for key, cleaned in put.items() if cleaned}


def ask_for_scopes(connection: Connection, scopes: list[str]) -> None:
    """Request these scopes from now on. A token that was made before does not have the change."""
    wanted = sorted(set(scopes))
    if wanted != connection.scopes:
        connection.scopes, connection.scopes_changed_at = wanted, timezone.now()


def as_plain(connection: Connection) -> changes.Plain:
    """A connection's own settings as changes of it are told.

    A certificate is public, but too long to tell: only that it is another.
    """
    values = {
        key: sha256(value.encode()).hexdigest()[:12] if key == "certificate" else value
        for key, value in connection.values.items()
    }
    return {
        **values,
        "scopes": connection.scopes,
        "slots": connection.slots,
        "pace": connection.pace,
        "time limit": connection.time_limit,
        "left out of rounds": connection.paused,
        "test interval": connection.test_interval,
        "real work in rounds": connection.work_in_rounds,
    }


def put_secret(
    by: Actor,
    connection: Connection,
    pasted: str,
    ends: Any = None,
    key: str = "",
    leave: DestinationPermission | None = None,
) -> tuple[Connection, list[str]]:
    """Put in a new secret on the caller side, under the key of a value (by default the scheme's
    first secret); returns what was cleaned.
    """
    return _put_in(
        by,
        connection,
        _open(_secret_value(connection.read_scheme(), key), pasted),
        ends,
        key,
        leave,
    )


@transaction.atomic
def _put_in(
    by: Actor,
    connection: Connection,
    pasted: Pasted,
    ends: Any,
    key: str,
    leave: DestinationPermission | None,
) -> tuple[Connection, list[str]]:
    connection = locked(connection)
    notes = _put_secret(by, connection, pasted, ends, key)
    touched(connection, by, leave, columns=(), same_requests=key == SIGNING_SECRET)
    return connection, notes


def _secret_value(scheme: Scheme, key: str) -> Value | None:
    return scheme.value(key) if key else next(iter(scheme.secrets()), None)


def _put_secret(
    by: Actor, connection: Connection, pasted: Pasted, ends: Any, key: str
) -> list[str]:
    """Hold a new secret, and write that down; the connection's new version is the caller's."""
    value = _secret_value(connection.read_scheme(), key)
    if value is None or not value.secret:
        raise wrong_fields({"key": "This authentication scheme has no such secret."})
    credential, notes = _hold(by, connection, value, pasted, ends)
    write(
        by,
        "put in a secret",
        "connection",
        connection.ref,
        {"value": value.key, "hint": credential.hint, "cleaned": notes},
    )
    return notes


def read_certificate(data: bytes, password: str | None, name: str) -> reading.CertificateFile:
    """What is in a file that somebody gave.

    Raises a field error, under ``password`` where one is required, else under this name.
    """
    try:
        return heavy.run(reading.read, data, password)
    except reading.Unreadable as error:
        raise wrong_fields({"password" if error.needs_password else name: str(error)}) from error


def put_certificate(
    by: Actor, connection: Connection, data: bytes, password: str | None
) -> tuple[Connection, list[str]]:
    """Put in a certificate and, where it is there too, its private key: PEM, DER, PKCS#7 or
    PKCS#12. Returns what was read, in words.
    """
    return _put_certificate(by, connection, read_certificate(data, password, "certificate"))


@transaction.atomic
def _put_certificate(
    by: Actor, connection: Connection, file: reading.CertificateFile
) -> tuple[Connection, list[str]]:
    connection = locked(connection)
    scheme = connection.read_scheme()
    if scheme.value("certificate") is None:
        raise wrong_fields({"certificate": "This authentication scheme takes no certificate."})
    leaf = file.leaf()
    if leaf is None and not file.keys:
        raise wrong_fields(
            {
                "password" if file.locked else "certificate": "; ".join(file.notes)
                or "No certificate and no key is in it."
            }
        )
    notes = list(file.notes)
    if leaf is not None:
        connection.values = {**connection.values, "certificate": file.chain()}
        told, others = facts.of_certificate(leaf), len(file.certificates) - 1
        notes.append(
            f"the certificate of {told.subject}, good until {told.not_after:%d %b %Y}, with "
            f"{others} more of its chain"
        )
    if file.keys:
        credential = keep(
            reading.key_as_pem(file.keys[0]),
            client=connection.client,
            source="pasted",
            by=by.username,
            kind="private_key",
        )
        HeldSecret.objects.update_or_create(
            connection=connection, key="private_key", defaults={"credential": credential}
        )
        destinations.put_in_for(connection, "private_key", credential)
        notes.append("its private key, sealed")
    if connection.scheme in OAUTH2:
        tokens.drop(connection)
    touched(connection, by)
    write(by, "put in a certificate", "connection", connection.ref, {"read": notes})
    return connection, notes


@transaction.atomic
def choose_client(
    by: Actor, connection: Connection, client: Client, leave: DestinationPermission | None = None
) -> Connection:
    """Name another client registration; what its side says of us is taken over, and the secrets
    that are known of it.
    """
    connection = locked(connection)
    if client.deployment.application_id != connection.deployment.application_id:
        raise wrong_fields({"client": "This client belongs to another application."})
    if (said := refused_client(connection.deployment, client)) is not None:
        raise wrong_fields({"client": said})
    scheme = connection.read_scheme()
    connection.client = client
    known = {
        "client_id": client.client_id,
        "client_sign_in": client.sign_in_method,
        **client.facts,
        **_issued_to(client),
    }
    connection.values = {
        **connection.values,
        **{key: value for key, value in known.items() if scheme.value(key) is not None and value},
    }
    for value in scheme.secrets():
        held = newest(client, value.key)
        if held is not None:
            HeldSecret.objects.update_or_create(
                connection=connection, key=value.key, defaults={"credential": held}
            )
        elif value.key == "client_secret":
            HeldSecret.objects.filter(connection=connection, key=value.key).delete()
    tokens.drop(connection)
    touched(connection, by, leave)
    write(
        by,
        "named another client",
        "connection",
        connection.ref,
        {"client": client.client_id or client.name},
    )
    return connection


@transaction.atomic
def change_scheme(
    by: Actor, connection: Connection, scheme_key: str, leave: DestinationPermission | None = None
) -> Connection:
    """Take another of the ways the application offers.

    Values that both have stay; secrets of the old way stay in the safe, unused.
    """
    connection = locked(connection)
    scheme = connection.deployment.application.read_profile().scheme(scheme_key)
    if scheme is None:
        raise wrong_fields({"scheme": "Choose one of this application's authentication schemes."})
    if scheme_key == connection.scheme:
        return connection
    filled = defaults(
        connection.deployment, scheme, connection.client, settings.RETURN_ADDRESS, connection.slots
    )
    connection.values = filled | {
        key: value for key, value in connection.values.items() if key in filled and value
    }
    before, connection.scheme = connection.scheme, scheme_key
    if not any(value.type == "scopes" for value in scheme.values):
        connection.scopes = []
    HeldSecret.objects.filter(connection=connection).exclude(
        key__in=[secret.key for secret in scheme.secrets()]
    ).delete()
    tokens.drop(connection)
    if (
        connection.client is not None
        and connection.client.scheme != scheme_key
        and not (connection.client.scheme in OAUTH2 and scheme_key in OAUTH2)
    ):
        connection.client = None
    touched(connection, by, leave)
    write(
        by,
        "changed the scheme of",
        "connection",
        connection.ref,
        {"from": before, "to": scheme_key},
    )
    return connection


def remove(by: Actor, connection: Connection) -> None:
    """Take a connection away, with its tokens and its history.

    The provider is asked to end the tokens first; if it cannot be, that is in the journal.
    """
    revoked = tokens.revoke(connection)
    set_aside.let_go(by, connection)
    with transaction.atomic():
        TokenSet.objects.filter(connection=connection).delete()
        _take_away(by, connection, {"tokens revoked there": revoked})


@transaction.atomic
def take_away(by: Actor, connection: Connection) -> None:
    """:func:`remove`, as part of a larger transaction: the provider is asked to end the tokens once
    that is over."""
    tokens.end(by, connection, "ended the tokens of")
    _take_away(by, connection, {})


def _take_away(by: Actor, connection: Connection, values: Mapping[str, str]) -> None:
    connection = locked(connection)
    connection.samples.all().delete()
    about = {"environment": connection.deployment.environment.name, **values}
    write(by, "removed", "connection", connection.ref, about)
    connection.delete()
