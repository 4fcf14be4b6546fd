"""Programs whose people connect accounts of their own: who is connected, and the signed link."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
import time_machine
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.desk.estate.connections import accounts
from neatlatch.desk.estate.records.connections.models import Account

from .conftest import SERVICE, Setup
from .test_accounts import connect, own, person
from .test_programs import Token
from .test_workbenches import fresh, send

__all__ = ["own"]
BACK = "https://tallies.gannet.example/connected?from=latch"
ASKED = {"person": "ewan", "application": "cargo-manifests", "environment": "sandbox"}


def token(setup: Setup, **more: Any) -> Token:
    return Token(setup, "test", return_addresses=[BACK], **more)


def status(asks: Token, **more: str) -> Any:
    words = "&".join(f"{name}={value}" for name, value in (ASKED | more).items())
    return asks.call("GET", f"/account-statuses?{words}")


def link(asks: Token, **more: str) -> Any:
    body = {"person": "ewan", "connection": "sandbox/cargo", "back": BACK, "state": "s 1&x"}
    return asks.call("POST", "/account-links", body | more)


def told(address: str) -> Any:
    signed = urlsplit(address).path.rpartition("/")[2]
    return WebClient().get(f"/api/links/accounts/{signed}")


def test_who_is_connected(own: Setup) -> None:
    asks = token(own)
    found = status(asks).json()
    assert (found["connected"], [entry["ref"] for entry in found["connections"]]) == (
        False,
        ["sandbox/cargo"],
    )
    connect(own, "ewan", SERVICE)
    found = status(asks).json()
    assert found["connected"] is True
    assert found["connections"][0]["account"] == SERVICE
    assert found["connections"][0]["renews"] is True
    assert status(asks, person="isla").json()["connected"] is False
    assert status(asks, person="nobody").status_code == 404
    assert status(asks, application="other").status_code == 404
    # Another account than the expected one does not count.
    accounts.ask(own.by, fresh(), person("ewan"), "another@gannet.example")
    found = status(asks).json()
    assert (found["connected"], found["connections"][0]["wrong"]) == (False, True)


def test_a_shared_connection_is_nobodys(setup: Setup) -> None:
    setup.latched()
    found = status(Token(setup, "read"), person="morag").json()
    assert (found["connected"], found["connections"]) == (False, [])


def test_a_signed_link_leads_through_the_sign_in_and_on(own: Setup) -> None:
    answer = link(token(own))
    assert answer.status_code == 201, answer.content
    assert answer["Cache-Control"] == "no-store"
    address = answer.json()["address"]
    asked = told(address).json()
    assert (asked["username"], asked["asked_by"], asked["connected_as"]) == (
        "ewan",
        "The program Nightly",
        "",
    )
    for name, said in (("goes_on_to", "yes"), ("goes_back_to", "no")):
        on = urlsplit(asked[name])
        assert on._replace(query="").geturl() == "https://tallies.gannet.example/connected"
        assert parse_qs(on.query) == {"from": ["latch"], "state": ["s 1&x"], "connected": [said]}
    connect(own, "ewan", SERVICE)
    assert told(address).json()["connected_as"] == SERVICE
    assert Account.objects.get(person=person("ewan")).asked_by == "program/Nightly"
    with time_machine.travel(timezone.now() + timedelta(minutes=16), tick=False):
        over = told(address)
    assert (over.status_code, over.json()["code"]) == (410, "link-ended")
    changed = told(address[:-1] + ("a" if address[-1] != "a" else "b"))
    assert (changed.status_code, changed.json()["code"]) == (404, "bad-link")


@pytest.mark.parametrize(
    "back",
    [
        "",
        "https://tallies.gannet.example/connected",
        f"{BACK}&more=1",
        BACK.upper(),
        "https://elsewhere.example/connected?from=latch",
        "javascript:alert(1)",
    ],
)
def test_nobody_is_sent_where_the_program_may_not(own: Setup, back: str) -> None:
    """RFC 9700 §2.1: compared as it stands."""
    answer = link(token(own), back=back)
    assert (answer.status_code, list(answer.json()["errors"])) == (422, ["back"])
    assert not Account.objects.exists()


def test_who_may_not_ask(own: Setup) -> None:
    reads = Token(own, "read", return_addresses=[BACK], name="Reader")
    assert link(reads).json()["code"] == "token-forbids"
    body = {"person": "ewan", "connection": "sandbox/cargo", "back": BACK}
    refused = send(own.web(), "post", "/account-links", body, status=403)
    assert refused["code"] == "program-required"
    elsewhere = token(own, environments=["staging"], name="Elsewhere")
    assert link(elsewhere).json()["code"] == "token-narrowed"
    assert status(elsewhere).json()["code"] == "token-narrowed"
    asks = token(own)
    assert "username" in link(asks, person="nobody").json()["errors"]
    assert link(asks, connection="sandbox/none").status_code == 404
    assert "state" in link(asks, state="é" * 300).json()["errors"]
    assert told(link(asks, state="é" * 100).json()["address"]).status_code == 200
    person("ewan").__class__.objects.filter(username="ewan").update(is_active=False)
    assert "username" in link(asks).json()["errors"]


@pytest.mark.parametrize(
    ("address", "good"),
    [
        (BACK, True),
        ("http://127.0.0.1:8080/back", True),
        ("http://tallies.gannet.example/back", False),
        ("https://tallies.gannet.example/#part", False),
        ("/back", False),
        ("javascript:alert(1)", False),
        ("https://" + "x" * 600, False),
    ],
)
def test_which_addresses_a_program_may_have(setup: Setup, address: str, good: bool) -> None:
    body = {
        "name": "Tallies",
        "environment": "sandbox",
        "rights": ["test"],
        "return_addresses": [address],
    }
    answer = send(setup.web(), "post", "/programs", body, status=201 if good else 422)
    if not good:
        assert list(answer["errors"]) == ["return_addresses"]
    else:
        (row,) = send(setup.web(), "get", "/programs")["items"]
        assert row["return_addresses"] == [address]
