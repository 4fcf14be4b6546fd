"""Logging in: passwords changed and given, sessions, recovery codes, passkeys, and counts of wrong
ones (security.md H5, H7, M8, M11).
"""

from __future__ import annotations

import io
import json
import sys
import threading
from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any

import pytest
import time_machine
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.cli import main
from neatlatch.core import totp
from neatlatch.core.jose import b64
from neatlatch.desk.ground.common.actors import NOBODY
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people import factors, log_in, passwords, services
from neatlatch.desk.ground.people.models import (
    Challenge,
    Passkey,
    Person,
    RecoveryCode,
    Session,
    Tries,
)
from tests.refused import refused_with

from .authenticator import Authenticator
from .conftest import PASSWORD, codes_of

OTHER = "tern-ballast-coracle"
AT = "http://localhost:8600"


def send(
    web: WebClient, address: str, body: Any = None, status: int = 200, method: str = "post"
) -> Any:
    answer = web.generic(
        method.upper(), f"/api{address}", json.dumps(body or {}), content_type="application/json"
    )
    assert answer.status_code == status, (answer.status_code, answer.content)
    return answer.json() if answer.content else None


def enter(
    password: str = PASSWORD,
    status: int = 200,
    username: str = "morag",
    address: str = "127.0.0.1",
    **more: str,
) -> Any:
    web = WebClient(
        REMOTE_ADDR=address, HTTP_USER_AGENT="Mozilla/5.0 (X11; Linux x86_64) Firefox/140.0"
    )
    told = send(web, "/session", {"username": username, "password": password, **more}, status)
    return web if status == 200 else told


@pytest.fixture
def morag(db: None, settings: Any) -> Person:
    settings.PUBLIC_URL = AT
    return Person.objects.create_user(
        "morag", password=PASSWORD, role="administrator", first_name="Morag"
    )


@pytest.fixture
def ann(morag: Person) -> WebClient:
    """Another administrator."""
    Person.objects.create_user("ann", password=PASSWORD, role="administrator", first_name="Ann")
    return enter(username="ann")


def says_of(web: WebClient) -> list[str]:
    return [notice["says"] for notice in web.get("/api/session").json()["notices"]]


# Passwords


def test_one_changes_ones_password_with_the_old_one(morag: Person) -> None:
    web, other = enter(), enter()
    assert send(web, "/session/passwords", {"password": "wrong", "new_password": OTHER}, 403)[
        "errors"
    ]["password"]
    for new, says in ((PASSWORD, "password you have"), ("short", "too short")):
        assert (
            says
            in send(web, "/session/passwords", {"password": PASSWORD, "new_password": new}, 422)[
                "errors"
            ]["new_password"]
        )
    assert (
        send(web, "/session/passwords", {"password": PASSWORD, "new_password": OTHER})["username"]
        == "morag"
    )
    assert web.get("/api/people").status_code == 200  # this session goes on, the others have ended
    assert other.get("/api/people").status_code == 401
    enter(PASSWORD, 401)
    enter(OTHER)
    assert Entry.objects.filter(did="changed their password").count() == 1


def test_where_there_is_a_second_factor_it_is_wanted_too(morag: Person) -> None:
    codes = codes_of(morag)
    web = enter(code=next(codes))
    assert (
        "code"
        in send(web, "/session/passwords", {"password": PASSWORD, "new_password": OTHER}, 403)[
            "errors"
        ]
    )
    send(
        web,
        "/session/passwords",
        {"password": PASSWORD, "new_password": OTHER, "code": next(codes)},
    )


def test_a_password_that_was_given_lets_in_only_with_a_new_one(
    morag: Person, ann: WebClient
) -> None:
    web = enter()
    send(ann, "/people/morag/passwords", {"password": "short"}, 422)
    assert send(ann, "/people/morag/passwords", {"password": OTHER})["must_change"]
    assert web.get("/api/people").status_code == 401
    assert "new_password" in enter(OTHER, 403)["errors"]
    assert "new_password" in enter(OTHER, 422, new_password=OTHER)["errors"]
    assert not Session.objects.filter(person=morag).exists()
    web = enter(OTHER, new_password="osprey-bollard-fathom")
    assert says_of(web) == [
        "Ann gave you a new password. If you did not ask for this, tell an administrator."
    ]
    enter("osprey-bollard-fathom")
    send(ann, "/people/ann/passwords", {"password": OTHER}, 409)


def test_a_person_who_is_added_chooses_another_password(ann: WebClient) -> None:
    added = send(ann, "/people", {"username": "iain", "role": "reader", "password": OTHER}, 201)
    assert added["must_change"]
    assert enter(OTHER, 403, "iain")["must_change"]


# Sessions


def test_ones_sessions_are_listed_and_ended(morag: Person) -> None:
    web, other, third = enter(), enter(address="203.0.113.9"), enter()
    listed = send(web, "/session/sessions", method="get")
    assert [session["here"] for session in listed].count(True) == 1
    assert {session["address"] for session in listed} == {"127.0.0.1", "203.0.113.9"}
    assert all(
        "Firefox/140.0" in session["browser"] and session["begun"] and session["seen"]
        for session in listed
    )
    far = next(session for session in listed if session["address"] == "203.0.113.9")
    for wrong in ("x" * 20, far["id"][:4], ""):
        assert web.delete(f"/api/session/sessions/{wrong}").status_code in (404, 405)
    send(web, f"/session/sessions/{far['id']}", status=204, method="delete")
    assert other.get("/api/people").status_code == 401
    assert third.get("/api/people").status_code == 200
    assert Entry.objects.get(did="ended a session of").details == {"from": "203.0.113.9"}
    send(web, "/session/log-outs")
    assert third.get("/api/people").status_code == 401
    assert len(send(web, "/session/sessions", method="get")) == 1
    assert send(web, "/session/log-outs?here=true")["username"] is None
    assert [entry.did for entry in Entry.objects.order_by("-pk")[:2]] == [
        "logged out everywhere",
        "logged out everywhere else",
    ]
    assert web.get("/api/people").status_code == 401


def test_somebody_elses_session_is_not_ended_by_its_name(morag: Person, ann: WebClient) -> None:
    enter()
    theirs = log_in.public_id(Session.objects.get(person=morag))
    assert ann.delete(f"/api/session/sessions/{theirs}").status_code == 404
    send(ann, "/people/morag/log-outs", status=204)
    assert not Session.objects.filter(person=morag).exists()
    assert says_of(enter()) == [
        "Ann logged you out everywhere. If you did not ask for this, tell an administrator."
    ]


def test_a_session_says_when_it_was_last_seen_without_writing_at_each_request(
    morag: Person,
) -> None:
    with time_machine.travel(
        datetime(2026, 11, 28, 9, tzinfo=timezone.get_current_timezone()), tick=False
    ) as clock:
        web = enter()
        clock.shift(300)
        web.get("/api/people")
        assert Session.objects.get().seen == timezone.now() - timedelta(seconds=300)
        clock.shift(400)
        web.get("/api/people")
        assert Session.objects.get().seen == timezone.now()
        clock.shift(13 * 3600)
        log_in.forget_old(timezone.now())
        assert not Session.objects.exists()


def test_what_an_administrator_does_to_a_role_is_told(morag: Person, ann: WebClient) -> None:
    enter()
    send(ann, "/people/morag", {"role": "reader"}, method="patch")
    assert not Session.objects.filter(person=morag).exists()
    assert says_of(enter())[0].startswith("Ann made you a reader.")


# Recovery codes


def begin_device(web: WebClient, **proof: str) -> list[str]:
    import base64

    begun = send(web, "/session/second-factors", proof or {"password": PASSWORD}, 201)
    secret = base64.b32decode(begun["secret"] + "=" * (-len(begun["secret"]) % 8))
    found: list[str] = send(
        web,
        "/session/second-factors/confirmations",
        {"code": totp.code(secret, timezone.now().timestamp())},
    )["recovery_codes"]
    return found


def test_ten_recovery_codes_each_serve_once(morag: Person) -> None:
    web = enter()
    codes = begin_device(web)
    assert len(set(codes)) == 10
    for code in codes:  # no code stands there
        assert not RecoveryCode.objects.filter(digest__contains=code.replace("-", "")).exists()
    enter(status=403, code="abcd-efgh-ijkl-mnop")
    again = enter(code=f" {codes[0].upper()} ")
    assert again.get("/api/session").json()["recovery_left"] == 9
    assert again.get("/api/session").json()["recovery_codes"] == []  # shown once
    enter(status=403, code=codes[0])
    # A lost device is replaced with one; what is stored opens to none.
    begin_device(again, code=codes[1])
    Person.objects.update(factor_since=timezone.now() - timedelta(days=3))
    with refused_with("second-factor-too-new"):
        factors.check(Person.objects.get(pk=morag.pk), codes[2], for_stored=True)
    assert again.get("/api/session").json()["recovery_left"] == 8
    made = send(again, "/session/recovery-codes", {"code": codes[3]})["recovery_codes"]
    assert len(made) == 10
    enter(status=403, code=codes[4])
    enter(code=made[0])


def test_without_a_factor_there_is_nothing_to_recover(morag: Person) -> None:
    web = enter()
    assert (
        send(web, "/session/recovery-codes", {"code": "x"}, 403)["code"] == "second-factor-required"
    )
    with refused_with("no-second-factor-to-recover"):
        factors.new_recovery(morag)
    codes = begin_device(web)
    send(web, "/session/second-factors/removals", {"code": codes[0]})
    assert not RecoveryCode.objects.exists()


# Passkeys


@pytest.fixture
def passkey() -> Authenticator:
    return Authenticator(AT)


def add(web: WebClient, passkey: Authenticator, status: int = 201, **proof: str) -> Any:
    options = send(web, "/session/passkeys/options", proof or {"password": PASSWORD}, 201)[
        "options"
    ]
    assert options["authenticatorSelection"]["userVerification"] == "required"
    return send(
        web,
        "/session/passkeys",
        {"credential": passkey.make(options), "name": "Harbour laptop"},
        status,
    )


def proof_of(passkey: Authenticator, web: WebClient, status: int = 201) -> Any:
    options = send(web, "/session/passkeys/challenges", status=201)["options"]
    assert options["userVerification"] == "required"
    told = send(web, "/session/passkeys/assertions", {"credential": passkey.sign(options)}, status)
    return told["code"] if status == 201 else told


def test_a_passkey_as_second_factor(morag: Person, passkey: Authenticator) -> None:
    web, other = enter(), enter()
    send(web, "/session/passkeys/challenges", status=409)
    assert (
        "password" in send(web, "/session/passkeys/options", {}, 403)["errors"]
    )  # a session alone is not enough
    told = add(web, passkey)
    assert (told["second_factor"], told["device"], [item["name"] for item in told["passkeys"]]) == (
        True,
        False,
        ["Harbour laptop"],
    )
    assert len(told["recovery_codes"]) == 10
    assert other.get("/api/people").status_code == 401  # sessions end with another factor
    refused = enter(status=403)
    assert (refused["device"], refused["passkey"]["rpId"]) == (False, "localhost")
    code = send(
        WebClient(),
        "/session/passkeys/assertions",
        {"credential": passkey.sign(refused["passkey"])},
        201,
    )["code"]
    web = enter(code=code)
    enter(status=403, code=code)  # once
    assert Passkey.objects.get().last_used is not None
    # Wherever a code is wanted it serves.
    send(
        web,
        "/session/passwords",
        {"password": PASSWORD, "new_password": OTHER, "code": proof_of(passkey, web)},
    )
    code = proof_of(passkey, web)
    with refused_with("second-factor-too-new"):
        factors.check(morag, code, for_stored=True)
    Passkey.objects.update(added=timezone.now() - timedelta(days=2))
    factors.check(morag, code, for_stored=True)
    identity = Passkey.objects.get().pk
    send(web, f"/session/passkeys/{identity}/removals", {"code": "000000"}, 403)
    send(web, f"/session/passkeys/{identity + 1}/removals", {"code": proof_of(passkey, web)}, 404)
    told = send(web, f"/session/passkeys/{identity}/removals", {"code": proof_of(passkey, web)})
    assert not told["second_factor"]
    assert not RecoveryCode.objects.exists()


@pytest.mark.parametrize(
    "how",
    [
        "another origin",
        "unverified",
        "replayed",
        "too late",
        "another challenge",
        "of another person",
        "garbage",
        "nested",
    ],
)
def test_what_is_no_passkeys_answer(
    morag: Person, ann: WebClient, passkey: Authenticator, how: str
) -> None:
    with time_machine.travel(timezone.now(), tick=False) as clock:
        web = enter()
        options = send(web, "/session/passkeys/options", {"password": PASSWORD}, 201)["options"]
        if how in ("another origin", "unverified"):
            odd = Authenticator(
                "https://elsewhere.example" if how == "another origin" else AT, how != "unverified"
            )
            assert (
                "passkey"
                in send(web, "/session/passkeys", {"credential": odd.make(options)}, 403)["errors"]
            )
            assert not Passkey.objects.exists()
            return
        send(web, "/session/passkeys", {"credential": passkey.make(options)}, 201)
        send(
            web, "/session/passkeys", {"credential": passkey.make(options)}, 403
        )  # each challenge serves once
        options = send(web, "/session/passkeys/challenges", status=201)["options"]
        answer, sender = passkey.sign(options), web
        if how == "replayed":
            send(web, "/session/passkeys/assertions", {"credential": answer}, 201)
        elif how == "too late":
            clock.shift(301)
        elif how == "another challenge":
            answer = passkey.sign({**options, "challenge": "AAAA"})
        elif how == "of another person":  # the code serves only the person who was asked
            code = send(web, "/session/passkeys/assertions", {"credential": answer}, 201)["code"]
            begin_device(ann)
            assert (
                "code"
                in send(ann, "/session/second-factors/removals", {"code": code}, 403)["errors"]
            )
            return
        elif how == "garbage":
            for wrong in (
                {},
                {"response": None},
                {"response": {"clientDataJSON": 5}},
                {"response": {"clientDataJSON": "@@"}},
                {"response": {"clientDataJSON": b64.encode(b'{"challenge": "\\ud800"}')}},
                {**answer, "response": {**answer["response"], "signature": "AA"}},
                {**answer, "id": "other"},
            ):
                assert send(sender, "/session/passkeys/assertions", {"credential": wrong}, 403)[
                    "errors"
                ]["passkey"]
            return
        elif how == "nested":
            answer = json.loads('{"response": {"clientDataJSON": ' + "[" * 500 + "]" * 500 + "}}")
        assert send(sender, "/session/passkeys/assertions", {"credential": answer}, 403)["errors"][
            "passkey"
        ]


def test_a_copy_of_a_passkey_is_noticed(morag: Person, passkey: Authenticator) -> None:
    """A count that does not rise is a copy's (Web Authentication Level 2 section 6.1.1)."""
    web = enter()
    add(web, passkey)
    proof_of(passkey, web)
    passkey.count = 1
    assert "checked" in proof_of(passkey, web, 403)["errors"]["passkey"]


def test_no_passkeys_on_an_ip_address(morag: Person, settings: Any) -> None:
    settings.PUBLIC_URL = "http://127.0.0.1:8600"
    web = enter()
    assert web.get("/api/session").json()["passkeys_at"] == ""
    assert (
        send(web, "/session/passkeys/options", {"password": PASSWORD}, 409)["code"]
        == "passkeys-need-a-name"
    )


def test_a_passkey_and_challenges_have_bounds(morag: Person, passkey: Authenticator) -> None:
    web = enter()
    add(web, passkey)
    for _ in range(30):
        send(web, "/session/passkeys/challenges", status=201)
    assert Challenge.objects.count() <= 20
    Passkey.objects.bulk_create(
        Passkey(
            person=morag, name="x", credential_id=f"x{number}", public_key=b"", added=timezone.now()
        )
        for number in range(9)
    )
    assert (
        send(web, "/session/passkeys/options", {"code": proof_of(passkey, web)}, 409)["code"]
        == "too-many-passkeys"
    )


def test_an_administrator_takes_away_every_lost_factor_and_the_person_is_told(
    morag: Person, ann: WebClient, passkey: Authenticator
) -> None:
    web = enter()
    add(web, passkey)
    begin_device(web, code=proof_of(passkey, web))
    send(ann, "/people/morag/second-factors", status=204, method="delete")
    assert not Passkey.objects.exists()
    told = says_of(enter())
    assert told == [
        (
            "Ann removed your second factor. Set up a new one. If you did not ask for this, "
            "tell an administrator."
        )
    ]


# Counts


@pytest.fixture
def clock() -> Iterator[Any]:
    with time_machine.travel(timezone.now(), tick=False) as found:
        yield found


def test_a_name_is_locked_at_one_address_only(morag: Person, clock: Any) -> None:
    for _ in range(5):
        enter("wrong", 401, address="203.0.113.1")
    refused = enter(PASSWORD, 429, address="203.0.113.1")
    assert refused["retry_after"] == 901
    enter(address="203.0.113.2")
    assert Entry.objects.filter(did="locked out").count() == 1
    assert not Entry.objects.filter(did="failed to log in").exists()
    clock.shift(900)
    enter(address="203.0.113.1")


def test_an_address_is_locked_whatever_names_it_tries(morag: Person, clock: Any) -> None:
    for number in range(30):
        enter("wrong", 401, username=f"n{number}", address="2001:db8::1")
    enter("wrong", 429, username="another", address="2001:db8::beef")  # the same network
    enter(PASSWORD, 429, address="2001:db8::1")
    enter(address="2001:db8:0:1::1")


def test_a_name_that_many_try_is_slowed_but_not_where_its_owner_was_before(
    morag: Person, clock: Any
) -> None:
    enter(address="198.51.100.7")
    for number in range(20):
        enter("wrong", 401, address=f"203.0.113.{number}")
    assert enter(PASSWORD, 429, address="192.0.2.1")["retry_after"] == 11
    enter(address="198.51.100.7")
    clock.shift(10)
    enter(address="192.0.2.1")
    assert Entry.objects.filter(did="slowed down").count() == 1
    log_in.forget_old(timezone.now() + timedelta(days=2))
    assert set(Tries.objects.values_list("known", flat=True)) == {True}
    log_in.forget_old(timezone.now() + timedelta(days=91))
    assert not Tries.objects.exists()


def test_names_are_kept_by_digest(morag: Person) -> None:
    enter("wrong", 401, username="my-password-by-mistake")
    assert not any("my-password" in tries.digest for tries in Tries.objects.all())
    assert not Entry.objects.filter(ref__contains="my-password").exists()


def test_at_most_two_passwords_are_hashed_at_once(
    morag: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    inside, most, may_go = [], [], threading.Event()

    def check(person: Person, password: str) -> bool:
        inside.append(1)
        most.append(len(inside))
        may_go.wait(60)
        inside.pop()
        return True

    monkeypatch.setattr(Person, "check_password", check)
    running = [threading.Thread(target=passwords.fits, args=(morag, "x")) for _ in range(2)]
    for thread in running:
        thread.start()
    while len(most) < 2:
        pass
    monkeypatch.setattr(passwords, "_PATIENCE", 0.01)
    with refused_with("log-in-busy"):
        passwords.fits(morag, "x")
    may_go.set()
    for thread in running:
        thread.join()
    assert max(most) == 2


# By command


def test_all_of_it_by_command(
    morag: Person,
    passkey: Authenticator,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    def run(*words: str, status: int = 0) -> str:
        assert main(["person", *words]) == status
        told = capsys.readouterr()
        return told.out if status == 0 else told.err

    monkeypatch.setenv("NLATCH_PASSWORD", OTHER)
    assert "an operator" in run("add", "iain", "--role", "operator", "--must-change")
    assert Person.objects.get(username="iain").must_change
    assert "login name already" in run("add", "iain", status=2)
    assert "iain" in run("list")
    web = enter()
    add(web, passkey)
    shown = run("show", "morag")
    assert "Harbour laptop" in shown
    assert "recovery codes left: 10" in shown
    session = log_in.public_id(Session.objects.get(person=morag))
    assert session in shown
    run("log-out", "morag", "--session", session)
    assert web.get("/api/people").status_code == 401
    codes = run("recovery-codes", "morag").split()
    assert len(codes) == 10
    web = enter(code=codes[0])
    assert any("The machine's operator" in say for say in says_of(web))
    run("drop-factor", "morag", "--passkey", str(Passkey.objects.get().pk))
    web = enter()
    run("log-out", "morag")
    assert web.get("/api/people").status_code == 401
    assert "last administrator" in run("change", "morag", "--role", "reader", status=2)
    assert "access off" in run("change", "iain", "--access", "off")
    run("password", "morag")
    assert "new_password" in enter(OTHER, 403)["errors"]
    begin_device(enter(OTHER, new_password=PASSWORD))
    run("drop-factor", "morag")
    assert not factors.has_any(Person.objects.get(username="morag"))
    assert "no second factor" in run("drop-factor", "morag", status=2)
    monkeypatch.delenv("NLATCH_PASSWORD")
    monkeypatch.setattr(
        sys, "stdin", io.StringIO(f"{OTHER}\nnot read\n")
    )  # a pipe, as scripts give it
    run("password", "iain")
    assert Person.objects.get(username="iain").check_password(OTHER)
    assert "no such person" in run("show", "nobody", status=2)
    assert set(Entry.objects.exclude(who="morag").values_list("who", flat=True)) == {
        "nobody",
        "the machine's operator",
    }


def test_reading_the_list_of_people_costs_the_same_however_many_have_passkeys(
    morag: Person, django_assert_num_queries: Any
) -> None:
    web = enter()
    for number in range(20):
        one = services.add(NOBODY, f"p{number}", "", "reader", OTHER)
        Passkey.objects.create(
            person=one, name="x", credential_id=f"x{number}", public_key=b"", added=timezone.now()
        )
    with django_assert_num_queries(3):
        told = web.get("/api/people").json()["items"]
    assert sum(item["second_factor"] for item in told) == 20
