"""Going to the application and back: everything that can come back, explained."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import pytest
import time_machine
from django.utils import timezone

from neatlatch.core.destinations import origin
from neatlatch.core.profiles import CLIENT
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.connections import set_aside, sign_in
from neatlatch.desk.estate.records.connections.models import Connection, SetAside, SignIn, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person
from tests.refused import refused_with

from .conftest import PERSON, SERVICE, URI, Setup
from .test_workbenches import send


def come_back(setup: Setup, back: str) -> SignIn | None:
    return sign_in.come_back(setup.by, back, parse_qs(urlsplit(back).query)["state"][0])


def ready(setup: Setup) -> Connection:
    return setup.connection(setup.client(setup.deployment(), "manifest.read"), account=SERVICE)


def test_signed_in_as_the_expected_account(setup: Setup) -> None:
    connection = ready(setup)
    done = setup.sign_in(connection)
    assert (done.outcome, done.says) == ("signed_in", f"Signed in as {SERVICE}.")
    tokens = TokenSet.objects.get(connection=connection)
    assert tokens.account == SERVICE
    assert tokens.granted == ["manifest.read"]
    assert tokens.ends is not None
    assert tokens.ends - tokens.obtained == timedelta(seconds=900)  # the stand-in's expires_in
    assert tokens.open_refresh()


def test_the_wrong_account(setup: Setup) -> None:
    done = setup.sign_in(ready(setup), PERSON)
    assert done.outcome == "wrong_account"
    assert f"{PERSON} signed in, but {SERVICE} was expected" in done.says


def test_what_works_stays_until_somebody_chooses(setup: Setup) -> None:
    """F8: the wrong account's tokens took the place of the working ones at once, and jobs acted as
    that person.
    """
    connection = setup.latched()
    working = TokenSet.objects.get()
    before, there = working.open_access().reveal(), setup.stand_ins.state()
    assert setup.sign_in(connection, PERSON).outcome == "wrong_account"
    held = TokenSet.objects.get()
    assert (held.account, held.open_access().reveal(), held.generation) == (
        SERVICE,
        before,
        working.generation,
    )
    assert setup.test(connection).passed
    web = setup.web("operator")
    told = send(web, "get", "/connections/sandbox/cargo")
    assert (told["set_aside"]["account"], told["set_aside"]["by"], told["state"]) == (
        PERSON,
        setup.by.username,
        "latched",
    )
    send(setup.web("reader"), "post", "/connections/sandbox/cargo/set-aside", {"use": True}, 403)
    # Ended: there, too.
    send(web, "post", "/connections/sandbox/cargo/set-aside", {"use": False})
    assert (TokenSet.objects.get().account, SetAside.objects.count()) == (SERVICE, 0)
    after = setup.stand_ins.state()
    assert (after["access"], after["refresh"]) == (there["access"], there["refresh"])
    send(web, "post", "/connections/sandbox/cargo/set-aside", {"use": False}, 409)


def test_the_other_account_is_chosen(setup: Setup) -> None:
    connection = setup.latched()
    setup.sign_in(connection, PERSON)
    send(setup.web(), "post", "/connections/sandbox/cargo/set-aside", {"use": True})
    held = TokenSet.objects.get()
    assert (held.account, SetAside.objects.count()) == (PERSON, 0)
    assert held.open_refresh().reveal()
    assert setup.test(connection).passed


def test_the_right_account_ends_what_was_set_aside(setup: Setup) -> None:
    connection, before = ready(setup), setup.stand_ins.state()["refresh"]
    assert setup.sign_in(connection, PERSON).outcome == "wrong_account"
    assert (TokenSet.objects.count(), SetAside.objects.count()) == (
        0,
        1,
    )  # no token was in use, and none is by it
    setup.sign_in(connection, PERSON)
    assert SetAside.objects.count() == 1
    assert setup.sign_in(connection).outcome == "signed_in"
    assert (TokenSet.objects.get().account, SetAside.objects.count()) == (SERVICE, 0)
    assert setup.stand_ins.state()["refresh"] == before + 1


def test_what_nobody_chooses_is_ended_after_a_day(setup: Setup) -> None:
    connection, before = ready(setup), setup.stand_ins.state()["refresh"]
    setup.sign_in(connection, PERSON)
    now = timezone.now()
    set_aside.let_go_of_old(now)
    assert SetAside.objects.count() == 1
    set_aside.let_go_of_old(now + timedelta(days=1, seconds=1))
    assert SetAside.objects.count() == 0
    assert setup.stand_ins.state()["refresh"] == before


def test_what_cannot_be_opened_holds_nothing_else_up(setup: Setup) -> None:
    first = ready(setup)
    other = setup.connection(first.client, name="other", account=SERVICE)  # type: ignore[arg-type]
    for item in (first, other):
        setup.sign_in(item, PERSON)
    SetAside.objects.filter(connection__ref="sandbox/cargo").update(tokens=b"broken")
    set_aside.let_go_of_old(timezone.now() + timedelta(days=1, seconds=1))
    assert SetAside.objects.count() == 0
    told = {
        entry.ref: entry.details["tokens revoked there"]
        for entry in Entry.objects.filter(did="discarded the tokens of")
    }
    assert told == {"sandbox/cargo": "no, the safe cannot open them", "sandbox/other": "yes"}


def test_one_of_two_who_choose_at_once_does(setup: Setup, monkeypatch: pytest.MonkeyPatch) -> None:
    connection = setup.latched()
    setup.sign_in(connection, PERSON)
    save_new = set_aside.tokens.save_new

    def meanwhile(*given: Any, **more: Any) -> TokenSet:
        with refused_with("nothing-set-aside"):
            set_aside.refuse(setup.by, connection)
        return save_new(*given, **more)

    monkeypatch.setattr(set_aside.tokens, "save_new", meanwhile)
    set_aside.use(setup.by, connection)
    assert (TokenSet.objects.get().account, SetAside.objects.count()) == (PERSON, 0)
    assert setup.test(connection).passed  # nobody ended them


def test_what_somebody_chooses_is_not_ended_by_the_right_account(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    setup.sign_in(connection, PERSON)
    save_new, ended = set_aside.tokens.save_new, list[str]()
    monkeypatch.setattr(set_aside.tokens, "revoke_these", lambda *_: ended.append("ended") or "yes")

    def meanwhile(*given: Any, **more: Any) -> TokenSet:
        monkeypatch.setattr(set_aside.tokens, "save_new", save_new)
        assert setup.sign_in(connection).outcome == "signed_in"
        return save_new(*given, **more)

    monkeypatch.setattr(set_aside.tokens, "save_new", meanwhile)
    set_aside.use(setup.by, connection)
    assert (TokenSet.objects.get().account, SetAside.objects.count(), ended) == (PERSON, 0, [])


def test_a_person_who_was_cut_off_while_choosing_chooses_again(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    setup.sign_in(connection, PERSON)

    def killed(*_: Any, **__: Any) -> TokenSet:
        raise KeyboardInterrupt

    with monkeypatch.context() as patch:
        patch.setattr(set_aside.tokens, "save_new", killed)
        with pytest.raises(KeyboardInterrupt):
            set_aside.use(setup.by, connection)
    with refused_with("nothing-set-aside"):
        set_aside.use(setup.by, connection)
    with time_machine.travel(timezone.now() + timedelta(minutes=2), tick=False):
        set_aside.use(setup.by, connection)
    assert TokenSet.objects.get().account == PERSON


def test_another_client_ends_what_was_set_aside(setup: Setup) -> None:
    connection = setup.latched()
    setup.sign_in(connection, PERSON)
    connections.choose_client(
        setup.by, connection, setup.client(connection.deployment, "manifest.read")
    )
    assert (TokenSet.objects.count(), SetAside.objects.count()) == (0, 0)


def test_what_was_set_aside_goes_where_it_was_cleared_for(setup: Setup) -> None:
    connection = setup.latched()
    setup.sign_in(connection, PERSON)
    cleared = SetAside.objects.get().sent_to
    assert origin(connection.values["api_base"]) in cleared
    SetAside.objects.update(sent_to=[cleared[0]])
    set_aside.use(setup.by, connection)
    assert TokenSet.objects.get().sent_to == [cleared[0]]


def test_denied(setup: Setup) -> None:
    connection = ready(setup)
    _, address = sign_in.begin(setup.by, connection, "")
    visitor = setup.visitor()
    page = visitor.web.get(address).text
    ticket = page.split("name=ticket value='")[1].split("'")[0]
    visitor.web.post(f"{visitor.screens}/choose", data={"ticket": ticket, "account": SERVICE})
    back = visitor.web.post(
        f"{visitor.screens}/answer", data={"ticket": ticket, "say": "no"}, follow_redirects=False
    ).headers["location"]
    done = come_back(setup, back)
    assert done is not None
    assert done.outcome == "denied"
    assert "The person said no" in done.says
    assert not TokenSet.objects.exists()


def test_an_expired_code(setup: Setup) -> None:
    connection = ready(setup)
    _, address = sign_in.begin(setup.by, connection, "")
    back = setup.visitor().sign_in(address, SERVICE)
    setup.stand_ins.age(120, "codes")
    done = come_back(setup, back)
    assert done is not None
    assert done.outcome == "failed"
    assert "The code has ended" in done.says
    assert "Sign in again" in done.says


def test_a_state_of_nobody_and_of_somebody_else(setup: Setup) -> None:
    connection = ready(setup)
    assert sign_in.come_back(setup.by, f"{URI}?code=x&state=forged", "forged") is None
    _, address = sign_in.begin(setup.by, connection, "")
    back = setup.visitor().sign_in(address, SERVICE)
    other = Person.objects.create_user("other", role="operator")
    assert sign_in.come_back(other, back, parse_qs(urlsplit(back).query)["state"][0]) is None
    assert not TokenSet.objects.exists()


@pytest.mark.parametrize("change", [{"iss": "https://evil.example"}, {"iss": None}])
def test_a_reply_of_another_issuer_is_dropped(setup: Setup, change: dict[str, str | None]) -> None:
    """RFC 9207 §2.4: the stand-in's metadata says that it always sends ``iss``."""
    connection = ready(setup)
    _, address = sign_in.begin(setup.by, connection, "")
    back = setup.visitor().sign_in(address, SERVICE)
    values = {
        key: value
        for key, value in (
            {k: v[0] for k, v in parse_qs(urlsplit(back).query).items()} | change
        ).items()
        if value is not None
    }
    done = come_back(setup, f"{URI}?{urlencode(values)}")
    assert done is not None
    assert done.outcome == "mismatch"
    assert not TokenSet.objects.exists()


def test_a_reply_serves_once(setup: Setup) -> None:
    connection = ready(setup)
    _, address = sign_in.begin(setup.by, connection, "")
    back = setup.visitor().sign_in(address, SERVICE)
    first, second = come_back(setup, back), come_back(setup, back)
    assert first is not None
    assert second is not None
    assert second.outcome == first.outcome == "signed_in"
    assert setup.stand_ins.state()["access"] >= 1
    assert TokenSet.objects.get().generation == 1


def test_a_sign_in_of_long_ago(setup: Setup) -> None:
    connection = ready(setup)
    _, address = sign_in.begin(setup.by, connection, "")
    back = setup.visitor().sign_in(address, SERVICE)
    with time_machine.travel(timezone.now() + timedelta(minutes=16)):
        done = come_back(setup, back)
    assert done is not None
    assert done.outcome == "expired"


def test_a_request_that_would_be_refused_is_told_before_anybody_is_sent(setup: Setup) -> None:
    connection = ready(setup)
    connections.change(setup.by, connection, {"values": {"redirect_uri": URI + "/"}})
    with refused_with("sign-in-would-be-refused") as refused:
        sign_in.begin(setup.by, Connection.objects.get(), "")
    assert "sent nobody back" in refused.value.detail
    connections.change(
        setup.by, connection, {"values": {"redirect_uri": URI}, "scopes": ["customs.file"]}
    )
    with refused_with("sign-in-would-be-refused"):
        sign_in.begin(setup.by, Connection.objects.get(), "")


@pytest.mark.parametrize("back", ["https://evil.example/", "//evil.example", "/\\evil.example"])
def test_the_page_to_come_back_to_is_ours(setup: Setup, back: str) -> None:
    connection = ready(setup)
    begun, _ = sign_in.begin(setup.by, connection, back)
    assert begun.back == f"/connections/{connection.ref}"


def test_nobody_signs_in_where_the_client_does(setup: Setup) -> None:
    client = setup.client(
        setup.deployment(), "manifest.read", grants=("client_credentials",), redirect_uris=()
    )
    with refused_with("scheme-has-no-sign-in"):
        sign_in.begin(setup.by, setup.connection(client, scheme=CLIENT), "")


def test_the_token_endpoint_does_not_answer(setup: Setup) -> None:
    connection = ready(setup)
    _, address = sign_in.begin(setup.by, connection, "")
    back = setup.visitor().sign_in(address, SERVICE)
    connection.values = {**connection.values, "token_endpoint": "https://localhost:9/token"}
    connection.save()
    done = come_back(setup, back)
    assert done is not None
    assert done.outcome == "failed"
    assert (
        "not cleared" in done.says or "would go to https://localhost:9" in done.says
    )  # the code and the secret stay here
    Credential.objects.update(
        sent_to=["https://localhost:9", origin(connection.values["api_base"])]
    )
    _, address = sign_in.begin(setup.by, connection, "")
    done = come_back(setup, setup.visitor().sign_in(address, SERVICE))
    assert done is not None
    assert done.outcome == "failed"
    assert "could not be reached" in done.says
