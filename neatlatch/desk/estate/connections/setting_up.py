"""Setting up: a connection begun with little, intake of whatever comes back, and carrying a set-up
to the next environment.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from neatlatch.core import pins
from neatlatch.core import setting_up as rules
from neatlatch.core.health import State
from neatlatch.core.intake import place as placing
from neatlatch.core.intake import recognise as recognising
from neatlatch.core.intake.found import IntakeRefused, Recognised
from neatlatch.core.schemes import CODE, OAUTH2, Scheme, Value
from neatlatch.core.secret import hint
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common import heavy, safe
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write

from . import halves, naming, services
from .destinations import DestinationPermission


def begin(by: Actor, deployment: Deployment, scheme_key: str, name: str = "") -> Connection:
    """Begin a connection with what can be filled in already; the pins say what is missing."""
    scheme = deployment.application.read_profile().scheme(scheme_key)
    if scheme is None:
        raise wrong_fields({"scheme": "Choose one of this application's authentication schemes."})
    name = name.strip() or naming.free_name(deployment)
    values = services.defaults(deployment, scheme, None, settings.RETURN_ADDRESS)
    return services.begin(by, deployment, name, scheme, values)


def standing(connection: Connection) -> rules.SettingUp:
    """Where the set-up stands. The connection must have been fetched with everything."""
    now = timezone.now()
    both = halves.halves(connection, now)
    client, profile = connection.client, connection.deployment.application.read_profile()
    steps = () if client is None or client.managed else clients.steps(client)
    tokens = connection.tokens
    facts = rules.SetUpFacts(
        scheme=profile.scheme_for(connection.scheme),
        other_schemes=tuple(
            scheme.label for scheme in profile.schemes if scheme.key != connection.scheme
        ),
        client_named=client is not None,
        client_words=_client_words(client),
        steps=len(steps),
        ticked=sum(step.key in client.ticks for step in steps) if client else 0,
        workloads=tuple(use.name for use in connection.uses.all()),
        scopes=frozenset(connection.scopes),
        signed_in_as=tokens.account if tokens else "",
        signed_in=tokens is not None and connection.scheme == CODE,
        state=State(connection.state),
        tested=connection.tested_at is not None,
        environments_left=left_out(connection),
    )
    return rules.work_out(facts, pins.work_out(both))


def _client_words(client: Client | None) -> str:
    if client is None:
        return ""
    if client.managed:
        return f"{client.name}, managed by protocol"
    return f"{client.name}, entered manually"


def left_out(connection: Connection) -> tuple[str, ...]:
    """Environments of the firm in which the application has no connection: only one is set up and
    the other forgotten (common practice, no source).
    """
    used = set(
        Connection.objects.filter(
            deployment__application=connection.deployment.application
        ).values_list("deployment__environment_id", flat=True)
    )
    return tuple(
        environment.name for environment in Environment.objects.all() if environment.pk not in used
    )


# Intake


def recognised(data: bytes, password: str) -> Recognised:
    """What was pasted or dropped, or a field error that says why it cannot be read."""
    try:
        return heavy.run(recognising.recognise, data, timezone.now(), password or None)
    except IntakeRefused as error:
        raise wrong_fields({"password" if error.needs_password else "text": str(error)}) from error


def wanted_of(scheme: Scheme, slots: tuple[Value, ...] = ()) -> tuple[Value, ...]:
    """All values that a pasted thing could fill."""
    return (*scheme.all_values(), *slots)


@dataclass(frozen=True)
class FactSeen:
    """Something that a pasted thing says of itself."""

    label: str
    value: str


@dataclass(frozen=True)
class PlacedValue:
    """A value and where it would go; ``name`` is what it is called there, ``shown`` a hint of a
    secret.
    """

    key: str
    label: str
    name: str
    notes: list[str]
    secret: bool
    shown: str


@dataclass(frozen=True)
class OpenValue:
    """A value that may be any of several."""

    key: str
    label: str
    names: list[str]


@dataclass(frozen=True)
class LookedInto:
    """What was recognised."""

    kind: str
    says: str
    facts: list[FactSeen]
    placed: list[PlacedValue]
    open: list[OpenValue]
    left: list[str]
    known: list[str]


def preview(connection: Connection | None, data: bytes, password: str = "") -> LookedInto:
    """What was recognised, where each value would go, and what is left.

    Nothing is kept; secrets are answered as hints only.
    """
    found = recognised(data, password)
    facts = [FactSeen(label, value) for label, value in found.facts]
    if connection is None:
        # A description is taken as a whole, by adding an application from it.
        items = (
            [] if found.kind == "description" else [item.name or "a value" for item in found.items]
        )
        left = [*items, *found.left]
        return LookedInto(found.kind, found.says, facts, [], [], left, _holders_of(found))
    profile = connection.deployment.application.read_profile()
    scheme = profile.scheme_for(connection.scheme)
    placement = placing.place(found, wanted_of(scheme, profile.slots))
    placed = [
        PlacedValue(
            key=placed_value.key,
            label=placed_value.label,
            name=placed_value.item.name,
            notes=list(placed_value.item.notes),
            secret=placed_value.secret,
            shown=_shown(placed_value.item.value, placed_value.secret),
        )
        for placed_value in placement.placed
    ]
    waiting = [
        OpenValue(open_value.key, open_value.label, list(open_value.names))
        for open_value in placement.open
    ]
    left = list(placement.left)
    return LookedInto(found.kind, found.says, facts, placed, waiting, left, _holders_of(found))


def _shown(value: str, secret: bool) -> str:
    if secret:
        return "a private key" if "-----BEGIN" in value else f"•••• {hint(value)}"
    return value if len(value) <= 200 else f"{value[:120]} … ({len(value)} characters)"


def _holders_of(recognised: Recognised) -> list[str]:
    """Where secrets in it are held already, found by keyed fingerprint: so that nobody wonders
    whether it is used anywhere else.
    """
    prints = [
        safe.fingerprint(item.value) for item in recognised.items[:50] if len(item.value) >= 8
    ]
    rows = Credential.objects.filter(fingerprint__in=prints).prefetch_related("holders__connection")
    return sorted(
        {
            f"{row.hint} is held by {holder.connection.ref}"
            for row in rows
            for holder in row.holders.all()
        }
    )


def _note_id(
    connection: Connection, secret_id: str, secrets: Mapping[str, services.Pasted]
) -> None:
    """Record the ID that came with the one secret that was put in: pasted in its place some day, it
    is recognised.
    """
    if secret_id and len(secrets) == 1:
        held = (
            connection.held_secrets.select_related("credential")
            .get(key=next(iter(secrets)))
            .credential
        )
        if not held.secret_id:
            Credential.objects.filter(pk=held.pk).update(secret_id=secret_id[:200])


def take(
    by: Actor,
    connection: Connection,
    data: bytes,
    password: str = "",
    only: list[str] | None = None,
    choices: dict[str, str] | None = None,
    leave: DestinationPermission | None = None,
) -> tuple[Connection, dict[str, list[str]]]:
    """Put what was recognised where it belongs.

    ``only`` names the values to take; ``choices`` says which name goes where, for what was open;
    ``leave`` is what to do where it would send what is held to a new place. Raises
    :class:`Problem`.
    """
    found = recognised(data, password)
    profile = connection.deployment.application.read_profile()
    scheme = profile.scheme_for(connection.scheme)
    placement = placing.place(found, wanted_of(scheme, profile.slots))
    by_name = {item.name or "the value": item for item in found.items}
    values = {
        placed.key: placed.item for placed in placement.placed if only is None or placed.key in only
    }
    for key, name in (choices or {}).items():
        if name not in by_name or (
            scheme.value(key) is None and key not in {slot.key for slot in profile.slots}
        ):
            raise wrong_fields({"choices": "That value is not in what was pasted."})
        values[key] = by_name[name]
    if not values:
        raise Problem(
            422,
            "Nothing was taken.",
            (
                "No value in it has a place here. Choose where it belongs, or paste it into the "
                "field itself."
            ),
            code="nothing-recognised",
        )
    notes: dict[str, list[str]] = {
        key: list(item.notes) for key, item in values.items() if item.notes
    }
    plain, slots = {}, {}
    secrets: dict[str, services.Pasted] = {}
    for key, item in values.items():
        value = scheme.value(key)
        if value is None:
            slots[key] = item.value
        elif value.secret:
            secrets[value.key] = (
                services.OpenedKey(item.value, item.notes)
                if found.kind == "certificate"
                else item.value
            )
        elif value.type != "scopes":
            plain[key] = item.value
    change: dict[str, Any] = {"values": plain}
    if slots:
        change["slots"] = {**connection.slots, **slots}
    if "scopes" in values:
        change["scopes"] = values["scopes"].value.split()
    with transaction.atomic():
        connection, more = services.change(by, connection, change, secrets, leave)
        _note_id(connection, placement.secret_id, secrets)
        write(
            by,
            "took in",
            "connection",
            connection.ref,
            {"kind": found.kind, "values": sorted(values)},
        )
    return connection, {**more, **notes}


# The next environment


@transaction.atomic
def copy(
    by: Actor, connection: Connection, environment: str
) -> tuple[Connection, dict[str, list[str]]]:
    """Begin the same set-up in another environment: what can be carried over is; clients, secrets
    and sign-ins must be new.
    """
    deployment = (
        Deployment.objects.select_related("application", "environment")
        .filter(application=connection.deployment.application, environment__key=environment)
        .first()
    )
    if deployment is None:
        raise wrong_fields(
            {
                "environment": (
                    f"{connection.deployment.application.name} has no addresses there yet. Add it "
                    f"there first."
                )
            }
        )
    if deployment.pk == connection.deployment_id:
        raise wrong_fields({"environment": "It is there already."})
    profile = deployment.application.read_profile()
    scheme = profile.scheme_for(connection.scheme)
    values = services.defaults(deployment, scheme, None, settings.RETURN_ADDRESS, connection.slots)
    carried = ["scopes", "pace", "time limit", "workloads"]
    for key in ("client_sign_in", "account", "redirect_uri"):
        if key in values and connection.values.get(key):
            values[key] = connection.values[key]
            carried.append(value.label.lower() if (value := scheme.value(key)) else key)
    made = services.begin(
        by, deployment, naming.free_name(deployment, connection.name), scheme, values
    )
    made.scopes, made.pace, made.time_limit = (
        connection.scopes,
        connection.pace,
        connection.time_limit,
    )
    made.slots = connection.slots
    made.save()
    for use in connection.uses.select_related("workload"):
        workloads.use_connection(
            by, made, workloads.WorkloadFields.of(use.workload), use.operations
        )
    if made.slots:
        carried.append("slots")
    new = [
        "client" if made.scheme in OAUTH2 else "account",
        *(secret.label.lower() for secret in scheme.secrets()),
    ]
    if made.scheme == CODE:
        new.append("sign-in")
    write(
        by, "copied a set-up", "connection", made.ref, {"from": connection.ref, "carried": carried}
    )
    return made, {"carried": carried, "new": new}
