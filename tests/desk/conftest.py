"""A desk with its environments and people, and helpers to set up connections at the stand-in."""

from __future__ import annotations

import base64
import contextlib
import shutil
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
import yaml
from django.core.management import call_command
from django.db import connection
from django.test import Client as WebClient
from django.test import TransactionTestCase
from django.utils import timezone
from pytest_django.live_server_helper import LiveServer

from neatlatch.core import profiles, totp
from neatlatch.core.registration import ClientMetadata
from neatlatch.demo.load import SCENARIO, load, load_environments
from neatlatch.demo.visitor import Visitor
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.applications.shipped import shipped
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.connections import sign_in
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, SignIn
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.keyfile import read_keys
from neatlatch.desk.ground.common.strangers import Allowance
from neatlatch.desk.ground.journal import anchors
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.pages.house import endpoints
from neatlatch.desk.work.rounds import services as rounds
from neatlatch.desk.work.rounds.models import Test
from tests.harness import StandIns
from tests.prepared import migrated
from tests.settings import HOME_OF_TESTS

from .houses import House
from .offices import Office
from .transactions import RECORDER, transactions_hold_statements_only

__all__ = ["transactions_hold_statements_only"]

STORY = yaml.safe_load(SCENARIO.read_text())
SERVICE = "svc-manifests@gannet.example"
PERSON = "m.orr@gannet.example"
URI = "http://127.0.0.1:8600/return"
PASSWORD = "skerry-lantern-hawser"


def pytest_configure(config: pytest.Config) -> None:
    """What happens inside transactions is looked at in every test."""
    RECORDER.install()
    config.pluginmanager.register(RECORDER, "transactions")


@dataclass
class Setup:
    """What a test works with."""

    stand_ins: StandIns
    by: Person

    def deployment(self, environment: str = "sandbox") -> Deployment:
        """Cargo manifests in an environment, with its shipped profile."""
        issuer = self.stand_ins.issuer(environment)
        deployment = applications.add_from_metadata(
            self.by,
            "Cargo manifests",
            environment,
            issuer,
            applications.Description(f"{issuer}/openapi.json"),
        )
        profile = profiles.from_dict(shipped()["cargo-manifests"]["profile"])
        applications.change(self.by, deployment.application, {"profile": profiles.to_dict(profile)})
        return Deployment.objects.select_related("application", "environment").get(pk=deployment.pk)

    def client(self, deployment: Deployment, *scopes: str, **more: Any) -> Client:
        """A client registered by protocol."""
        fields = ClientMetadata(
            "Ferries",
            ("t@gannet.example",),
            redirect_uris=more.pop("redirect_uris", (URI,)),
            scopes=frozenset(scopes),
            **more,
        )
        made, _ = clients.register(self.by, deployment, fields)
        return Client.objects.select_related(
            "deployment__application", "deployment__environment"
        ).get(pk=made.pk)

    def connection(
        self,
        client: Client,
        *scopes: str,
        name: str = "cargo",
        scheme: str = profiles.CODE,
        **values: str,
    ) -> Connection:
        """A connection with the client's values."""
        found = client.deployment.application.read_profile().scheme(scheme)
        assert found is not None
        filled = connections.defaults(client.deployment, found, client, URI) | values
        made, _ = connections.create(
            self.by,
            client.deployment,
            name,
            scheme,
            client,
            filled,
            list(scopes or client.scopes),
            {},
        )
        return made

    def visitor(self, environment: str = "sandbox") -> Visitor:
        return Visitor(self.stand_ins.screens(environment))

    def sign_in(self, connection: Connection, account: str = SERVICE) -> SignIn:
        """Go to the stand-in, pick the account, agree, come back."""
        _, address = sign_in.begin(self.by, connection, "")
        back = self.visitor().sign_in(address, account)
        done = sign_in.come_back(self.by, back, parse_qs(urlsplit(back).query)["state"][0])
        assert done is not None
        return done

    def latched(self, *scopes: str, name: str = "cargo", **values: str) -> Connection:
        """A connection that works: registered, signed in."""
        deployment = (
            Deployment.objects.filter(environment__key="sandbox")
            .select_related("application", "environment")
            .first()
            or self.deployment()
        )
        connection = self.connection(
            self.client(deployment, *(scopes or ("manifest.read", "berth.read"))),
            name=name,
            account=SERVICE,
            **values,
        )
        done = self.sign_in(connection)
        assert done.outcome == "signed_in", done.says
        return connection

    def test(self, connection: Connection) -> Test:
        """Test it, as the button does."""
        return rounds.run(rounds.begin_test(self.by, connection))

    def web(self, role: str = "administrator") -> WebClient:
        """A browser that is logged in."""
        person = Person.objects.filter(username=role).first() or Person.objects.create_user(
            role, password=PASSWORD, role=role
        )
        client = WebClient()
        client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
        return client


def codes_of(person: Person) -> Iterator[str]:
    """Give a person a second factor that is older than a day; returns codes of it that are right
    now, each as if none had been shown before.
    """
    secret = b"a secret of the desk"
    sealed = safe.seal(base64.b64encode(secret).decode(), person.place_of("factor"))
    Person.objects.filter(pk=person.pk).update(
        factor=sealed, factor_since=timezone.now() - timedelta(days=2)
    )
    while True:
        Person.objects.filter(pk=person.pk).update(factor_step=-1)
        yield totp.code(secret, timezone.now().timestamp())


@pytest.fixture(autouse=True)
def _strangers_of_other_tests_do_not_count(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(issuing, "_NOTED", Allowance(60, 600))
    monkeypatch.setattr(endpoints, "_ASKED", Allowance(300, 1_200))


@pytest.fixture(scope="session")
def django_db_keepdb() -> bool:
    """The test database is the prepared one, which lacks nothing."""
    HOME_OF_TESTS.joinpath("desk").mkdir(parents=True, exist_ok=True)
    shutil.copy(migrated(), HOME_OF_TESTS / "desk" / "test.sqlite3")
    read_keys(
        HOME_OF_TESTS / "desk" / "safe.key", create=True
    )  # as programs do when they start, before any transaction
    return True


def _empty(self: TransactionTestCase) -> None:
    """Empty the tables and leave it at that: Django would write anew the permissions of its models
    after every test, which nothing here asks for.
    """
    call_command(
        "flush", verbosity=0, interactive=False, reset_sequences=False, inhibit_post_migrate=True
    )


TransactionTestCase._fixture_teardown = _empty


@pytest.fixture
def setup(transactional_db: None, stand_ins: StandIns) -> Iterator[Setup]:
    """A desk with environments and an administrator, on a database that commits for real."""
    load_environments(STORY)
    yield Setup(
        stand_ins, Person.objects.create_user("morag", password=PASSWORD, role="administrator")
    )
    forget_the_journal()


_KEPT: dict[str, Path] = {}


def load_once(port: int, **how: Any) -> None:
    """Load the demo into the empty test database: the first time for real, after that as it stood
    when it was loaded. The stand-ins keep what they gave.
    """
    key = repr(sorted(how.items()))
    connection.ensure_connection()
    if key in _KEPT:
        with contextlib.closing(sqlite3.connect(_KEPT[key])) as kept:
            kept.backup(connection.connection)
        return
    load(port, **how)
    file = HOME_OF_TESTS / f"loaded-{len(_KEPT)}.sqlite3"
    with contextlib.closing(sqlite3.connect(file)) as copy:
        connection.connection.backup(copy)
    _KEPT[key] = file


def forget_the_journal() -> None:
    """The journal refuses to be emptied; only a test database may forget it."""
    with connection.cursor() as cursor:
        kept = cursor.execute(
            "SELECT name, sql FROM sqlite_master WHERE type = 'trigger'"
        ).fetchall()
        for name, _ in kept:
            cursor.execute(f"DROP TRIGGER {name}")
        cursor.execute("DELETE FROM journal_entry")
        cursor.execute("DELETE FROM journal_checkpoint")
        for _, sql in kept:
            cursor.execute(sql)
    (HOME_OF_TESTS / "desk" / anchors.FILE).unlink(missing_ok=True)


@pytest.fixture
def house(transactional_db: None, live_server: LiveServer) -> Iterator[House]:
    load_environments(STORY)
    by = Person.objects.create_user("morag", password=PASSWORD, role="administrator")
    for key in ("fuel-ledger", "berth-booking"):
        kept = shipped()[key]
        values = {
            "api_base": f"https://{key}.gannet.example/api",
            "issuer": "https://own.example",
            "token_endpoint": "https://own.example/token",
            "authorization_endpoint": "https://own.example/authorize",
        }
        applications.add_manually(
            by, kept["name"], "sandbox", values, kept["profile"], kept["purpose"], "Quays"
        )
    Deployment.objects.update(house=True)
    web = WebClient()
    web.force_login(by, backend="django.contrib.auth.backends.ModelBackend")
    yield House(by, live_server.url, web)
    forget_the_journal()


@pytest.fixture
def office(db: None) -> Office:
    load_environments(STORY)
    return Office()
