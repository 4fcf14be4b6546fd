"""Lists as tables, clients as RFC 7591 JSON, applications as OpenAPI, connections as settings
files: out, and in where that makes sense.
"""

from __future__ import annotations

import json
from typing import Literal

from neatlatch.core import changes, registration
from neatlatch.core.formats import openapi_out, settings_out, tables
from neatlatch.core.intake import trees
from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.lookups import find_connection, find_deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import wrong_fields

What = Literal["connections", "clients", "credentials", "workloads"]
_WORKLOADS = (
    "name",
    "environment",
    "kind",
    "owner",
    "runs",
    "windows",
    "notice_days",
    "draws",
    "connection",
    "operations",
)


def export(what: What) -> str:
    """A list as CSV. No secret is in it."""
    return {
        "connections": _connections,
        "clients": _clients,
        "credentials": _credentials,
        "workloads": _workloads,
    }[what]()


def _connections() -> str:
    rows = Connection.objects.select_related(
        "deployment__application", "deployment__environment", "client", "team"
    ).prefetch_related("uses__workload")
    return tables.to_csv(
        (
            "ref",
            "application",
            "environment",
            "scheme",
            "client",
            "state",
            "scopes",
            "account",
            "team",
            "workloads",
            "last_test",
        ),
        (
            (
                row.ref,
                row.deployment.application.name,
                row.deployment.environment.name,
                row.scheme,
                row.client.name if row.client else "",
                row.state,
                " ".join(row.scopes),
                "each their own" if row.individual else row.values.get("account", ""),
                row.team.name if row.team else "",
                "; ".join(use.name for use in row.uses.all()),
                row.tested_at.isoformat() if row.tested_at else "",
            )
            for row in rows
        ),
    )


def _clients() -> str:
    rows = Client.objects.select_related(
        "deployment__application", "deployment__environment"
    ).order_by("deployment__application__name", "deployment__environment__order", "name")
    return tables.to_csv(
        (
            "name",
            "application",
            "environment",
            "scheme",
            "client_id",
            "type",
            "grants",
            "scopes",
            "redirect_uris",
            "account",
            "rights",
            "kept",
        ),
        (
            (
                row.name,
                row.deployment.application.name,
                row.deployment.environment.name,
                row.scheme,
                row.client_id,
                "public" if row.public else "confidential",
                " ".join(row.grants),
                " ".join(row.scopes),
                " ".join(row.redirect_uris),
                row.account,
                " ".join(row.rights),
                "by protocol" if row.managed else "manually",
            )
            for row in rows
        ),
    )


def _credentials() -> str:
    rows = (
        Credential.objects.defer("value")
        .select_related("client__deployment__application", "client__deployment__environment")
        .prefetch_related("holders__connection")
    )
    return tables.to_csv(
        (
            "id",
            "kind",
            "hint",
            "application",
            "environment",
            "client",
            "connections",
            "state",
            "issued",
            "ends",
            "put_in_by",
        ),
        (
            (
                str(row.pk),
                row.kind,
                row.hint,
                row.client.deployment.application.name if row.client else "",
                row.client.deployment.environment.name if row.client else "",
                row.client.name if row.client else "",
                " ".join(sorted({held.connection.ref for held in row.holders.all()})),
                row.state,
                row.issued.isoformat(),
                row.ends.isoformat() if row.ends else "",
                row.put_in_by,
            )
            for row in rows
        ),
    )


def _workloads() -> str:
    rows = Workload.objects.select_related("environment", "owner__person").prefetch_related(
        "uses__connection"
    )
    lines = []
    for row in rows:
        start = (
            row.name,
            row.environment.key,
            row.kind,
            row.owner.key if row.owner else "",
            row.runs,
            "; ".join(row.windows),
            str(row.notice_days),
            "yes" if row.draws else "no",
        )
        uses = [
            (use.connection.ref, "; ".join(use.operations))
            for use in row.uses.all()
            if use.connection is not None
        ]
        lines += [(*start, *use) for use in uses] or [(*start, "", "")]
    return tables.to_csv(_WORKLOADS, lines)


# Clients as RFC 7591 client metadata


def client_json(client: Client) -> str:
    """A client's metadata (RFC 7591 §2, and its ID as §3.2.1 answers it)."""
    found = {
        **({"client_id": client.client_id} if client.client_id else {}),
        **client.fields().request(),
    }
    return json.dumps(found, indent=2, ensure_ascii=False) + "\n"


def _metadata(client: Client, text: str) -> ClientMetadata:
    try:
        found = trees.read_json(text)
    except trees.TreeRefused as error:
        raise wrong_fields({"text": str(error)}) from error
    if not isinstance(found, dict):
        raise wrong_fields({"text": "Client metadata is a JSON object (RFC 7591 §2)."})
    if found.get("client_id") not in (None, client.client_id):
        raise wrong_fields(
            {
                "text": (
                    f"This is the metadata of another client: its client_id is "
                    f"{found['client_id']}, and here it is {client.client_id or 'none'}."
                )
            }
        )
    wanted = registration.read_answer(found, client.fields())
    if errors := registration.check(wanted):
        raise wrong_fields({"text": next(iter(errors.values()))})
    return wanted


def _comparable(fields: ClientMetadata) -> changes.Plain:
    return {
        "name": fields.name,
        "contacts": list(fields.contacts),
        "type": "public" if fields.public else "confidential",
        "redirect URIs": list(fields.redirect_uris),
        "grants": list(fields.grants),
        "scopes": sorted(fields.scopes),
        "client sign-in": fields.sign_in_method,
    }


def client_changes(client: Client, text: str) -> list[str]:
    """What client metadata would change, in words."""
    return changes.in_words(_comparable(client.fields()), _comparable(_metadata(client, text)))


def take_client(by: Actor, client: Client, text: str) -> Client:
    """Take client metadata over."""
    wanted = _metadata(client, text)
    return clients.change(by, client, lambda _: wanted)


# Applications as OpenAPI, connections as settings files


def description(key: str, environment: str) -> str:
    """An application's OpenAPI description."""
    deployment = find_deployment(key, environment)
    found = openapi_out.document(
        deployment.application.name, deployment.application.read_profile(), deployment.by_key()
    )
    return json.dumps(found, indent=2, ensure_ascii=False) + "\n"


def settings_file(ref: str, form: Literal["env", "properties"]) -> str:
    """A connection as a settings file. Secrets stand in it as references, never as values."""
    connection = find_connection(ref)
    scheme = connection.read_scheme()
    values = {
        value.key: connection.values.get(value.key, "")
        for value in scheme.all_values()
        if not value.secret and value.type != "scopes"
    }
    secrets = [secret.key for secret in scheme.secrets() if secret.key in connection.secrets()]
    write = settings_out.env if form == "env" else settings_out.properties
    return write(ref, values, secrets, connection.scopes)
