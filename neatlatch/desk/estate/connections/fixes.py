"""The acts that a pin offers, carried out on the side where they mend it."""

from __future__ import annotations

from django.db import transaction

from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write

from . import tokens
from .destinations import DestinationPermission
from .halves import provider_addresses
from .services import IDENTITY, ask_for_scopes, locked, touched

_FIELD_OF_PIN = {
    "issuer": "issuer",
    "redirect_uri": "redirect_uri",
    "client_id": "client_id",
    "client_sign_in": "client_sign_in",
    "audience": "audience",
}


def act(
    by: Actor,
    connection: Connection,
    pin: str,
    key: str,
    value: str,
    leave: DestinationPermission | None = None,
) -> Connection:
    """Carry out an act that a pin offers; ``leave`` is what to do where it would send what is held
    to a new place. Raises :class:`Problem` for one that is not offered.
    """
    if key == "take_provider":
        return _take_provider(by, connection, pin, value, leave)
    if key in ("drop_scope", "request_scope", "drop_secret", "expect_account", "fill_slots"):
        return _own_side(by, connection, key, value, leave)
    client = connection.client
    if client is None:
        raise Problem(
            409,
            "No client is named.",
            "Name the client registration of this connection first.",
            code="no-client-named",
        )
    if key == "register_ours":
        clients.change(by, client, clients.with_uri(value))
    elif key == "permit_scope":
        clients.change(by, client, clients.with_scope(value))
    elif key == "enable_grant":
        clients.change(by, client, clients.with_grant(value))
    elif key == "record_consent":
        clients.record_consent(by, client, value, True)
    elif key == "note_right":
        clients.record_facts(by, client, {"rights": sorted({*client.rights, value})})
    elif key == "note_switch":
        clients.record_facts(by, client, {"switches": sorted({*client.switches, value})})
    elif key in ("note_fact", "note_thumbprint") and not value.strip():
        raise wrong_fields(
            {"value": "Enter the value that the provider has. What is recorded stays."}
        )
    elif key == "note_fact":
        clients.record_facts(by, client, {"facts": {pin: value}})
    elif key == "note_thumbprint":
        clients.record_facts(by, client, {"facts": {"thumbprint": value}})
    else:
        raise Problem(
            422,
            "There is no such act.",
            "Reload the page; the pin may have changed.",
            code="act-not-found",
        )
    return connection


@transaction.atomic
def _take_provider(
    by: Actor, connection: Connection, pin: str, value: str, leave: DestinationPermission | None
) -> Connection:
    connection = locked(connection)
    values, client = dict(connection.values), connection.client
    addresses = provider_addresses(connection.deployment, connection.slots, connection.client)
    if pin == "endpoints" and value in addresses:
        values[value] = addresses[value]
    elif pin == "environment":
        values |= {key: address for key, address in addresses.items() if key in values}
    elif pin == value and client is not None and client.facts.get(value):
        values[value] = client.facts[value]
    elif pin in _FIELD_OF_PIN:
        audiences = [client.facts.get("audience")] if client else []
        held = {
            "issuer": [addresses.get("issuer", "")],
            "redirect_uri": client.redirect_uris if client else [],
            "client_id": [client.client_id] if client else [],
            "client_sign_in": [client.sign_in_method] if client else [],
            "audience": [*audiences, addresses.get("token_endpoint"), addresses.get("issuer")],
        }[pin]
        if value not in held:
            raise Problem(
                409,
                "The provider's value has changed meanwhile.",
                "Reload the page and look again.",
                code="provider-value-changed",
            )
        values[_FIELD_OF_PIN[pin]] = value
    else:
        raise Problem(
            422,
            "There is no such act.",
            "Reload the page; the pin may have changed.",
            code="act-not-found",
        )
    moved = any(values.get(key) != connection.values.get(key) for key in IDENTITY)
    connection.values = values
    if moved:
        tokens.drop(connection)
    touched(connection, by, leave)
    write(by, "took the provider's value", "connection", connection.ref, {"pin": pin})
    return connection


@transaction.atomic
def _own_side(
    by: Actor, connection: Connection, key: str, value: str, leave: DestinationPermission | None
) -> Connection:
    connection = locked(connection)
    if key == "drop_scope":
        ask_for_scopes(connection, [scope for scope in connection.scopes if scope != value])
    elif key == "request_scope":
        ask_for_scopes(connection, [*connection.scopes, value])
    elif key == "drop_secret":
        HeldSecret.objects.filter(connection=connection, key="client_secret").delete()
    elif key == "fill_slots":
        addresses = provider_addresses(connection.deployment, connection.slots, connection.client)
        patterns = connection.deployment.by_key()
        connection.values = {
            one: addresses[one] if "{" + value + "}" in patterns.get(one, "") else held
            for one, held in connection.values.items()
        }
    else:
        connection.values = {**connection.values, "account": value}
    touched(connection, by, leave)
    write(by, key.replace("_", " "), "connection", connection.ref, {"value": value})
    return connection
