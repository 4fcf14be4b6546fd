"""What an inventory would send to a new place: the secrets and tokens of connections that it
changes.

Worked out before anything is applied, on connections as they would be, by the very function that is
asked again when each of them is saved.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from uuid import UUID

from neatlatch.core import profiles
from neatlatch.core.inventory.merging import Change, Outcome
from neatlatch.core.inventory.reading import SAFE
from neatlatch.core.inventory.shape import Content
from neatlatch.core.profiles import Profile
from neatlatch.desk.estate.applications.declared import put_addresses
from neatlatch.desk.estate.connections import destinations
from neatlatch.desk.estate.connections.declared import is_another
from neatlatch.desk.estate.connections.destinations import Move
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common.quick_rows import Reading, hang, join

from .collecting import deployment_key
from .plain import PlainFields

_connections = Reading(Connection, "t.ref IN {keys}")
_tokens = Reading(TokenSet, "t.connection_id IN {keys}", but=("access", "refresh"))
_credentials = Reading(
    Credential,
    "t.id IN {keys} AND t.fingerprint <> ''",
    only=("kind", "hint", "fingerprint", "sent_to", "client"),
)
_clients = Reading(
    Client, "t.id IN {keys}", but=("management_token", "management_digest", "ceiling", "planned")
)
_deployments = Reading(Deployment)
_applications = Reading(Application)
_environments = Reading(Environment)


def moves(outcome: Outcome) -> list[Move]:
    """All that the connections which an outcome adds or changes would send to a new place."""
    content = outcome.content
    changing = [
        change.key
        for change in outcome.changes
        if change.kind == "connections" and change.act in ("add", "change")
    ]
    if not changing:
        return []
    wanted = {key: content["connections"][key] for key in changing}
    current = {connection.ref: connection for connection in _connections(changing)}
    tokens = _tokens(connection.pk for connection in current.values())
    credentials = {credential.pk: credential for credential in _credentials_of(wanted)}
    client_ids = {key: _client_id(content, given) for key, given in wanted.items()}
    clients = {client.pk: client for client in _clients(set(client_ids.values()) - {None})}
    with_tokens = {row.connection_id for row in tokens}
    found: list[Move] = []
    deployments = _DeploymentsAfter(content)
    for key, given in wanted.items():
        stands = current.get(key)
        held = dict(_credentials_by_name(given, credentials))
        shows_tokens = stands is not None and stands.pk in with_tokens
        if not held and not shows_tokens:
            continue
        deployment = deployments.after(given["deployment"])
        profile = deployments.profile(given["deployment"])
        if deployment is None or profile is None or profile.scheme(given["scheme"]) is None:
            continue  # validation says what is wrong with it
        client_id = client_ids[key]
        client = clients.get(client_id) if client_id is not None else None
        connection = _as_declared(key, given, deployment, client, stands)
        before = deployments.before(given["deployment"]) or deployment
        for credential in held.values():
            if (
                not credential.sent_to
            ):  # what was put in nowhere yet stays with the addresses of now
                credential.sent_to = sorted(
                    destinations.of_deployment(before, connection.slots, client)
                )
        secrets = [
            HeldSecret(connection=connection, key=name, credential=credential)
            for name, credential in held.items()
        ]
        hang([connection], "held_secrets", secrets, "connection_id")
        kept: list[TokenSet] = []
        if stands is not None and shows_tokens and not is_another(stands, client_id, given):
            kept = [row for row in tokens if row.connection_id == stands.pk]
        hang([connection], "token_sets", kept, "connection_id")
        found += destinations.moves(connection)
    return found


def _client_id(content: Content, fields: PlainFields) -> UUID | None:
    """The ID of a connection's client; ``None``: it has none, or one that validation refuses."""
    client = content.get("clients", {}).get(fields["client"]) if fields["client"] else None
    try:
        return UUID(client["id"]) if client is not None else None
    except ValueError:
        return None


def _as_declared(
    key: str,
    fields: PlainFields,
    deployment: Deployment,
    client: Client | None,
    stands: Connection | None,
) -> Connection:
    """A connection as it would be; it is not saved."""
    connection = Connection(
        ref=key,
        deployment=deployment,
        client=client,
        scheme=fields["scheme"],
        slots=fields["slots"],
    )
    if stands is not None:
        connection.pk = stands.pk
    connection.values = {name: str(value) for name, value in fields["values"].items()}
    connection.individual, connection.tests_as = fields["individual"], fields["tests_as"]
    return connection


def _credentials_of(wanted: dict[str, PlainFields]) -> list[Credential]:
    named = {
        identity
        for given in wanted.values()
        for text in given["secrets"].values()
        if (identity := _identity(text))
    }
    return _credentials(named)


def _credentials_by_name(
    fields: PlainFields, credentials: dict[UUID, Credential]
) -> Iterator[tuple[str, Credential]]:
    for name, text in fields["secrets"].items():
        if (credential := credentials.get(_identity(text) or UUID(int=0))) is not None:
            yield name, credential


def _identity(reference: str) -> UUID | None:
    try:
        return UUID(reference.removeprefix(SAFE))
    except ValueError:
        return None


class _DeploymentsAfter:
    """The deployments of applications as they are, and as they would be."""

    def __init__(self, content: Content) -> None:
        self._content = content
        rows = _deployments()
        join(rows, "application", {row.pk: row for row in _applications()})
        join(rows, "environment", {row.pk: row for row in _environments()})
        self._before = {deployment_key(row): row for row in rows}
        self._after: dict[str, Deployment | None] = {}
        self._profiles: dict[str, Profile | None] = {}

    def before(self, key: str) -> Deployment | None:
        """A deployment as it is now; ``None``: there is none."""
        return self._before.get(key)

    def after(self, key: str) -> Deployment | None:
        """A deployment as it would be; ``None``: its profile cannot be read."""
        if key not in self._after:
            self._after[key] = self._made(key)
        return self._after[key]

    def profile(self, key: str) -> Profile | None:
        """The profile of a deployment's application as it would be; ``None``: it cannot be read."""
        application = key.partition("/")[0]
        if application not in self._profiles:
            fields = self._content.get("applications", {}).get(application, {})
            try:
                self._profiles[application] = profiles.from_dict(fields.get("profile", {}))
            except profiles.BadProfile:
                self._profiles[application] = None
        return self._profiles[application]

    def _made(self, key: str) -> Deployment | None:
        given, profile = self._content.get("deployments", {}).get(key), self.profile(key)
        if given is None or profile is None:
            return None
        deployment = Deployment()
        put_addresses(deployment, given)
        # Profiles are kept by the key of their application's row: this one is nobody's.
        deployment.application = Application(
            pk=None, key=given["application"], profile=profiles.to_dict(profile)
        )
        deployment.environment = Environment(key=given["environment"])
        return deployment


def with_moves(outcome: Outcome, moves_there: list[Move]) -> list[Change]:
    """The changes of an outcome, in which each of a connection says what it would send where."""
    words: dict[str, list[str]] = {}
    for move in moves_there:
        words.setdefault(move.ref, []).append(f"{move}: that requires clearance")
    return [
        replace(change, says=(*change.says, *words[change.key]))
        if change.kind == "connections" and change.key in words
        else change
        for change in outcome.changes
    ]
