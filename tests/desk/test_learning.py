"""What a passing test has proven is taken as the provider's value, and stands in the journal as
learned.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from neatlatch.core.learned import learned
from neatlatch.core.schemes import KINDS
from neatlatch.desk.estate.connections import halves
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.rounds import services
from tests.harness import StandIns

from .conftest import Setup, forget_the_journal, load_once
from .test_workbenches import send


@pytest.fixture
def offices(transactional_db: None, stand_ins: StandIns) -> Iterator[Setup]:
    """Tide tables (OAuth 1.0a) and Crew roster (client certificate) as the demo sets them up."""
    load_once(stand_ins.port, only=("tide-tables", "crew-roster"), with_benches=False)
    yield Setup(stand_ins, Person.objects.get(username="morag"))
    forget_the_journal()


def found(ref: str) -> Connection:
    return halves.with_everything(Connection.objects.filter(ref=ref)).get()


def pin(setup: Setup, ref: str, key: str) -> str:
    told = send(setup.web(), "get", f"/connections/{ref}")
    return str(next(item["fit"] for item in told["pins"] if item["key"] == key))


def noted(ref: str, **facts: str) -> Client:
    """The provider's half as somebody noted it."""
    client = found(ref).client
    assert client is not None
    Client.objects.filter(pk=client.pk).update(facts={**client.facts, **facts})
    return Client.objects.get(pk=client.pk)


CASES: list[Any] = [
    ("production/tide-tables", "client_key", "client_key"),
    ("production/tide-tables", "token_id", "token_id"),
    ("production/crew-roster", "thumbprint", "certificate"),
]


@pytest.mark.parametrize(("ref", "fact", "key"), CASES)
def test_a_stale_note_is_learned_anew(offices: Setup, ref: str, fact: str, key: str) -> None:
    """F9: “We send another client key than the provider gave”, beside a state that says latched."""
    right = found(ref).client.facts[fact]  # type: ignore[union-attr]
    noted(ref, **{fact: "AA" * 32 if fact == "thumbprint" else "of-last-year"})
    assert pin(offices, ref, key) == "differs"
    done = services.run(services.begin_test(offices.by, found(ref)))
    assert next(rung["passed"] for rung in done.rungs if rung["rung"] == "sign_in")
    client = found(ref).client
    assert client is not None
    assert client.facts[fact].replace(":", "").upper() == right.replace(":", "").upper()
    assert (pin(offices, ref, key), client.changed_by) == ("fits", "the test")
    entry = Entry.objects.get(did="learned")
    assert (entry.who, entry.details["connection"]) == ("the test", ref)
    assert "of-last-year" in entry.details[fact] or "AAAA" in entry.details[fact]
    # Once is enough.
    services.run(services.begin_test(offices.by, found(ref)))
    assert Entry.objects.filter(did="learned").count() == 1


def test_what_was_never_noted_is_learned(offices: Setup) -> None:
    noted("production/tide-tables", client_key="")
    services.run(services.begin_test(offices.by, found("production/tide-tables")))
    assert pin(offices, "production/tide-tables", "client_key") == "fits"


def test_a_secret_that_has_just_been_taken_is_not_called_different(offices: Setup) -> None:
    """F9, for secrets: another one is noted at the provider's half."""
    client = found("production/tide-tables").client
    assert client is not None
    Credential.objects.filter(client=client, kind="token_secret").update(
        fingerprint="of-another", source="registered"
    )
    connections.put_secret(
        offices.by,
        found("production/tide-tables"),
        secret_of("production/tide-tables", "token_secret"),
        None,
        "token_secret",
    )
    assert pin(offices, "production/tide-tables", "token_secret") == "differs"
    done = services.run(services.begin_test(offices.by, found("production/tide-tables")))
    assert next(rung["passed"] for rung in done.rungs if rung["rung"] == "sign_in")
    assert pin(offices, "production/tide-tables", "token_secret") == "fits"


def secret_of(ref: str, key: str) -> str:
    return (
        found(ref).held_secrets.select_related("credential").get(key=key).credential.open().reveal()
    )


def test_a_token_that_was_alive_proves_no_secret(setup: Setup) -> None:
    """What a test has not shown is not said: after a wrong secret the token serves on."""
    connection = setup.latched("manifest.read")
    application = connection.deployment
    application.metadata = {
        key: value
        for key, value in (application.metadata or {}).items()
        if key != "introspection_endpoint"
    }
    application.save()
    connection, _ = connections.put_secret(setup.by, connection, "not-the-secret-of-this-client")
    Credential.objects.filter(client=connection.client, source="registered").delete()
    assert services.run(services.begin_test(setup.by, found("sandbox/cargo"), "sign_in")).passed
    assert pin(setup, "sandbox/cargo", "secret") == "not_proven"


def test_a_failing_test_teaches_nothing(offices: Setup) -> None:
    connection, _ = connections.change(
        offices.by, found("production/tide-tables"), {"values": {"client_key": "nobody"}}
    )
    before = found("production/tide-tables").client.facts  # type: ignore[union-attr]
    assert services.run(services.begin_test(offices.by, connection)).passed is False
    assert found("production/tide-tables").client.facts == before  # type: ignore[union-attr]
    assert not Entry.objects.filter(did="learned").exists()


def test_what_another_connection_has_proven_stays(offices: Setup) -> None:
    """Two keys of one account: each would take the other's place, again and again."""
    client = noted("production/tide-tables", client_key="of-another")
    other = Connection.objects.create(
        ref="sandbox/other",
        deployment=client.deployment,
        client=client,
        scheme="oauth1",
        values={"client_key": "of-another"},
        changed_at=client.changed_at,
        proven_at=client.changed_at,
    )
    services.run(services.begin_test(offices.by, found("production/tide-tables")))
    assert Client.objects.get(pk=client.pk).facts["client_key"] == "of-another"
    other.delete()


def test_names_only_and_each_once() -> None:
    sent = {"username": "svc", "api_base": "https://x.example"}
    assert learned(KINDS["basic"], sent, "", {"username": "old", "api_base": "y"}) == {
        "username": ("old", "svc")
    }
    assert learned(KINDS["basic"], sent, "", {"username": "svc"}) == {}
    assert learned(KINDS["certificate"], {}, "AA:BB", {"thumbprint": "aabb,CCDD"}) == {}
    assert learned(KINDS["oauth2_client"], {"client_id": "new"}, "", {"client_id": "old"}) == {
        "client_id": ("old", "new")
    }
