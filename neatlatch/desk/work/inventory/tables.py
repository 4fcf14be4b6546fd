"""Lists as tables, clients as RFC 7591 JSON, applications as OpenAPI, connections as settings
files: out, and in where that makes sense.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from neatlatch.core import changes, references, registration
from neatlatch.core.formats import openapi_out, settings_out, tables
from neatlatch.core.intake import trees
from neatlatch.core.inventory.shape import BY_NAME, full
from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.lookups import find_connection, find_place
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.people.models import Person

from . import planning, services
from .collecting import collected
from .planning import Preview
from .services import Begun, ObjectChange

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
        "place__application", "place__environment", "client", "team"
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
                row.place.application.name,
                row.place.environment.name,
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
    rows = Client.objects.select_related("place__application", "place__environment").order_by(
        "place__application__name", "place__environment__order", "name"
    )
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
                row.place.application.name,
                row.place.environment.name,
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
        .select_related("client__place__application", "client__place__environment")
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
                row.client.place.application.name if row.client else "",
                row.client.place.environment.name if row.client else "",
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


# Workloads in


def _read_workloads(
    text: str,
) -> dict[tuple[str, str], tuple[int, workloads.Given, dict[str, list[str]]]]:
    """The workloads of a table by name and environment, each with its first line and what it calls
    by connection. Raises a field error with the line.
    """
    try:
        rows = tables.from_csv(text, ("name", "environment"), _WORKLOADS[2:])
    except tables.BadTable as error:
        raise wrong_fields(
            {"text": f"{str(error)[:1].upper()}{str(error)[1:]}. Nothing was changed."}
        ) from error
    environments = {environment.key: environment for environment in Environment.objects.all()} | {
        environment.name.lower(): environment for environment in Environment.objects.all()
    }
    refs = {
        connection.ref: connection
        for connection in Connection.objects.select_related(
            "place__application", "place__environment"
        )
    }
    found: dict[tuple[str, str], tuple[int, workloads.Given, dict[str, list[str]]]] = {}
    for line, row in rows:
        environment = environments.get(row["environment"].lower())
        if environment is None:
            raise _at(line, f"there is no environment {row['environment']!r}")
        notice = row.get("notice_days", "") or "0"
        if not notice.isdigit():
            raise _at(line, f"{notice!r} is not a number of days")
        windows = tuple(part.strip() for part in row.get("windows", "").split(";") if part.strip())
        given = workloads.Given(
            row["name"],
            environment.key,
            row.get("kind") or "job",
            row.get("owner", ""),
            row.get("runs", ""),
            windows,
            int(notice),
            row.get("draws", "").lower() in ("yes", "true", "1"),
        )
        try:
            given = given.checked()
        except Problem as problem:
            raise _at(line, next(iter(problem.errors.values()))) from problem
        key = (given.name, given.environment)
        if key in found and found[key][1] != given:
            raise _at(
                line,
                (
                    f"{given.name} in {environment.name} stands on line {found[key][0]} with "
                    f"other values"
                ),
            )
        _, _, uses = found.setdefault(key, (line, given, {}))
        ref, operations = (
            row.get("connection", ""),
            [part.strip() for part in row.get("operations", "").split(";") if part.strip()],
        )
        if ref and ref not in refs:
            candidates = [known_ref for known_ref in refs if known_ref.endswith(f"/{ref}")]
            raise _at(
                line,
                f"there is no connection {ref!r}"
                + (f"; write {references.alternatives(candidates)}" if candidates else ""),
            )
        if operations and not ref:
            raise _at(line, "operations are of a connection, and none is named")
        if ref:
            profile = refs[ref].place.application.read_profile()
            if unknown := next(
                (operation for operation in operations if profile.operation(operation) is None),
                None,
            ):
                raise _at(
                    line, f"{unknown!r} is not an operation of {refs[ref].place.application.name}"
                )
            uses[ref] = operations
    return found


def _at(line: int, says: str) -> Problem:
    return wrong_fields({"text": f"Line {line}: {says.rstrip('.')}. Nothing was changed."})


@dataclass(frozen=True)
class TableDifference:
    """What a table would add and change."""

    adds: list[str]
    changes: list[ObjectChange]
    nothing: bool


def _difference(
    found: dict[tuple[str, str], tuple[int, workloads.Given, dict[str, list[str]]]],
) -> TableDifference:
    known = {
        (workload.name, workload.environment.key): workload
        for workload in Workload.objects.select_related("environment").prefetch_related(
            "uses__connection"
        )
    }
    adds, changed = [], []
    for key, (line, given, uses) in found.items():
        workload = known.get(key)
        if workload is None:
            calls = f", uses {', '.join(uses)}" if uses else ""
            adds.append(f"{given.name} ({given.kind}) in {given.environment}{calls}")
            continue
        held = {
            use.connection.ref: use.operations
            for use in workload.uses.all()
            if use.connection is not None
        }
        before = {
            **vars(workloads.Given.of(workload)),
            "uses": {ref: held[ref] for ref in held if ref in uses},
        }
        after = {**vars(given), "uses": uses}
        says = changes.in_words(
            {name: list(v) if isinstance(v, tuple) else v for name, v in before.items()},
            {name: list(v) if isinstance(v, tuple) else v for name, v in after.items()},
        )
        if says:
            named = f"{given.name}/{given.environment}"
            changed.append(ObjectChange("workloads", named, "change", says, line))
    return TableDifference(adds, changed, not adds and not changed)


def preview_workloads(text: str) -> TableDifference:
    """What a table of workloads would add and change."""
    return _difference(_read_workloads(text))


def take_workloads(
    by: Person, text: str, check: Callable[[], None] = services.nothing_to_check
) -> Begun:
    """Begin to take the workloads of a table over, as an import that can be undone.

    What a workload calls by other connections than the table names stays. Raises :class:`Problem`.
    """
    found = _read_workloads(text)
    return services.begin_planned(by, lambda: _planned(by, found), check=check)


def _planned(
    by: Person, found: dict[tuple[str, str], tuple[int, workloads.Given, dict[str, list[str]]]]
) -> Preview:
    now = collected()
    wanted = {**now.content, "workloads": dict(now.content["workloads"])}
    lines: dict[tuple[str, str], int] = {}
    for (name, environment), (line, given, calls) in found.items():
        key = f"{name}/{environment}"
        stands = now.content["workloads"].get(key, full(BY_NAME["workloads"], {}))
        uses = [dict(use) for use in stands["uses"]]
        for ref, operations in calls.items():
            use = next((use for use in uses if use.get("connection") == ref), None)
            if use is None:
                application = now.content["places"][now.content["connections"][ref]["place"]][
                    "application"
                ]
                uses.append(use := {"application": application, "connection": ref})
            if operations:
                use["operations"] = operations
            else:
                use.pop("operations", None)
        said = {**vars(given), "windows": list(given.windows), "uses": uses}
        wanted["workloads"][key] = {**stands, **said}
        lines["workloads", key] = line
    return planning.of_wanted(by, now, wanted, lines)


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
    except trees.Refused as error:
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


def _told(fields: ClientMetadata) -> changes.Plain:
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
    return changes.in_words(_told(client.fields()), _told(_metadata(client, text)))


def take_client(by: Person, client: Client, text: str) -> Client:
    """Take client metadata over."""
    wanted = _metadata(client, text)
    return clients.change(by, client, lambda _: wanted)


# Applications as OpenAPI, connections as settings files


def description(key: str, environment: str) -> str:
    """An application's OpenAPI description."""
    place = find_place(key, environment)
    found = openapi_out.document(
        place.application.name, place.application.read_profile(), place.by_key()
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
