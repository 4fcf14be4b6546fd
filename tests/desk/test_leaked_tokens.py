"""Leaked tokens, of applications and of the house: recognised in whatever stood around them, ended,
and not kept.
"""

from __future__ import annotations

import json
import os
import ssl
from typing import Any

import httpx
from django.test import Client as WebClient

from neatlatch.desk.authority.house import rights
from neatlatch.desk.authority.records.house.models import Access, Grant
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, SetAside, TokenSet
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person

from .conftest import PERSON, SERVICE, Setup
from .houses import ASK, House


def post(web: WebClient, path: str, status: int = 200, **body: Any) -> Any:
    answer = web.post(f"/api{path}", json.dumps(body), content_type="application/json")
    assert answer.status_code == status, answer.content
    return answer.json()


def leaked(web: WebClient, text: str) -> dict[str, Any]:
    """What was recognised, without what was not."""
    return {key: found for key, found in post(web, "/leaks", text=text).items() if found}


def manifests(connection: Connection, token: str) -> int:
    trusted = httpx.Client(verify=ssl.create_default_context(cafile=os.environ["NEATLATCH_TRUST"]))
    return trusted.get(
        f"{connection.values['api_base']}/manifests", headers={"Authorization": f"Bearer {token}"}
    ).status_code


def test_tokens_that_a_connection_holds(setup: Setup) -> None:
    connection, web = setup.latched("manifest.read"), setup.web()
    tokens = TokenSet.objects.get()
    access, refresh = tokens.open_access().reveal(), tokens.open_refresh().reveal()
    found = leaked(web, f"GET /manifests\nAuthorization: Bearer {access}\n")
    assert list(found) == ["held"]
    [one] = found["held"]
    assert (one["ref"], one["refresh"], one["alive"], one["ends_there"]) == (
        "sandbox/cargo",
        False,
        True,
        True,
    )
    assert one["says"] == "anyone who has it gets in as this connection until it expires"
    assert one["after"] == "its workloads stop, until somebody signs in again"
    [one] = leaked(web, f"refresh_token={refresh}")["held"]
    assert (one["refresh"], one["ends"]) == (True, None)
    assert "and the client's secret too" in one["says"]  # RFC 6749 §6: this client is confidential
    assert len(leaked(web, f"{access} {refresh}")["held"]) == 2
    assert manifests(connection, access) == 200
    assert post(web, "/connections/sandbox/cargo/token-revocations", why="it leaked") == {
        "there": "yes"
    }
    assert manifests(connection, access) == 401
    assert not TokenSet.objects.exists()
    assert leaked(web, access) == {}
    assert (
        post(web, "/connections/sandbox/cargo/token-revocations", 409)["code"] == "holds-no-token"
    )
    entry = Entry.objects.get(did="ended the tokens of")
    assert (entry.ref, entry.details) == (
        "sandbox/cargo",
        {"why": "it leaked", "tokens revoked there": "yes"},
    )
    everything = json.dumps(list(Entry.objects.values()), default=str)
    assert access not in everything
    assert refresh not in everything
    assert (
        setup.web("operator")
        .post(
            "/api/connections/sandbox/cargo/token-revocations",
            "{}",
            content_type="application/json",
        )
        .status_code
        == 403
    )


def test_tokens_that_are_set_aside(setup: Setup) -> None:
    setup.latched("manifest.read")
    setup.sign_in(Connection.objects.get(), PERSON)
    kept, web = SetAside.objects.get().open_tokens(), setup.web()
    found = leaked(web, f"{kept['access_token']} {kept['refresh_token']}")["held"]
    assert [(item["ref"], item["refresh"], item["set_aside"], item["alive"]) for item in found] == [
        ("sandbox/cargo", False, True, True),
        ("sandbox/cargo", True, True, True),
    ]
    post(web, "/connections/sandbox/cargo/set-aside", use=False)
    assert leaked(web, kept["refresh_token"]) == {}
    assert TokenSet.objects.get().account == SERVICE


def test_where_the_application_ends_none_it_is_said(setup: Setup) -> None:
    connection, web = setup.latched("manifest.read"), setup.web()
    deployment = connection.deployment
    assert deployment.metadata is not None
    deployment.metadata.pop("revocation_endpoint")
    deployment.save(update_fields=["metadata"])
    access = TokenSet.objects.get().open_access().reveal()
    [one] = leaked(web, access)["held"]
    assert not one["ends_there"]
    assert "no address" in post(web, "/connections/sandbox/cargo/token-revocations")["there"]
    assert manifests(connection, access) == 200  # it lives on there, and that is what was said


def test_one_that_does_not_open_hides_no_other(setup: Setup) -> None:
    setup.latched("manifest.read", name="first")
    setup.latched("manifest.read", name="second")
    first, second = TokenSet.objects.order_by("pk")
    TokenSet.objects.filter(pk=first.pk).update(
        access=bytes(second.access)
    )  # moved to another's place
    assert [item["ref"] for item in leaked(setup.web(), second.open_access().reveal())["held"]] == [
        "sandbox/second"
    ]


def test_the_token_that_manages_a_registration(setup: Setup) -> None:
    from neatlatch.desk.ground.common import safe

    connection, web = setup.latched("manifest.read"), setup.web()
    client = connection.client
    assert client is not None
    assert client.management_token is not None
    [one] = leaked(web, safe.unseal(client.management_token, client.token_place).reveal())[
        "managing"
    ]
    assert (one["client"], one["house"]) == (client.name, False)
    assert web.delete(f"/api/clients/{client.pk}/management").status_code == 409


def test_a_refresh_token_of_the_house_and_all_that_came_of_it(house: House) -> None:
    client, secret = house.client()
    session, told = house.with_code(client, secret)
    renewed = session.refresh_token(f"{house.issuer}/token")
    found = leaked(
        house.web, told["refresh_token"]
    )  # an old one, which ends the family when it is shown again
    assert [
        (family["client"], family["person"], family["alive"], family["public"])
        for family in found["families"]
    ] == [("Quay board", "morag", True, False)]
    [one] = leaked(house.web, f'{{"refresh_token": "{renewed["refresh_token"]}"}}')["families"]
    assert not one["spent"]
    assert post(house.web, f"/house/grants/{one['id']}/revocations", why="it leaked") == {
        "ended": 2
    }
    assert Grant.objects.get().why == "it leaked"
    assert not Access.objects.filter(revoked=None).exists()
    again = ASK.post(
        f"{house.issuer}/token",
        data={"grant_type": "refresh_token", "refresh_token": renewed["refresh_token"]},
        auth=(client.client_id, secret),
    )
    assert again.json()["error"] == "invalid_grant"
    assert not leaked(house.web, renewed["refresh_token"])["families"][0]["alive"]
    assert (
        house.web.post(
            "/api/house/grants/00000000-0000-0000-0000-000000000000/revocations",
            "{}",
            content_type="application/json",
        ).status_code
        == 404
    )
    reader = WebClient()
    reader.force_login(
        Person.objects.create_user("ann", role="reader"),
        backend="django.contrib.auth.backends.ModelBackend",
    )
    assert (
        reader.post(
            f"/api/house/grants/{one['id']}/revocations", "{}", content_type="application/json"
        ).status_code
        == 403
    )


def test_a_management_token_of_the_house_is_taken_away(house: House) -> None:
    _, right = rights.give(house.by, house.deployment("fuel-ledger"), 1, 7)
    body = {"client_name": "Tally", "grant_types": ["client_credentials"], "scope": "ledger.read"}
    told = ASK.post(
        f"{house.issuer}/register", json=body, headers={"Authorization": f"Bearer {right}"}
    ).json()
    token = {"Authorization": f"Bearer {told['registration_access_token']}"}
    there = told["registration_client_uri"].replace("http://127.0.0.1:8600", house.base)
    assert ASK.get(there, headers=token).status_code == 200
    [one] = leaked(house.web, told["registration_access_token"])["managing"]
    assert (one["client"], one["house"]) == ("Tally", True)
    for _ in range(2):
        assert house.web.delete(f"/api/clients/{one['client_key']}/management").status_code == 204
    assert Entry.objects.filter(did="removed the management token of").count() == 1
    assert ASK.get(there, headers=token).status_code == 401
    assert leaked(house.web, told["registration_access_token"]) == {}
    assert Client.objects.filter(pk=one["client_key"]).exists()
