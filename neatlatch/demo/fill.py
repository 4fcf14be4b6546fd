"""A large made-up house, to see how everything does with thousands: the same for the same number.

Rows are written as they would stand once people had set everything up, a block of applications in
a transaction. Nothing of it is ever called: all addresses are of this machine, at a port where
nobody listens.
"""

from __future__ import annotations

import json
import uuid
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import cache
from itertools import pairwise
from pathlib import Path
from random import Random
from typing import Any

import yaml
from django.conf import settings
from django.db import transaction
from django.db.models import Model
from django.utils import timezone

from neatlatch.core import destinations, profiles
from neatlatch.core.health import PASSES_WANTED, RECENT, State, with_latest
from neatlatch.core.schemes import CERTIFICATE, CODE, JWT, OAUTH2, Scheme, Value
from neatlatch.core.secret import hint
from neatlatch.desk.estate.applications.shipped import shipped
from neatlatch.desk.estate.connections import naming
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.credentials.services import public_key_of
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client, class_of
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import NOBODY
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.models import Owner, Person
from neatlatch.desk.work.finding import index
from neatlatch.desk.work.rounds.models import Sample

from .load import SCENARIO, load_environments, load_people, own_certificate

# Connections of an application, by the environment that each is in.
LAID_OUT = ("production", "production", "staging", "sandbox", "production")
_BLOCK = 20
_OWNERS = 40
_NAMES = uuid.UUID("6f1b7c52-3c0e-4a55-9c93-57b4f0a7f2de")
_WHERE = (
    "Pier",
    "Quay",
    "Harbour",
    "Bridge",
    "Engine",
    "Galley",
    "Cargo",
    "Deck",
    "Crew",
    "Island",
    "Slipway",
    "Lock",
)
_WHAT = (
    "ledger",
    "roster",
    "board",
    "tables",
    "tickets",
    "returns",
    "orders",
    "notices",
    "readings",
    "stores",
    "log",
)
_KINDS = ("job", "report", "script", "agent")


class FillRefused(Exception):
    """The house is not one to be filled; the message says why."""


def fill(count: int, tell: Callable[[int], None]) -> int:
    """Fill the house up to so many connections, with twice as many credentials, as many clients,
    and three workloads and two applications for ten connections. What a run that was cut off has
    written stays, and is gone on from. ``tell`` is called with how many stand, of ``count``, after
    each block that was missing. Returns how many connections stand in the end, which may be more
    than ``count``.

    Raises :class:`FillRefused` where the house is neither empty, nor a demo's, nor was filled
    before.
    """
    _check()
    _people()
    environments = {
        environment.key: environment for environment in Environment.objects.filter(key__in=LAID_OUT)
    }
    owners = _owners()
    now = timezone.now()
    applications = range(-(-count // len(LAID_OUT)))
    for start in applications[::_BLOCK]:
        numbers = applications[start : start + _BLOCK]
        last = min(count, (numbers[-1] + 1) * len(LAID_OUT))
        if not Connection.objects.filter(pk=_id("connection", last - 1)).exists():
            with transaction.atomic():
                _Block(environments, owners, now, count).write(numbers)
                write(NOBODY, "filled", "house", "made up", {"connections": last})
            tell(last)
    index.rebuild()
    return Connection.objects.count()


def _check() -> None:
    made_up = _logins().exists() or Application.objects.filter(key=_key(0)).exists()
    if not made_up and Application.objects.exists():
        raise FillRefused(
            "It holds applications that were not made up. Name an empty home: "
            "NEATLATCH_HOME=FOLDER."
        )


def _logins() -> Path:
    return Path(settings.HOME) / "logins.json"


def _people() -> None:
    """The people and environments of the demo, where there is nobody yet; their passwords stand in
    the file of logins.
    """
    story = yaml.safe_load(SCENARIO.read_text())
    if not Environment.objects.exists():
        load_environments(story)
    if not Person.objects.exists():
        made = load_people(story)
        _logins().touch(0o600)
        _logins().write_text(json.dumps(made))


def _owners() -> list[Owner]:
    for number in range(_OWNERS):
        name = f"{_WHERE[number % len(_WHERE)]} office {number + 1}"
        given = {"address": f"office{number + 1}@gannet.example", "zone": "Europe/London"}
        Owner.objects.get_or_create(kind=Owner.Kind.CONTACT, name=name, defaults=given)
    return list(
        Owner.objects.filter(kind=Owner.Kind.CONTACT, address__startswith="office").order_by("pk")
    )


def _id(what: str, *number: int) -> uuid.UUID:
    return uuid.uuid5(_NAMES, f"{what} {' '.join(map(str, number))}")


def _name(number: int) -> str:
    return (
        f"{_WHERE[number % len(_WHERE)]} {_WHAT[number // len(_WHERE) % len(_WHAT)]} {number + 1}"
    )


def _key(number: int) -> str:
    return _name(number).lower().replace(" ", "-")


@cache
def _profiles() -> tuple[tuple[str, dict[str, Any], profiles.Profile], ...]:
    kept = (one for _, one in sorted(shipped().items()))
    read = (
        (str(shipped_profile["purpose"]), profiles.from_dict(shipped_profile["profile"]))
        for shipped_profile in kept
    )
    return tuple((purpose, profiles.to_dict(one), one) for purpose, one in read)


@dataclass
class _Block:
    """Some applications with all that belongs to them, written together."""

    environments: dict[str, Environment]
    owners: list[Owner]
    now: datetime
    count: int
    rows: dict[type[Model], list[Any]] = field(default_factory=dict)

    def write(self, numbers: range) -> None:
        """Make the applications of these numbers, and save them."""
        made = [self._application(number) for number in numbers]
        for (_, before), (number, own) in pairwise([(-1, []), *zip(numbers, made, strict=True)]):
            self._workloads(number, [*own, *before])
        for model, rows in self.rows.items():
            model._default_manager.bulk_create(rows, ignore_conflicts=True, batch_size=400)

    def _add(self, row: Model) -> None:
        self.rows.setdefault(type(row), []).append(row)

    def _application(self, number: int) -> list[Connection]:
        purpose, plain, profile = _profiles()[number % len(_profiles())]
        pick = Random(f"application {number}")
        application = Application.objects.filter(
            key=_key(number)
        ).first() or Application.objects.create(
            key=_key(number),
            name=_name(number),
            purpose=purpose,
            owner=pick.choice(self.owners),
            profile=plain,
        )
        deployments = {
            deployment.environment_id: deployment for deployment in application.deployments.all()
        }
        first = number * len(LAID_OUT)
        keys = LAID_OUT[: self.count - first]
        stand = {
            connection.pk: connection
            for connection in Connection.objects.filter(
                pk__in=[_id("connection", first + at) for at in range(len(keys))]
            )
        }
        made = []
        for at, key in enumerate(keys):
            environment = self.environments[key]
            deployment = deployments.get(environment.pk) or self._deployment(
                application, environment, profile.schemes[0]
            )
            deployments[environment.pk] = deployment
            deployment.application, deployment.environment = application, environment
            there = stand.get(_id("connection", first + at))
            if there is not None:
                there.deployment = deployment
            made.append(there or self._connection(first + at, deployment, profile))
        return made

    def _deployment(
        self, application: Application, environment: Environment, scheme: Scheme
    ) -> Deployment:
        base = f"https://localhost:1/{application.key}/{environment.key}"
        told = {address.key: f"{base}/{address.key}" for address in scheme.addresses()}
        told |= {"issuer": base} if any(value.key == "issuer" for value in scheme.values) else {}
        columns = {
            key: told.pop(key, "")
            for key in ("issuer", "authorization_endpoint", "token_endpoint", "api_base")
        }
        told = {
            key: "localhost:1" if key == "stream_address" else value for key, value in told.items()
        }
        return Deployment.objects.create(
            application=application,
            environment=environment,
            more=told,
            changed_at=self.now - timedelta(days=400),
            **columns,
        )

    def _connection(
        self, number: int, deployment: Deployment, profile: profiles.Profile
    ) -> Connection:
        pick, scheme = Random(f"connection {number}"), profile.schemes[0]
        set_up = self.now - timedelta(days=30 + number % 300)
        scopes = sorted(scope.name for scope in profile.scopes)[:3] if scheme.key in OAUTH2 else []
        client = self._client(number, deployment, profile, scopes, set_up)
        values = connections.defaults(deployment, scheme, None, settings.RETURN_ADDRESS)
        values |= {
            key: value
            for key, value in client.facts.items()
            if key in values and key != "thumbprint"
        }
        values |= {
            key: value
            for key, value in (
                ("client_id", client.client_id),
                ("client_sign_in", client.sign_in_method),
            )
            if key in values
        }
        values |= {"account": client.account} if "account" in values else {}
        own, connection_id = {"scopes": scopes, "slots": {}}, _id("connection", number)
        if scheme.key in (CERTIFICATE, JWT):
            pem, private, thumbprint = own_certificate(client.name, days=pick.randint(20, 700))
            client.facts["thumbprint"], values["certificate"] = thumbprint, pem
        else:
            private = ""
        wrong = pick.random() < 0.03
        if wrong:
            spoilt = next(
                name
                for name in ("redirect_uri", "issuer", "api_base", "stream_address")
                if values.get(name)
            )
            values[spoilt] += "/x" if spoilt != "stream_address" else "0"
        made = Connection(
            id=connection_id,
            **naming.named(deployment, f"{deployment.application.key}-{number + 1}"),
            deployment=deployment,
            client=client,
            scheme=scheme.key,
            values=values,
            pace=10.0,
            changed_at=set_up,
            changed_by="morag",
            **own,
        )
        self._health(made, wrong, pick)
        self._add(client)
        self._add(made)
        secrets = list(scheme.sent_secrets())
        held = [
            self._secret(number, at, client, value, private, pick, set_up)
            for at, value in enumerate(secrets)
        ]
        if len(held) < 2:  # beside the one that is held, the one it replaced
            self._replaced(number, held[0], set_up)
        for value, credential in zip(secrets, held, strict=True):
            credential.sent_to = sorted(destinations.of_secret(scheme, value.key, made.values))
            self._add(HeldSecret(connection=made, key=value.key, credential=credential))
        if scheme.key == CODE:
            self._tokens(made, set_up)
        self._samples(made, number)
        return made

    def _client(
        self,
        number: int,
        deployment: Deployment,
        profile: profiles.Profile,
        scopes: list[str],
        set_up: datetime,
    ) -> Client:
        scheme = profile.schemes[0]
        name = f"Gannet Sound Ferries {number + 1}"
        kind = class_of(scheme.key)
        made = kind(
            kind=str(kind.KIND),
            id=_id("client", number),
            deployment=deployment,
            name=name,
            contacts=["connections@gannet.example"],
            state="live",
            scheme=scheme.key,
            changed_at=set_up,
            changed_by="morag",
            account_kind="service",
            switches=list(scheme.switches),
        )
        if scheme.key in OAUTH2:
            made.client_id = f"gs-{number + 1:05d}"
            made.grants = list(scheme.grants)
            made.redirect_uris = [settings.RETURN_ADDRESS] if scheme.signs_in else []
            made.consents = {
                scope.name: {"who": "morag", "when": set_up.isoformat()}
                for scope in profile.scopes
                if scope.administrator
            }
        made.scopes = scopes
        if scheme.key not in OAUTH2 or scheme.key == JWT:
            made.account = f"svc-{number + 1:05d}"
        elif scheme.signs_in:
            made.account = f"svc-{number + 1:05d}@gannet.example"
        told = [identity for identity in scheme.identities() if identity.key != "client_id"]
        made.facts = {
            value.key: f"gs-{value.key.rpartition('.')[2]}-{number + 1:05d}" for value in told
        }
        if scheme.key == JWT:
            made.facts["audience"] = deployment.token_endpoint
        if profile.roles and scheme.key not in OAUTH2:
            made.rights, made.rights_changed_at = (
                [role.name for role in profile.roles],
                set_up - timedelta(days=1),
            )
        return made

    def _health(self, made: Connection, wrong: bool, pick: Random) -> None:
        luck, tested = pick.random(), self.now - timedelta(seconds=pick.randint(1, 300))
        made.tested_at = made.proven_at = made.secret_taken_at = tested
        made.state, made.passes = State.LATCHED.value, PASSES_WANTED
        if wrong or luck < 0.01:
            made.state, made.passes = State.UNLATCHED.value, 0
            made.failing, made.failed_rung = "The application refused: 401 Unauthorized.", "sign_in"
            made.proven_at = tested - timedelta(days=2)
        elif luck < 0.04:
            made.state, made.passes = State.STICKING.value, 1
            made.failing, made.failed_rung = (
                "The application answered 503 Service Unavailable.",
                "call",
            )
        elif luck < 0.07:
            made.state, made.passes = State.NOT_PROVEN.value, 0
            made.tested_at = made.proven_at = made.secret_taken_at = None

    def _secret(
        self,
        number: int,
        at: int,
        client: Client,
        value: Value,
        private: str,
        pick: Random,
        set_up: datetime,
    ) -> Credential:
        luck = pick.random()
        days = pick.randint(40, 700)
        if luck < 0.06:
            days = -pick.randint(1, 40) if luck < 0.02 else pick.randint(1, 30)
        ends = None if luck > 0.95 else self.now + timedelta(days=days)
        identity = _id("credential", number, at)
        if value.type != "key":
            text = f"gs_{_id('secret', number, at).hex}"
            return self._credential(identity, client, value.key, text, set_up, ends)
        made = self._credential(identity, client, value.key, private, set_up, None)
        made.public_key = public_key_of(private)
        return made

    def _replaced(self, number: int, now_held: Credential, set_up: datetime) -> None:
        before = self._credential(
            _id("credential", number, 1),
            now_held.client,
            now_held.kind,
            f"gs_{_id('secret', number, 1).hex}",
            set_up - timedelta(days=90),
            set_up,
        )
        before.state = Credential.State.RETIRED
        now_held.replaces = before
        rows = self.rows[Credential]
        rows[-2:] = [before, now_held]

    def _credential(
        self,
        pk: uuid.UUID,
        client: Any,
        kind: str,
        text: str,
        issued: datetime,
        ends: datetime | None,
    ) -> Credential:
        made = Credential(
            id=pk,
            client=client,
            kind=kind,
            hint=hint(text),
            source="pasted",
            put_in_by="morag",
            issued=issued,
            ends=ends,
            fingerprint=safe.fingerprint(text),
        )
        made.value = safe.seal(text, made.sealed_place)
        self._add(made)
        return made

    def _tokens(self, connection: Connection, set_up: datetime) -> None:
        made = TokenSet(
            connection=connection,
            granted=connection.scopes,
            account=connection.values.get("account", ""),
            signed_in_at=set_up,
            obtained=self.now,
            ends=self.now + timedelta(days=60),
            sent_to=sorted(destinations.of_secret(connection.read_scheme(), "", connection.values)),
        )
        made.seal(f"at_{connection.pk.hex}", f"rt_{connection.pk.hex}")
        self._add(made)

    def _samples(self, connection: Connection, number: int) -> None:
        if connection.tested_at is None:
            return
        for ago in reversed(range(RECENT)):
            failed = connection.state == State.UNLATCHED.value and ago < 8
            failed = failed or (connection.state == State.STICKING.value and ago % 5 == 2)
            sample = Sample(
                test_id=_id("sample", number, ago),
                connection=connection,
                at=connection.tested_at - timedelta(minutes=5 * ago),
                passed=not failed,
                ms=60.0 + (number * 7 + ago * 13) % 50,
            )
            connection.recent = with_latest(connection.recent, sample.passed, sample.ms)
            self._add(sample)

    def _workloads(self, number: int, offered: list[Connection]) -> None:
        """Three workloads for two applications: each uses up to four connections of its
        environment, of this application and the one before.
        """
        first = number * 3 // 2
        for at in range(first, (number + 1) * 3 // 2):
            if at >= self.count * 3 // 10 or not offered:
                return
            pick = Random(f"workload {at}")
            environment = self.environments[
                pick.choice(("production", "production", "production", "staging", "sandbox"))
            ]
            workload = Workload(
                id=_id("workload", at),
                name=f"{_WHERE[at % len(_WHERE)]} run {at + 1}",
                environment=environment,
                kind=_KINDS[at % len(_KINDS)],
                owner=pick.choice(self.owners),
                runs="02:10 daily",
                draws=at % 3 == 0,
                changed_at=self.now,
                changed_by="morag",
            )
            self._add(workload)
            for offer in [
                each for each in offered if each.deployment.environment_id == environment.pk
            ][:4]:
                named = offer.deployment.application.read_profile().operations[:1]
                self._add(
                    Use(
                        workload=workload,
                        application=offer.deployment.application,
                        connection=offer,
                        operations=[each.name for each in named],
                    )
                )
