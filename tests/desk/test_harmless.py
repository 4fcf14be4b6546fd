"""Rounds do no harm: the harmless call only, unless environment and connection permit real work;
never as a person.
"""

from __future__ import annotations

from typing import Any

import pytest
import yaml

from neatlatch.desk.estate.connections import accounts, tokens
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.ground.common.actors import CLOCK
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.work.drawing import services as drawing
from neatlatch.desk.work.inventory import services as inventory
from neatlatch.desk.work.rounds import services
from neatlatch.desk.work.rounds.models import Test
from tests.refused import refused_with

from .conftest import PERSON, SERVICE, Setup
from .test_accounts import connect, person
from .test_accounts import own as own
from .test_drawing import ask, noted, take
from .test_leftovers import connection as connection
from .test_workbenches import fresh, send


def in_a_round() -> Test:
    """Run one round over the one connection there is."""
    begun = services.begin_round(CLOCK)
    assert services.work_on(begun.number) == 1
    return Test.objects.get(round=begun)


def calls(test: Test, base: str) -> list[str]:
    """The methods of the calls below an address that a test has kept as evidence."""
    sent = [each for rung in test.rungs for each in rung["exchanges"]]
    return [each["method"] for each in sent if each["url"].startswith(base)]


def rung(test: Test, name: str) -> dict[str, Any]:
    return next(item for item in test.rungs if item["rung"] == name)


@pytest.mark.parametrize(
    ("environment", "itself", "sent"),
    [
        (False, False, ["GET"]),
        (True, False, ["GET"]),
        (False, True, ["GET"]),
        (True, True, ["GET", "PUT", "GET", "DELETE"]),
    ],
)
def test_real_work_wants_both_permissions(
    setup: Setup, connection: Connection, environment: bool, itself: bool, sent: list[str]
) -> None:
    web, base = setup.web(), connection.values["api_base"]
    send(web, "put", "/rounds/permissions/sandbox", {"permitted": environment})
    send(
        web, "patch", "/connections/sandbox/cargo", {"work_in_rounds": itself}, **{"If-Match": "*"}
    )
    test = in_a_round()
    assert test.passed
    assert calls(test, base) == sent
    assert rung(test, "work")["skipped"] is not (environment and itself)
    # By hand the same connection is tested to the end.
    assert calls(setup.test(fresh()), base) == ["GET", "PUT", "GET", "DELETE"]


def test_permissions_are_kept_and_stand_in_the_journal(setup: Setup) -> None:
    web = setup.web()
    told = send(web, "get", "/rounds/permissions")
    assert {
        environment["environment"]["key"]: environment["permitted"]
        for environment in told["environments"]
    }["production"] is False
    send(web, "put", "/rounds/permissions/production", {"permitted": True})
    send(
        web, "put", "/rounds/permissions/production", {"permitted": True}
    )  # nothing more is written
    assert Environment.objects.get(key="production").work_in_rounds
    assert list(Entry.objects.filter(noun="environment").values_list("did", flat=True)) == [
        "permitted real work in rounds of"
    ]
    send(web, "put", "/rounds/permissions/nowhere", {"permitted": True}, 404)
    send(setup.web("operator"), "put", "/rounds/permissions/sandbox", {"permitted": True}, 403)


def test_a_harmless_pass_does_not_mend_work_that_failed(
    setup: Setup, connection: Connection
) -> None:
    application = connection.deployment.application
    good = application.profile
    application.profile = {**good, "probe": {**good["probe"], "look_path": "/nothing-like-it"}}
    application.save()
    send(setup.web(), "put", "/rounds/permissions/sandbox", {"permitted": False})
    assert setup.test(connection).passed is False
    before = fresh()
    assert (before.state, before.failed_rung) == ("unlatched", "work")
    for _ in range(4):
        assert in_a_round().passed
    after = fresh()
    assert (after.state, after.score, after.failing) == ("unlatched", before.score, before.failing)
    assert send(setup.web(), "get", "/connections/sandbox/cargo")["rounds_try_what_failed"] is False
    application.profile = good
    application.save()
    states = [(setup.test(fresh()), fresh().state)[1] for _ in range(3)]
    assert states == ["sticking", "sticking", "latched"]
    assert send(setup.web(), "get", "/connections/sandbox/cargo")["rounds_try_what_failed"] is True


def test_how_many_passes_are_wanted_is_told(setup: Setup) -> None:
    connection = setup.latched()
    Connection.objects.filter(pk=connection.pk).update(state="unlatched", score=9.0)
    setup.test(connection)
    told = send(setup.web(), "get", "/connections/sandbox/cargo")
    assert (told["state"], told["passes"], told["passes_wanted"]) == ("sticking", 1, 3)


@pytest.mark.parametrize("how", ["round", "hand"])
def test_a_persons_account_only_signs_in(own: Setup, how: str) -> None:
    Environment.objects.update(work_in_rounds=True)
    Connection.objects.update(work_in_rounds=True)
    connect(own, "ewan", SERVICE)
    connect(own, "isla", PERSON)
    test = (
        in_a_round()
        if how == "round"
        else services.run(services.begin_test(person("ewan"), fresh()))
    )
    assert test.passed
    assert calls(test, fresh().values["api_base"]) == []
    assert (rung(test, "allowed")["skipped"], rung(test, "work")["skipped"]) == (True, True)
    assert fresh().state == "latched"
    whose = "isla" if how == "round" else "ewan"
    assert test.person == person(whose)
    # It is said to anyone who's account it is, and to nobody else.
    by = "the schedule" if how == "round" else "ewan"
    assert [
        (test["connection"], test["begun_by"])
        for test in send(own.web(whose), "get", "/accounts/tests")
    ] == [("sandbox/cargo", by)]
    other = {"isla": "ewan", "ewan": "isla"}[whose]
    assert send(own.web(other), "get", "/accounts/tests") == []
    assert "makes nothing" in send(own.web(whose), "get", "/accounts")[0]["tests_do"]


def for_tests(setup: Setup, account: str) -> dict[str, Any]:
    """An administrator signs in as the service account for tests; returns how that went."""
    from urllib.parse import parse_qs, urlsplit

    from neatlatch.desk.estate.connections import sign_in

    web = setup.web()
    begun = send(web, "post", "/connections/sandbox/cargo/sign-ins", {"for_tests": True}, 201)
    back = setup.visitor().sign_in(begun["address"], account)
    done = sign_in.come_back(
        person("administrator"), back, parse_qs(urlsplit(back).query)["state"][0]
    )
    assert done is not None
    return {"outcome": done.outcome, "says": done.says}


def named(setup: Setup, account: str, status: int = 200) -> dict[str, Any]:
    """The service account that tests use is named."""
    body = {"individual": True, "tests_as": account}
    return dict(
        send(
            setup.web(),
            "put",
            "/connections/sandbox/cargo/sharing",
            body,
            status,
            **{"If-Match": "*"},
        )
    )


def test_a_service_account_for_tests(own: Setup) -> None:
    connect(own, "ewan", PERSON)
    send(own.web(), "post", "/connections/sandbox/cargo/sign-ins", {"for_tests": True}, 409)
    named(own, PERSON, 422)  # it is Ewan's
    named(own, SERVICE)
    assert services.limits_of_tests(fresh()).personal  # nobody has signed in as it yet
    before = own.stand_ins.state()
    wrong = for_tests(own, PERSON)
    assert (wrong["outcome"], TokenSet.objects.filter(person=None).exists()) == (
        "wrong_account",
        False,
    )
    after = own.stand_ins.state()
    assert (after["access"], after["refresh"]) == (
        before["access"],
        before["refresh"],
    )  # ended there
    assert for_tests(own, SERVICE)["outcome"] == "signed_in"
    test = in_a_round()
    assert (test.passed, test.person, calls(test, fresh().values["api_base"])) == (
        True,
        None,
        ["GET"],
    )
    assert tokens.whose_to_test(fresh(), "ewan") is None
    assert SERVICE in send(own.web("ewan"), "get", "/accounts")[0]["tests_do"]
    with pytest.raises(Exception, match="no person's"):
        accounts.ask(own.by, fresh(), person("isla"), SERVICE)
    # The tokens are for tests only: people have their own, and are counted apart.
    told = send(own.web(), "get", "/connections/sandbox/cargo/accounts")
    assert [(item["username"], item["account"]) for item in told["people"]] == [
        ("isla", ""),
        ("ewan", PERSON),
    ]
    assert (told["tests_as"], told["tests_signed_in_at"] is not None) == (SERVICE, True)
    # Named no longer: its tokens are ended, there too, and tests sign in as a person again.
    held = own.stand_ins.state()
    named(own, "")
    assert not TokenSet.objects.filter(person=None).exists()
    assert own.stand_ins.state()["refresh"] < held["refresh"]
    assert TokenSet.objects.get().account == PERSON
    assert in_a_round().person == person("ewan")


def test_a_file_that_names_another_account_for_tests(own: Setup) -> None:
    connect(own, "ewan", PERSON)
    named(own, SERVICE)
    assert for_tests(own, SERVICE)["outcome"] == "signed_in"
    held, file = own.stand_ins.state()["refresh"], yaml.safe_load(inventory.export(own.by))
    file["connections"]["sandbox/cargo"]["tests_as"] = PERSON
    with refused_with("inventory-mistakes") as refused:
        inventory.apply(own.by, yaml.safe_dump(file))
    assert "in a person's name" in refused.value.detail
    file["connections"]["sandbox/cargo"]["tests_as"] = "other@gannet.example"
    inventory.apply(own.by, yaml.safe_dump(file))
    assert not TokenSet.objects.filter(person=None).exists()
    assert own.stand_ins.state()["refresh"] == held - 1
    assert Entry.objects.get(did="ended the tokens for tests of").details == {
        "tokens revoked there": "yes"
    }
    assert TokenSet.objects.get().account == PERSON


def test_ending_the_tokens_for_tests_leaves_those_of_people(own: Setup) -> None:
    connect(own, "ewan", PERSON)
    named(own, SERVICE)
    for_tests(own, SERVICE)
    held = own.stand_ins.state()["refresh"]
    send(own.web(), "post", "/connections/sandbox/cargo/token-revocations", {"why": "it leaked"})
    assert own.stand_ins.state()["refresh"] == held - 1
    assert (TokenSet.objects.get().account, in_a_round().passed) == (PERSON, True)


def test_a_workload_tests_as_far_as_a_round(setup: Setup, connection: Connection) -> None:
    workload = noted(setup, connection)
    _, handover = drawing.give(setup.by, workload, "key", right="draw")
    key, base = take(setup, handover), connection.values["api_base"]
    for permitted, sent in ((False, ["GET"]), (True, ["GET", "PUT", "GET", "DELETE"])):
        Environment.objects.update(work_in_rounds=permitted)
        Connection.objects.update(work_in_rounds=permitted)
        assert ask(key, "/draw/cargo/tests", "post").json()["passed"]
        assert calls(Test.objects.latest("made"), base) == sent


def test_operators_sign_in_for_tests_and_readers_do_not(own: Setup) -> None:
    named(own, SERVICE)
    send(
        own.web("operator"), "post", "/connections/sandbox/cargo/sign-ins", {"for_tests": True}, 201
    )
    send(own.web("ewan"), "post", "/connections/sandbox/cargo/sign-ins", {"for_tests": True}, 403)
