"""Decommissioning, step by step: a connection whose key is revoked manually, a client registered by
protocol, a workload with keys of the house, an application in an environment.
"""

from __future__ import annotations

import re
from datetime import timedelta
from typing import Any
from uuid import uuid4

import pytest
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.demo.visitor import OfficeVisitor
from neatlatch.desk.authority.house import own
from neatlatch.desk.estate.connections import tokens
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.journal.services import check
from neatlatch.desk.work.decommissioning import services
from neatlatch.desk.work.decommissioning.models import Decommissioning
from neatlatch.desk.work.drawing import services as drawing
from neatlatch.desk.work.drawing.models import Drawn
from tests.harness import StandIns

from .conftest import Setup
from .test_replacing import post, web

__all__ = ["web"]
KEY = "production/lost-property"


def begin(web: WebClient, of: str, key: str) -> tuple[str, Any]:
    made = post(web, "/decommissionings", 201, of=of, key=key)
    return f"/decommissionings/{made['id']}", made


def look(web: WebClient, at: str) -> Any:
    return web.get(f"/api{at}").json()


def free(ref: str) -> None:
    """Nobody uses it any more."""
    Use.objects.filter(connection__ref=ref).delete()


def revoke_there(stand_ins: StandIns, client: Client) -> None:
    """A person withdraws what a client has in the application's own screens."""
    screens = stand_ins.office("lost", "production").rpartition("/")[0]
    office = OfficeVisitor(screens, "production")
    listed = office.web.get(office.screens).text
    name = re.findall(rf"<td>{re.escape(client.name)}<td><code>([^<]+)</code>", listed)[-1]
    office.web.post(f"{office.screens}/{name}/end")


def test_a_connection_goes_in_the_order_of_the_work(web: WebClient, stand_ins: StandIns) -> None:
    connection = Connection.objects.get(ref=KEY)
    credential = connection.credential
    assert credential is not None
    at, made = begin(web, "connections", KEY)
    assert begin(web, "connections", KEY)[0] == at, "begun twice is begun once"
    assert made["step"] == "uses"
    assert [usage["name"] for usage in made["usages"]] == ["Found items page"]
    # Nothing is revoked while it is in use, and nothing is forgotten before that.
    wanted = f"credential:{credential.pk}"
    post(web, f"{at}/revocations", 409, key=wanted)
    post(web, f"{at}/completions", 409, confirm=KEY)
    refused = post(web, f"{at}/confirmations", 409)
    assert refused["code"] == "still-in-use"
    assert "Found items page still uses it." in refused["detail"]
    found = post(web, f"{at}/confirmations", reason="The page closes with the season.")
    assert found["step"] == "revoke"
    connection.refresh_from_db()
    assert connection.paused
    assert [each["how"] for each in found["left"]] == ["manually"]
    assert len(found["left"][0]["acts"]) == 2
    post(web, f"{at}/revocations", 404, key="credential:x")
    found = post(web, f"{at}/revocations", key=wanted)
    assert found["step"] == "prove"
    # Said to be revoked, and not: the application still lets it in.
    found = post(web, f"{at}/proofs")
    assert (found["step"], found["proven_at"]) == ("prove", None)
    post(web, f"{at}/exceptions", 422)
    assert connection.client is not None
    revoke_there(stand_ins, connection.client)
    found = post(web, f"{at}/proofs")
    assert found["step"] == "end", found["proof"]
    post(web, f"{at}/completions", 422, confirm="something else")
    found = post(web, f"{at}/completions", confirm=KEY)
    assert (found["step"], found["cancelled"]) == (None, False)
    assert not Connection.objects.filter(ref=KEY).exists()
    credential.refresh_from_db()
    assert (credential.value, credential.state) == (None, "retired")
    history = found["history"]
    assert history["fields"]["scheme"]
    assert history["usages"] == [{"kind": "workload", "name": "Found items page"}]
    assert history["credentials"][0]["hint"] == credential.hint
    assert look(web, at)["history"] == history
    told = [entry.did for entry in Entry.objects.filter(ref=KEY).order_by("number")]
    assert told[-4:] == [
        "revoked for decommissioning",
        "proved refused",
        "removed",
        "decommissioned",
    ]
    assert check().fault is None


def test_a_secret_that_another_connection_holds_is_kept(web: WebClient) -> None:
    connection = Connection.objects.get(ref=KEY)
    other = Connection.objects.get(ref="production/repair-tickets")
    credential = connection.credential
    assert credential is not None
    HeldSecret.objects.filter(connection=other).delete()
    HeldSecret.objects.create(connection=other, key="api_key", credential=credential)
    free(KEY)
    at, _ = begin(web, "connections", KEY)
    found = post(web, f"{at}/confirmations")
    assert found["step"] == "end"
    assert found["left"][0]["says"] == "production/repair-tickets goes on using it."
    post(web, f"{at}/completions", confirm=KEY)
    credential.refresh_from_db()
    assert credential.value is not None
    assert credential.state == "active"


def test_what_cannot_be_proven_needs_a_reason(
    web: WebClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    free(KEY)
    at, _ = begin(web, "connections", KEY)
    found = post(web, f"{at}/confirmations")
    found = post(web, f"{at}/revocations", key=found["left"][0]["key"])
    Connection.objects.filter(ref=KEY).update(values={"api_base": "https://127.0.0.1:9/"})
    found = post(web, f"{at}/proofs")
    assert (found["step"], bool(found["proof"])) == ("prove", True)
    found = post(web, f"{at}/exceptions", reason="Seen as revoked in its screens.")
    assert found["step"] == "end"
    assert post(web, f"{at}/completions", confirm=KEY)["unproven"]


def test_tokens_are_ended_and_a_client_goes_by_protocol(setup: Setup) -> None:
    connection = setup.latched()
    client, browser = connection.client, setup.web()
    assert client is not None
    at, made = begin(browser, "clients", str(client.pk))
    assert made["obstacle"] == "sandbox/cargo must be decommissioned or moved first."
    post(browser, f"{at}/confirmations", 409, reason="It must go.")
    of_it, made = begin(browser, "connections", "sandbox/cargo")
    found = post(browser, f"{of_it}/confirmations")
    assert [(each["key"].partition(":")[0], each["how"]) for each in found["left"]] == [
        ("tokens", "protocol"),
        ("credential", "kept"),
    ]
    found = post(browser, f"{of_it}/revocations", key="tokens")
    assert (found["step"], found["revoked"][0]["said"]) == ("end", "yes")
    post(browser, f"{of_it}/completions", confirm="sandbox/cargo")
    found = post(browser, f"{at}/confirmations")
    assert [each["how"] for each in found["left"]] == ["protocol"]
    found = post(browser, f"{at}/revocations", key="registration")
    found = post(browser, f"{at}/proofs")
    assert "answered 401" in found["proof"]
    found = post(browser, f"{at}/completions", confirm=client.name)
    assert not Client.objects.filter(pk=client.pk).exists()
    assert found["history"]["fields"]["client_id"] == client.client_id
    assert tokens.revoke(connection) == "none held"


def test_a_workload_goes_with_what_it_draws_with(setup: Setup) -> None:
    connection, browser = setup.latched(), setup.web()
    given = workloads.WorkloadFields("Night run", "sandbox", draws=True)
    workload = workloads.add(setup.by, given)
    workloads.use(setup.by, workload, connection.deployment.application, connection, [])
    key, handover = drawing.give(setup.by, workload, "key", "draw")
    now = timezone.now()
    Drawn.objects.create(
        workload=workload.pk,
        connection=connection.pk,
        way="draw",
        begins=now - timedelta(hours=1),
        last=now - timedelta(hours=1),
        count=3,
    )
    at, made = begin(browser, "workloads", str(workload.pk))
    assert made["obstacle"] == "sandbox/cargo still uses it. Say why that may stop."
    Drawn.objects.update(last=now - timedelta(days=14))
    found = post(browser, f"{at}/confirmations")
    found = post(browser, f"{at}/revocations", key=found["left"][0]["key"])
    assert found["step"] == "prove"
    found = post(browser, f"{at}/proofs")
    assert found["step"] == "end", found["proof"]
    found = post(browser, f"{at}/completions", confirm="Night run")
    assert not Workload.objects.filter(pk=workload.pk).exists()
    assert not Client.objects.filter(pk=key.pk).exists()
    assert found["history"]["draws"] == 3


def test_an_application_leaves_an_environment_when_nothing_of_it_is_there(setup: Setup) -> None:
    client, browser = setup.client(setup.deployment(), "manifest.read"), setup.web()
    at, made = begin(browser, "deployments", "cargo-manifests/sandbox")
    assert made["obstacle"] == f"{client.name} must be decommissioned or moved first."
    Client.objects.all().delete()
    found = post(browser, f"{at}/confirmations")
    assert found["step"] == "end"
    assert "last environment" in found["also"]
    setup.client(Deployment.objects.get(), "manifest.read")
    name = "cargo-manifests/sandbox"
    assert post(browser, f"{at}/completions", 409, confirm=name)["code"] == "changed-since-preview"
    Client.objects.all().delete()
    found = post(browser, f"{at}/completions", confirm=name, with_also=True)
    assert not Application.objects.filter(key="cargo-manifests").exists()
    assert found["history"]["application"]["name"] == "Cargo manifests"


def test_it_can_be_stopped_and_what_is_gone_otherwise_is_told(setup: Setup) -> None:
    setup.latched()
    browser = setup.web()
    at, _ = begin(browser, "connections", "sandbox/cargo")
    answer = browser.delete(f"/api{at}")
    assert answer.json()["cancelled"]
    post(browser, f"{at}/confirmations", 409)
    again, _ = begin(browser, "connections", "sandbox/cargo")
    assert again != at
    browser.delete("/api/connections/sandbox/cargo?confirm=sandbox/cargo")
    assert look(browser, again)["gone"]
    post(browser, f"{again}/confirmations", 409)
    answer = browser.delete(f"/api{again}")
    assert (answer.json()["cancelled"], answer.json()["gone"]) == (False, False)
    found = browser.get("/api/decommissionings?words=over:yes kind:conn").json()["items"]
    assert [item["id"] for item in found] == [again.rpartition("/")[2], at.rpartition("/")[2]]
    assert browser.get("/api/decommissionings?words=over:no").json()["items"] == []


def test_what_is_not_there_cannot_be_decommissioned(setup: Setup) -> None:
    browser = setup.web()
    for of, key in (
        ("connections", "sandbox/nothing"),
        ("clients", "x"),
        ("workloads", str(uuid4())),
        ("deployments", "nothing/sandbox"),
    ):
        post(browser, "/decommissionings", 404, of=of, key=key)
    own.own_deployment(Environment.objects.get(key="sandbox"))
    itself = {"of": "deployments", "key": "neat-latch/sandbox"}
    refused = post(browser, "/decommissionings", 409, **itself)
    assert refused["code"] == "not-decommissionable"
    assert not Decommissioning.objects.exists()


def test_a_program_that_is_killed_while_the_object_goes_leaves_its_history(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    made = services.begin(setup.by, "connections", connection.pk.hex)
    services.confirm(setup.by, made, "")
    services.revoke(setup.by, made, "tokens")

    def killed(*given: Any) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr("neatlatch.desk.estate.connections.services.remove", killed)
    with pytest.raises(KeyboardInterrupt):
        services.end(setup.by, made, "sandbox/cargo", with_also=False)
    monkeypatch.undo()
    made.refresh_from_db()
    assert (made.ended, made.history["fields"]["deployment"]) == (None, "cargo-manifests/sandbox")
    assert services.end(setup.by, made, "sandbox/cargo", with_also=False).ended
