"""Shared and individual: each person connects their own account, wrong ones are found, links ask,
and what a leaver had is seen to.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from django.test import Client as WebClient
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import names
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.connections import accounts, sign_in, tokens
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Account, Connection, SignIn, TokenSet
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.people.models import Person, Team
from neatlatch.desk.work.rounds import services as rounds

from .conftest import PASSWORD, PERSON, SERVICE, Setup
from .test_workbenches import fresh, send


@pytest.fixture
def own(setup: Setup) -> Setup:
    """A connection where the freight desk's people, Ewan and Isla, each connect an account of their
    own.
    """
    for username, first, last in (("ewan", "Ewan", "Tait"), ("isla", "Isla", "Rendall")):
        Person.objects.create_user(
            username, password=PASSWORD, role="reader", first_name=first, last_name=last
        )
    connection = setup.connection(setup.client(setup.deployment(), "manifest.read"))
    team = accounts.save_team(setup.by, "Freight desk", ["ewan", "isla"])
    accounts.share(setup.by, connection, True, team.name)
    return setup


def person(username: str) -> Person:
    return Person.objects.get(username=username)


def connect(setup: Setup, username: str, account: str) -> SignIn:
    """Somebody goes to the application, picks an account and comes back."""
    _, address = sign_in.begin(person(username), fresh(), "")
    back = setup.visitor().sign_in(address, account)
    done = sign_in.come_back(person(username), back, parse_qs(urlsplit(back).query)["state"][0])
    assert done is not None
    return done


def pin(key: str = "account") -> dict[str, Any]:
    from neatlatch.desk.pages.connections.shaping import full

    return next(item for item in asdict(full(fresh()))["pins"] if item["key"] == key)


def test_who_has_and_who_has_not(own: Setup) -> None:
    assert pin()["fit"] == "missing"
    assert connect(own, "ewan", SERVICE).says == f"Your account {SERVICE} is connected."
    web = own.web()
    found = send(web, "get", "/connections/sandbox/cargo/accounts")
    assert [(item["username"], item["account"]) for item in found["people"]] == [
        ("isla", ""),
        ("ewan", SERVICE),
    ]
    assert found["team"] == "Freight desk"
    assert found["people"][1]["ends"]
    assert pin()["why"] == "1 of 2 have not connected yet; for them it does not work."
    connect(own, "isla", PERSON)
    assert pin()["why"] == "Everybody has connected an account of their own."
    sealed = {
        token_set.person_id: token_set.open_access().reveal()
        for token_set in TokenSet.objects.all()
    }
    assert len(set(sealed.values())) == 2


def test_the_list_of_connections_follows(own: Setup) -> None:
    def glyph() -> Any:
        return send(own.web(), "get", "/connections")["items"][0]["glyph"]["says"]

    before = glyph()
    connect(own, "ewan", SERVICE)
    after = glyph()
    assert "signed-in account" in before
    assert "signed-in account" not in after


def test_a_wrong_account_is_not_kept_and_is_ended_there(own: Setup) -> None:
    accounts.ask(own.by, fresh(), person("ewan"), SERVICE)
    before = own.stand_ins.state()
    done = connect(own, "ewan", PERSON)
    assert done.outcome == "wrong_account"
    assert f"{PERSON} signed in, but your account is {SERVICE}" in done.says
    assert not TokenSet.objects.exists()
    after = own.stand_ins.state()
    assert (after["access"], after["refresh"]) == (
        before["access"],
        before["refresh"],
    )  # those it gave are ended there
    connect(own, "ewan", SERVICE)
    again = connect(own, "ewan", PERSON)  # what was connected before stays
    assert again.outcome == "wrong_account"
    assert TokenSet.objects.get().account == SERVICE
    stolen = connect(own, "isla", SERVICE)
    assert "is connected for Ewan Tait already" in stolen.says


def test_one_of_two_who_have_the_same_account_cannot_have_it_again(own: Setup) -> None:
    """What was noted before an application told whose an account is may be the same for two."""
    connect(own, "ewan", SERVICE)
    accounts.ask(own.by, fresh(), person("isla"), "")
    connect(own, "isla", PERSON)
    TokenSet.objects.filter(person=person("isla")).update(account=SERVICE)
    for name in ("ewan", "isla"):
        assert connect(own, name, SERVICE).outcome == "wrong_account"


def test_only_those_of_the_team_or_asked_may_connect(own: Setup) -> None:
    own.web("outsider")
    Person.objects.filter(username="outsider").update(role="reader")
    for username, status in (("ewan", 201), ("outsider", 403), ("administrator", 403)):
        send(
            own.web(username),
            "post",
            "/connections/sandbox/cargo/sign-ins",
            {"back": "/accounts"},
            status,
        )
    accounts.ask(own.by, fresh(), person("outsider"), "")
    send(own.web("outsider"), "post", "/connections/sandbox/cargo/sign-ins", {}, 201)


def test_the_page_of_ones_own_accounts(own: Setup) -> None:
    web = own.web("ewan")
    assert [(account["ref"], account["account"]) for account in send(web, "get", "/accounts")] == [
        ("sandbox/cargo", "")
    ]
    connect(own, "ewan", SERVICE)
    assert [(account["ref"], account["account"]) for account in send(web, "get", "/accounts")] == [
        ("sandbox/cargo", SERVICE)
    ]
    send(own.web("isla"), "delete", "/connections/sandbox/cargo/accounts/ewan", status=403)
    send(web, "delete", "/connections/sandbox/cargo/accounts/ewan")
    assert not TokenSet.objects.exists()
    assert send(own.web("administrator"), "get", "/accounts") == []


def test_a_signed_link_asks_a_person(own: Setup) -> None:
    found = send(
        own.web(),
        "post",
        "/connections/sandbox/cargo/accounts",
        {"username": "isla", "expected": PERSON},
    )
    link = next(item["link"] for item in found["people"] if item["username"] == "isla")
    token = link.rpartition("/")[2]
    seen = send(WebClient(), "get", f"/links/accounts/{token}")
    assert (seen["person"], seen["application"], seen["expected"], seen["serves"]) == (
        "Isla Rendall",
        "Cargo manifests",
        PERSON,
        True,
    )
    send(WebClient(), "get", f"/links/accounts/{token[:-1]}", status=404)
    # The link lets nobody in: connecting wants the person's own log-in.
    answer = WebClient().post(
        "/api/connections/sandbox/cargo/sign-ins", "{}", content_type="application/json"
    )
    assert answer.status_code == 401
    connect(own, "isla", PERSON)
    assert send(WebClient(), "get", f"/links/accounts/{token}")["connected_as"] == PERSON
    assert not any(
        item["link"]
        for item in send(own.web("reader"), "get", "/connections/sandbox/cargo/accounts")["people"]
    )


def test_a_test_takes_the_testers_own_tokens(own: Setup) -> None:
    connect(own, "ewan", SERVICE)
    connect(own, "isla", PERSON)
    assert tokens.whose_to_test(fresh(), "ewan") == person("ewan").pk
    assert tokens.whose_to_test(fresh(), "the round") == person("isla").pk
    done = rounds.run(rounds.begin_test(person("ewan"), fresh()))
    assert done.passed
    assert Connection.objects.get().state == "latched"


def test_changing_whose_account_it_is_ends_the_tokens(own: Setup) -> None:
    connect(own, "ewan", SERVICE)
    version = fresh().version
    send(
        own.web(),
        "put",
        "/connections/sandbox/cargo/sharing",
        {"individual": False, "team": ""},
        **{"If-Match": f'"{version}"'},
    )
    found = fresh()
    assert (found.individual, found.team, TokenSet.objects.count()) == (False, None, 0)
    send(
        own.web(),
        "put",
        "/connections/sandbox/cargo/sharing",
        {"individual": True, "team": "Nobody"},
        422,
        **{"If-Match": "*"},
    )


def test_teams_are_kept(own: Setup) -> None:
    web = own.web()
    made = send(web, "post", "/teams", {"name": "Quays", "people": ["ewan"]}, 201)
    send(web, "post", "/teams", {"name": "quays"}, 422)
    send(web, "put", f"/teams/{made['id']}", {"name": "Quays", "people": ["nobody"]}, 422)
    changed = send(
        web, "put", f"/teams/{made['id']}", {"name": "Quay side", "people": ["ewan", "isla"]}
    )
    assert [item["username"] for item in changed["people"]] == ["ewan", "isla"]
    send(web, "delete", f"/teams/{made['id']}", status=204)
    assert [item["name"] for item in send(web, "get", "/teams")["items"]] == ["Freight desk"]
    send(web, "delete", "/teams/99999", status=404)


def test_everything_of_a_leaver_on_one_page_with_the_acts(own: Setup) -> None:
    connect(own, "ewan", SERVICE)
    workloads.use_connection(
        own.by, fresh(), workloads.WorkloadFields("Night run", owner="E. Tait"), ["GET /manifests"]
    )
    workloads.use_connection(
        own.by,
        fresh(),
        workloads.WorkloadFields("Other run", owner="Freight desk"),
        ["GET /manifests"],
    )
    applications.change(own.by, Application.objects.get(), {"owner": "Ewan Tait"})
    Client.objects.update(contacts=["ewan@gannet.example", "desk@gannet.example"])
    web = own.web()
    found = send(web, "get", "/people/ewan/belongings")
    assert {(thing["what"], thing["act"]) for thing in found["things"]} == {
        ("account of their own", "disconnect"),
        ("job", "hand_over"),
        ("application", "hand_over"),
        ("contact", "hand_over"),
    }
    assert found["teams"] == ["Freight desk"]
    keys = [thing["key"] for thing in found["things"] if thing["act"] == "hand_over"]
    send(web, "post", "/people/ewan/ownership-transfers", {"to": "", "keys": keys}, 422)
    send(web, "post", "/people/ewan/ownership-transfers", {"to": "Ewan Tait", "keys": keys}, 422)
    send(
        web,
        "post",
        "/people/ewan/ownership-transfers",
        {"to": "Isla Rendall", "keys": ["workload:00000000-0000-0000-0000-000000000000"]},
        422,
    )
    left = send(
        web, "post", "/people/ewan/ownership-transfers", {"to": "Isla Rendall", "keys": keys}
    )
    assert [thing["what"] for thing in left["things"]] == ["account of their own"]
    assert (
        Workload.objects.get(name="Night run").owner_name
        == Application.objects.get().owner_name
        == "Isla Rendall"
    )
    assert Client.objects.get().contacts == ["Isla Rendall", "desk@gannet.example"]
    gone = send(web, "post", "/people/ewan/offboardings")
    assert (gone["active"], gone["things"]) == (False, [])
    assert not Account.objects.filter(person__username="ewan").exists()
    send(WebClient(), "post", "/session", {"username": "ewan", "password": PASSWORD}, 401)
    assert [
        item["username"]
        for item in send(web, "get", "/connections/sandbox/cargo/accounts")["people"]
    ] == ["isla"]
    assert Team.objects.get().people.count() == 2  # who they were stays written
    send(own.web("reader"), "post", "/people/isla/offboardings", status=403)
    send(web, "post", "/people/administrator/offboardings", status=409)


def test_a_shared_connection_signed_in_as_a_person_is_theirs_too(setup: Setup) -> None:
    setup.latched()
    setup.sign_in(fresh(), PERSON)
    send(setup.web(), "post", "/connections/sandbox/cargo/set-aside", {"use": True})
    Person.objects.create_user(
        "orr", password=PASSWORD, first_name="Morag", last_name="Orr", role="reader"
    )
    things = send(setup.web(), "get", "/people/orr/belongings")["things"]
    assert [(thing["what"], thing["act"]) for thing in things] == [("shared connection", "look")]
    assert PERSON in things[0]["says"]


@pytest.mark.parametrize(
    "text",
    [
        "Rowan Oake",
        "R. Oake",
        "r.oake",
        "rowan",
        "Oake, Rowan",
        "ROWAN OAKE",
        "r.oake@gannet.example",
        "oake r",
    ],
)
def test_ways_in_which_a_name_is_written(text: str) -> None:
    assert names.means(text, names.spellings("Rowan Oake", "rowan", ["r.oake@gannet.example"]))


@pytest.mark.parametrize(
    "text", ["", "Oake Street", "Ewan Oake", "rowans", "freight desk", "@gannet.example"]
)
def test_what_is_another_name(text: str) -> None:
    assert not names.means(text, names.spellings("Rowan Oake", "rowan"))


@given(st.text(max_size=30), st.text(max_size=30))
def test_nobody_is_meant_by_nothing(name: str, text: str) -> None:
    assert not names.means("", names.spellings(name, name))
    assert names.spellings(name, "x")
    assert isinstance(names.means(text, names.spellings(name, "x")), bool)
