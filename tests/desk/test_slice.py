"""All of it through the services: register, hand over, connect, sign in, test, break, mend."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

import pytest

from neatlatch.core import profiles
from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import fixes, halves
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.credentials import services as credentials
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Handover
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.pages.connections.shaping import full
from tests.refused import refused_with

from .conftest import SERVICE, URI, Setup


def again(connection: Connection) -> Connection:
    return halves.with_everything(Connection.objects.filter(pk=connection.pk)).get()


def pins(connection: Connection) -> dict[str, dict[str, Any]]:
    return {pin["key"]: pin for pin in asdict(full(again(connection)))["pins"]}


def test_from_nothing_to_latched_broken_and_mended(setup: Setup) -> None:
    connection = setup.latched()
    test = setup.test(connection)
    assert test.passed, test.rungs[-1]
    assert [rung["rung"] for rung in test.rungs] == [
        "find",
        "reach",
        "secure",
        "sign_in",
        "allowed",
        "work",
    ]
    assert again(connection).state == "latched"
    assert {pin["fit"] for pin in pins(connection).values()} <= {"fits", "not_asked"}

    connections.change(setup.by, connection, {"values": {"redirect_uri": URI + "/"}})
    assert again(connection).state == "not_proven"
    broken = setup.test(connection)
    assert broken.passed is False
    assert broken.rungs[-1]["rung"] == "sign_in"
    assert broken.diagnosis["causes"][0]["pin"] == "redirect_uri"
    assert again(connection).state == "unlatched"

    fixes.act(setup.by, again(connection), "redirect_uri", "take_provider", URI)
    assert setup.test(connection).passed
    assert again(connection).state == "latched"


def test_a_change_of_a_client_is_whole(setup: Setup) -> None:
    """A caller of the service need not remember that nobody has tried the connections since."""
    connection = setup.latched()
    assert setup.test(connection).passed
    clients.change(setup.by, again(connection).client, lambda fields: fields)
    assert again(connection).state == "latched"  # nothing is another than it was
    clients.change(setup.by, again(connection).client, clients.with_uri(URI + "/other"))
    assert again(connection).state == "not_proven"


def test_a_connection_that_shows_what_it_does_not_hold_is_not_saved(setup: Setup) -> None:
    connection = setup.latched()
    other = connection.showing(connection.secrets(), {"redirect_uri": "https://elsewhere.example/"})
    assert (other.values["redirect_uri"], connection.values["redirect_uri"]) == (
        "https://elsewhere.example/",
        URI,
    )
    with pytest.raises(ValueError, match="does not hold"):
        other.save()


def test_register_ours_too_reaches_the_provider(setup: Setup) -> None:
    """RFC 7592 §2.2."""
    connection = setup.latched()
    connections.change(setup.by, connection, {"values": {"redirect_uri": URI + "/"}})
    fixes.act(setup.by, again(connection), "redirect_uri", "register_ours", URI + "/")
    client = clients.read_back(setup.by, again(connection).client)
    assert client.redirect_uris == [URI, URI + "/"]
    assert setup.test(connection).passed


def test_a_scope_is_asked_for_consented_to_and_reaches_a_new_token_only(setup: Setup) -> None:
    connection = setup.latched("manifest.read")
    connections.change(setup.by, connection, {"scopes": ["manifest.read", "manifest.write"]})
    test = setup.test(connection)
    assert test.diagnosis["code"] == "invalid_scope"
    assert test.diagnosis["causes"][0]["pin"] == "scopes"
    fixes.act(setup.by, again(connection), "scopes", "permit_scope", "manifest.write")
    assert pins(connection)["consent"]["fit"] == "differs"
    done = setup.sign_in(again(connection))
    assert done.outcome == "denied"
    assert "has not consented to manifest.write" in done.says

    visitor = setup.visitor()
    visitor.enter_office()
    visitor.consent(again(connection).client.client_id, "manifest.write")
    fixes.act(setup.by, again(connection), "consent", "record_consent", "manifest.write")
    assert (
        "lacks manifest.write" in pins(connection)["scopes"]["why"]
    )  # the old token is older than the change
    assert setup.sign_in(again(connection)).outcome == "signed_in"
    test = setup.test(connection)
    assert test.passed, test.diagnosis
    made = f"TEST-{str(test.pk)[:8]}"
    assert f"made {made}" in test.rungs[-1]["says"]
    assert made not in setup.stand_ins.state()["manifests"]


def test_a_scope_is_dropped(setup: Setup) -> None:
    connection = setup.latched("manifest.read")
    connections.change(setup.by, connection, {"scopes": ["manifest.read", "customs.file"]})
    fixes.act(setup.by, again(connection), "scopes", "drop_scope", "customs.file")
    assert setup.test(connection).passed


def test_a_workload_that_needs_more_than_was_granted(setup: Setup) -> None:
    connection = setup.latched("manifest.read")
    workloads.use_connection(
        setup.by,
        again(connection),
        workloads.WorkloadFields("Berth board", kind="report", owner="Quay", runs="hourly"),
        ["GET /berths"],
    )
    found = asdict(full(again(connection)))
    assert found["workloads_of"][0]["lacks"] == ["berth.read"]
    test = setup.test(connection)
    assert test.rungs[-1]["rung"] == "allowed"
    assert "GET /berths needs berth.read" in test.rungs[-1]["says"]


def test_a_handover_is_shown_once_and_closed_for_good(setup: Setup) -> None:
    client = setup.client(setup.deployment(), "manifest.read")
    handover = Handover.objects.get(credential__client=client)
    credential, value = credentials.show(setup.by, handover)
    assert credential.hint == f"…{value[-4:]}"
    with refused_with("secret-shown-before") as refused:
        credentials.show(setup.by, handover)
    assert refused.value.status == 410
    assert credentials.close(setup.by, handover).closed


def test_a_wrong_secret_is_found_and_put_right(setup: Setup) -> None:
    connection = setup.latched()
    _, notes = connections.put_secret(setup.by, connection, " wrong-secret-of-another-client\n")
    assert notes == ["1 space cut from the start", "1 line break cut from the end"]
    assert pins(connection)["secret"]["fit"] == "differs"
    test = setup.test(connection)
    assert (test.diagnosis["code"], test.diagnosis["causes"][0]["pin"]) == (
        "invalid_client",
        "secret",
    )
    right = again(connection).client.credentials.filter(source="registered").get().open().reveal()
    connections.put_secret(setup.by, connection, f"“{right}”")
    assert setup.test(connection).passed
    assert pins(connection)["secret"]["fit"] == "fits"


def test_a_mirrored_client_is_proven_by_a_test(setup: Setup) -> None:
    """Staging registers nothing by protocol: the client is entered manually, its steps listed, and
    a test proves it.
    """
    deployment = setup.deployment("staging")
    fields = ClientMetadata(
        "Ferries by hand",
        (),
        redirect_uris=(),
        grants=("client_credentials",),
        scopes=frozenset({"manifest.read"}),
    )
    with refused_with("no-dynamic-registration"):
        clients.register(setup.by, deployment, fields)
    visitor = setup.visitor("staging")
    visitor.enter_office()
    client_id, secret = visitor.add_client(
        fields.name, [], ["manifest.read"], ["client_credentials"]
    )
    client = clients.prepare(setup.by, deployment, fields)
    client = clients.tick(setup.by, client, "scopes", True)
    client, notes = clients.enter_client_id(setup.by, client, f" {client_id}\n")
    assert client.state == "live"
    assert len(notes) == 2
    assert set(client.ticks) == {"scopes", "client_id"}
    scheme = deployment.application.read_profile().scheme(profiles.CLIENT)
    assert scheme is not None
    values = connections.defaults(deployment, scheme, client, "")
    connection, _ = connections.create(
        setup.by,
        deployment,
        "by-hand",
        profiles.CLIENT,
        client,
        values,
        ["manifest.read"],
        {"client_secret": secret},
    )
    assert pins(connection)["secret"]["fit"] == pins(connection)["client_id"]["fit"] == "not_proven"
    test = setup.test(connection)
    assert test.passed, test.diagnosis
    assert {pin["fit"] for pin in pins(connection).values()} <= {"fits", "not_asked"}


def test_a_grant_is_switched_on(setup: Setup) -> None:
    client = setup.client(setup.deployment(), "manifest.read", grants=("authorization_code",))
    connection = setup.connection(client, account=SERVICE)
    assert pins(connection)["grant"]["acts"][0]["key"] == "enable_grant"
    fixes.act(setup.by, again(connection), "grant", "enable_grant", "refresh_token")
    assert pins(connection)["grant"]["fit"] == "fits"
    assert "refresh_token" in clients.read_back(setup.by, again(connection).client).grants


def test_the_provider_refuses_and_nothing_is_kept(setup: Setup) -> None:
    deployment = setup.deployment()
    with refused_with("application-refused"):
        setup.client(deployment, "no.such.scope")
    assert not deployment.clients.exists()
    client = setup.client(deployment, "manifest.read")
    with refused_with("invalid-fields"):
        clients.change(setup.by, client, clients.with_uri("http://elsewhere.example/r"))
    with refused_with("application-refused"):
        clients.change(
            setup.by, client, lambda fields: replace(fields, scopes=frozenset({"no.such.scope"}))
        )
    client.refresh_from_db()
    assert client.scopes == ["manifest.read"]


def test_a_client_is_removed_at_the_provider_too(setup: Setup) -> None:
    """RFC 7592 §2.3; refused while a connection uses it."""
    client = setup.client(setup.deployment(), "manifest.read")
    connection = setup.connection(client)
    with refused_with("client-in-use"):
        clients.remove(setup.by, client)
    connections.remove(setup.by, connection)
    clients.remove(setup.by, client)
    assert client.client_id not in setup.stand_ins.state()["clients"]


def test_an_edit_of_identity_drops_the_tokens(setup: Setup) -> None:
    connection = setup.latched()
    connections.change(setup.by, connection, {"values": {"client_id": "another"}})
    assert again(connection).tokens is None
