"""Drawing a connection, and sending requests through it."""

from __future__ import annotations

import base64
import hashlib
import json
import os
import threading
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import pytest
from django.db import connection as database
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from neatlatch.core.drawn import WORDS, hands_out
from neatlatch.core.oauth2 import Request
from neatlatch.core.schemes import API_KEY, BASIC, CERTIFICATE, CODE, OAUTH1
from neatlatch.core.sending import Credentials, with_credential
from neatlatch.desk.authority.house import issuing, tokens
from neatlatch.desk.authority.records.house.models import RejectedRequest
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.connections import destinations
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.connections import tokens as held_tokens
from neatlatch.desk.estate.credentials.services import close, show
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common import owner, shares
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.drawing import ledger, quick, relay, services
from neatlatch.desk.work.drawing.models import Drawn
from neatlatch.wire import repeating
from neatlatch.wire.transport import HttpReply, StreamedReply, Transport
from tests.refused import refused_with
from tests.watch import Watch

from .conftest import Setup, codes_of


def take(setup: Setup, handover: Any) -> str:
    _, value = show(setup.by, handover)
    close(setup.by, handover)
    return value


def noted(
    setup: Setup,
    connection: Connection,
    name: str = "Night run",
    operations: Sequence[str] = ("GET /manifests",),
) -> Workload:
    workloads.use_connection(
        setup.by,
        connection,
        workloads.WorkloadFields(name, "", "job", "Freight", "daily"),
        list(operations),
    )
    return Workload.objects.select_related("environment").get(name=name)


@pytest.fixture
def drawn(setup: Setup) -> tuple[Setup, Connection, Workload, str]:
    """A connection that works, a workload of it, and the workload's key that may relay too."""
    connection = setup.latched("manifest.read")
    workload = noted(setup, connection)
    _, handover = services.give(setup.by, workload, "key", right="draw")
    return setup, connection, workload, take(setup, handover)


def ask(key: str, path: str, method: str = "get", **more: Any) -> Any:
    headers = {"Authorization": f"Bearer {key}", **more.pop("headers", {})}
    return getattr(WebClient(), method)(path, headers=headers, **more)


def test_a_workload_takes_a_ready_header_by_reference_name(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    setup, connection, workload, key = drawn
    answer = ask(key, "/draw/cargo")
    assert answer.status_code == 200, answer.content
    assert answer["Cache-Control"] == "no-store"
    told = answer.json()
    assert told["seconds"] > 600
    trusted = httpx.Client(verify=_context())
    assert trusted.get(f"{told['base']}/manifests", headers=told["headers"]).status_code == 200
    lines = ask(key, "/draw/cargo", headers={"Accept": "text/plain"}).content.decode()
    assert lines == f"Authorization: {told['headers']['Authorization']}\n"
    listed = ask(key, "/draw").json()
    assert (listed["workload"], [connection["ref"] for connection in listed["connections"]]) == (
        "Night run",
        ["sandbox/cargo"],
    )
    [fact] = Drawn.objects.all()
    assert (fact.workload, fact.connection, fact.count, fact.way) == (
        workload.pk,
        connection.pk,
        2,
        "draw",
    )
    held = Connection.objects.get(ref="sandbox/cargo").credential
    assert held is not None
    assert fact.credential == str(held.pk)
    shown = setup.web().get("/api/connections/sandbox/cargo/draws").json()
    assert (shown[0]["workload_name"], shown[0]["today"], len(shown[0]["secrets"])) == (
        "Night run",
        2,
        1,
    )
    assert (
        setup.web().get(f"/api/workloads/{workload.pk}/draws").json()[0]["ref"] == "sandbox/cargo"
    )
    lines = {
        item["language"]: item["text"]
        for item in setup.web().get("/api/connections/sandbox/cargo/snippets").json()
    }
    assert "/relay/cargo/manifests" in lines["curl"]
    assert key not in json.dumps(lines)


def _context() -> Any:
    import ssl

    return ssl.create_default_context(cafile=os.environ["NEATLATCH_TRUST"])


def test_client_credentials_draw_too(drawn: tuple[Setup, Connection, Workload, str]) -> None:
    setup, _, workload, _ = drawn
    client, handover = services.give(setup.by, workload, "client", right="draw")
    take(setup, handover)
    client = Client.objects.select_related(
        "deployment__application", "deployment__environment"
    ).get(pk=client.pk)
    token = tokens.give(
        client, Credential.objects.get(client=client), {"grant_type": "client_credentials"}
    )["access_token"]
    assert ask(token, "/draw/cargo").status_code == 200
    assert ask(token, "/relay/cargo/manifests").status_code == 200
    issuing.revoke_tokens(setup.by, client, "a test")
    assert ask(token, "/draw/cargo").status_code == 401


def test_who_may_not_draw(drawn: tuple[Setup, Connection, Workload, str]) -> None:
    setup, connection, workload, key = drawn
    wrong = key[:-1] + ("A" if key[-1] != "A" else "B")
    bodies = set()
    other, other_key = issuing.register(
        setup.by,
        _accepting(connection),
        issuing.ClientMetadata("Other", scopes=frozenset()),
        "bearer",
    )
    assert other_key is not None
    for shown, logged in (
        (wrong, "key mistyped"),
        (key[:20], "key cut"),
        ("", "no key"),
        ("s3cret", "key unknown"),
        (take(setup, other_key), "key for another application"),
    ):
        answer = ask(shown, "/draw/cargo")
        assert answer.status_code == 401
        assert answer["WWW-Authenticate"].startswith("Bearer")
        bodies.add(answer.content)
        assert RejectedRequest.objects.first().what == logged  # type: ignore[union-attr]
    assert len(bodies) == 1
    assert (
        ask(key, "/draw/other").status_code == ask(key, "/draw/cargo-manifests").status_code == 404
    )
    workloads.stop_using(setup.by, workload.uses.get())
    assert ask(key, "/draw/cargo").status_code == 404
    Client.objects.filter(workload=workload).update(allow_list=["203.0.113.0/24"])
    assert ask(key, "/draw").status_code == 401
    Client.objects.filter(workload=workload).update(allow_list=["127.0.0.0/8"])
    assert ask(key, "/draw").status_code == 200
    assert (
        setup.web()
        .delete(f"/api/workloads/{workload.pk}/keys/{Client.objects.get(workload=workload).pk}")
        .status_code
        == 204
    )
    assert ask(key, "/draw").status_code == 401


def _accepting(connection: Connection) -> Any:
    connection.deployment.house = True
    connection.deployment.save()
    return connection.deployment


def test_the_relay_adds_the_credential_and_keeps_to_the_api(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    _, _, _, key = drawn
    answer = ask(key, "/relay/cargo/manifests?x=1")
    assert answer.status_code == 200, answer.content
    assert "manifests" in answer.json()
    assert answer["Neat-Latch-Tries"] == "1"
    assert "sandbox" in answer["Content-Security-Policy"]
    for address in (
        "/relay/cargo",
        "/relay/cargo/",
    ):  # the base itself, where this application has nothing
        assert (ask(key, address).status_code, ask(key, address)["Neat-Latch-Tries"]) == (404, "1")
    assert ask(key, "/relay/cargo//manifests").status_code == 200
    for size in (3, 9):  # above ours, and above Django's own limit
        assert (
            ask(
                key,
                "/relay/cargo/manifests/T-1",
                "put",
                data=b"x" * (size << 20),
                content_type="text/plain",
            ).json()["code"]
            == "too-large"
        )
    refused = ask(
        key,
        "/relay/cargo/manifests/T-1",
        "put",
        data='{"ship": "a", "sailing": "b"}',
        content_type="application/json",
    )
    assert refused.status_code == 403  # the application says so: the scope was not granted
    for path in ("/relay/cargo/%2e%2e/office", "/relay/cargo/%252e%252e/token"):
        assert ask(key, path).status_code == 422


def test_only_methods_of_applications_are_relayed_and_no_browser_keeps_an_answer(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    """L3, L4."""
    _, _, _, key = drawn
    for method in ("TRACE", "CONNECT", "PROPFIND"):
        refused = WebClient().generic(
            method, "/relay/cargo/manifests", headers={"Authorization": f"Bearer {key}"}
        )
        assert (refused.status_code, refused["Content-Type"]) == (
            405,
            "application/problem+json",
        ), method
    answer = ask(
        key,
        "/relay/cargo/manifests",
        headers={"Connection": "close", "X-HTTP-Method-Override": "DELETE"},
    )
    assert (answer.status_code, answer["Cache-Control"]) == (200, "private, no-store")
    assert "Access-Control-Allow-Origin" not in answer


def test_a_key_refused_by_its_allow_list_was_not_used(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    """L5."""
    _, _, workload, key = drawn
    Client.objects.filter(workload=workload).update(allow_list=["203.0.113.0/24"])
    for path in ("/draw/cargo", "/relay/cargo/manifests"):
        assert ask(key, path).status_code == 401
    held = Credential.objects.get(client__workload=workload, kind="token")
    assert (held.last_used, held.last_used_from) == (None, "")
    Client.objects.filter(workload=workload).update(allow_list=["127.0.0.0/8"])
    assert ask(key, "/draw/cargo").status_code == 200
    assert Credential.objects.get(pk=held.pk).last_used is not None


def test_a_token_that_ends_in_the_middle_of_a_run(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    setup, connection, _, key = drawn
    assert ask(key, "/relay/cargo/manifests").status_code == 200
    issued = setup.stand_ins.calls("issued:refresh_token")
    setup.stand_ins.age(2000, "access")  # over there they have ended; here they look alive
    ends = TokenSet.objects.get(connection=connection).ends
    assert ends is not None
    assert ends > timezone.now()
    unsafe = ask(
        key,
        "/relay/cargo/manifests/T-1/customs",
        "post",
        data="{}",
        content_type="application/json",
    )
    assert unsafe.status_code == 401  # a POST is not repeated (RFC 9110 §9.2.2)
    answer = ask(key, "/relay/cargo/manifests")
    assert (answer.status_code, answer["Neat-Latch-Tries"]) == (200, "2")
    assert setup.stand_ins.calls("issued:refresh_token") == issued + 1


def test_a_token_renewed_by_another_while_one_took_the_old_one(
    drawn: tuple[Setup, Connection, Workload, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """What one sent is what was refused: the newer token that another asker got meanwhile is taken,
    and not renewed once more.
    """
    setup, connection, _, _ = drawn
    real = held_tokens.live

    def slowly(asked: Connection) -> held_tokens.HeldToken | None:
        held = real(asked)
        setup.stand_ins.age(2000, "access")
        with destinations.transport_of(asked, 30.0) as way:
            held_tokens.hold(asked, way, force=True)
        return held

    monkeypatch.setattr(held_tokens, "live", slowly)
    before = setup.stand_ins.calls("issued:refresh_token")
    relayed = relay.Relay(
        connection, relay.RelayRequest("GET", f"{connection.values['api_base']}/manifests", (), b"")
    ).run()
    assert (relayed.status, relayed.tries, relayed.renewed) == (200, 2, True)
    assert setup.stand_ins.calls("issued:refresh_token") == before + 1


def test_blips_are_repeated_where_that_is_safe(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    setup, _, _, key = drawn
    setup.stand_ins.fault("unavailable", where="api", count=2)
    answer = ask(key, "/relay/cargo/manifests")
    assert (answer.status_code, answer["Neat-Latch-Tries"]) == (200, "3")


def test_the_relay_keeps_the_pace_of_two_callers_that_take_turns(
    drawn: tuple[Setup, Connection, Workload, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Twenty calls at two a second, two of them at once: nine seconds, whatever else has another
    pace of its own.
    """
    setup, connection, workload, key = drawn
    Connection.objects.filter(pk=connection.pk).update(pace=2.0)
    _, handover = services.give(setup.by, workload, "key", right="draw")
    slower = take(setup, handover)
    newest = Client.objects.filter(workload=workload).order_by("-created")[0]
    Client.objects.filter(pk=newest.pk).update(pace=1.9)
    watch = Watch()
    monkeypatch.setattr(relay, "time", watch)
    monkeypatch.setattr(shares, "sleep", watch.later)
    for number in range(20):
        assert ask((key, slower)[number % 2], "/relay/cargo/manifests").status_code == 200
    assert watch.waited == pytest.approx(9.0, abs=0.6)


def test_too_long_a_wait_for_the_pace_is_refused_and_takes_nothing(
    drawn: tuple[Setup, Connection, Workload, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    _, connection, _, key = drawn
    Connection.objects.filter(pk=connection.pk).update(pace=0.1, time_limit=5)
    watch = Watch()
    monkeypatch.setattr(relay, "time", watch)
    assert ask(key, "/relay/cargo/manifests").status_code == 200
    for _ in range(3):
        refused = ask(key, "/relay/cargo/manifests")
        assert (refused.status_code, refused["Retry-After"]) == (429, "10")
    watch.at += 10
    assert (
        ask(key, "/relay/cargo/manifests").status_code == 200
    )  # those that were refused are not counted


@pytest.mark.parametrize(
    ("told", "seconds"),
    [
        ("7", 7.0),
        ("Wed, 25 Nov 2026 12:00:09 GMT", 9.0),
        ("Wed, 25 Nov 2026 11:00:00 GMT", 0.0),
        ("soon", None),
    ],
)
def test_retry_after_is_read_as_seconds_and_as_a_date(told: str, seconds: float | None) -> None:
    """RFC 9110 §10.2.3."""
    answer = HttpReply(503, {"Retry-After": told}, "", None)  # type: ignore[arg-type]
    assert repeating.requested_wait(answer, datetime(2026, 11, 25, 12, 0, 0, tzinfo=UTC)) == seconds


def test_what_cannot_be_drawn_says_what_to_do(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    setup, connection, workload, _ = drawn
    connection.scheme = CERTIFICATE
    with refused_with("certificate-not-drawable"):
        services.draw(workload, connection)
    connection.scheme, connection.values = (
        BASIC,
        {"api_base": connection.values["api_base"], "username": "svc"},
    )
    with refused_with("connection-incomplete"):
        services.draw(workload, connection)
    Connection.objects.filter(pk=connection.pk).update(individual=True)
    asker = services.WorkloadCaller(
        Workload.objects.get(),
        Client.objects.filter(workload__isnull=False).get(),
        frozenset({"draw"}),
    )
    with refused_with("individual-accounts"):
        services.connection_of(asker, "cargo", "draw")


def test_the_quick_way_lets_in_whom_the_long_way_lets_in_and_nobody_else(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    setup, connection, workload, key = drawn
    now = timezone.now()

    def quickly(
        shown: str = key, name: str = "cargo", scope: str = "draw", at: datetime = now
    ) -> quick.ReadyDraw | None:
        return quick.draw(f"Bearer {shown}", name, scope, "127.0.0.1", at)

    assert quickly() is None  # the first use is noted by the long way
    long = services.draw(workload, connection)
    assert services.caller(f"Bearer {key}", "127.0.0.1", now).workload == workload
    found = quickly()
    assert found is not None
    assert (found.header, found.base, found.ends, found.credential) == (
        long.headers["Authorization"],
        long.base,
        long.ends,
        long.credential,
    )
    assert (found.workload, found.connection) == (str(workload.pk), str(connection.pk))
    assert "Bearer" not in repr(found)
    own = Client.objects.get(workload=workload)
    forged = issuing.house_key.make("nlk", "sandbox", b"otherkey", b"2" * 32)
    for shown in (key[:-1], forged, key.replace("nlk_sandbox", "nlk_staging"), "x.y.z", ""):
        assert quickly(shown) is None, shown
    assert quickly(name="other") is quickly(scope="register") is None
    assert quickly(at=now + timedelta(seconds=61)) is None  # the last use is to be noted again
    use, tokens_held, secret = (
        workload.uses.get(),
        TokenSet.objects.get(connection=connection),
        Credential.objects.get(client=own),
    )
    elsewhere = Environment.objects.get(key="production")
    changes: list[tuple[Any, dict[str, Any]]] = [
        (Credential.objects.filter(pk=secret.pk), {"state": "revoked"}),
        (Credential.objects.filter(pk=secret.pk), {"ends": now - timedelta(seconds=1)}),
        (Credential.objects.filter(pk=secret.pk), {"digest": "0" * 64}),
        (Client.objects.filter(pk=own.pk), {"scopes": []}),
        (Client.objects.filter(pk=own.pk), {"allow_list": ["203.0.113.0/24"]}),
        (Client.objects.filter(pk=own.pk), {"house": False}),
        (Client.objects.filter(pk=own.pk), {"workload": None}),
        (Workload.objects.filter(pk=workload.pk), {"environment": elsewhere}),
        (type(use).objects.filter(pk=use.pk), {"connection": None}),
        (Connection.objects.filter(pk=connection.pk), {"individual": True}),
        (Connection.objects.filter(pk=connection.pk), {"scheme": BASIC}),
        (TokenSet.objects.filter(pk=tokens_held.pk), {"refused": "gone"}),
        (TokenSet.objects.filter(pk=tokens_held.pk), {"ends": now + timedelta(seconds=5)}),
        (TokenSet.objects.filter(pk=tokens_held.pk), {"ends": now}),
        (
            type(connection.deployment).objects.filter(pk=connection.deployment_id),
            {"environment": elsewhere},
        ),
    ]
    for rows, changed in changes:
        before = rows.values(*changed).get()
        rows.update(**changed)
        assert quickly() is None, changed
        rows.update(**before)
        assert quickly() is not None, changed


def test_many_draws_are_all_counted(setup: Setup) -> None:
    """Those that wait for the same commit share it, and none is lost or doubled."""
    now = timezone.now()
    facts = [
        ledger.DrawFact("0" * 31 + str(number), "f" * 32, "", "draw", failed=number == 0)
        for number in range(3)
    ]

    def hand() -> None:
        for turn in range(30):
            ledger.LEDGER.record([facts[turn % 3]], now)
        database.close()

    hands = [threading.Thread(target=hand) for _ in range(8)]
    for item in hands:
        item.start()
    for item in hands:
        item.join()
    assert sorted(Drawn.objects.values_list("count", "failed")) == [(80, 0), (80, 0), (80, 80)]


def test_hours_become_days_and_days_go(setup: Setup) -> None:
    fact = ledger.DrawFact("1" * 32, "2" * 32, "secret", "relay")
    begin = datetime(2026, 11, 1, 0, 30, tzinfo=UTC)
    for hour in range(48):
        ledger.LEDGER.record([fact], begin + timedelta(hours=hour))
    assert Drawn.objects.count() == 48
    assert ledger.roll_up(begin + timedelta(days=3)) == 0
    assert ledger.roll_up(begin + timedelta(days=20)) == 46
    assert list(Drawn.objects.order_by("begins").values_list("span", "count", "last")) == [
        ("day", 24, begin + timedelta(hours=23)),
        ("day", 24, begin + timedelta(hours=47)),
    ]
    assert ledger.roll_up(begin + timedelta(days=20)) == 0
    assert ledger.roll_up(begin + timedelta(days=500)) == 2
    assert not Drawn.objects.exists()


def test_a_leaked_key_says_what_could_be_drawn_with_it(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    """What is to be mended is not only the key: what was taken with it may live on."""
    setup, connection, workload, key = drawn
    web = setup.web()

    def look() -> dict[str, Any]:
        [one] = web.post(
            "/api/leaks", json.dumps({"text": f"NLATCH_KEY={key}"}), content_type="application/json"
        ).json()["credentials"]
        told: dict[str, Any] = one["drawer"]
        return told

    told = look()
    assert (told["name"], told["relay"], told["others"]) == (workload.name, True, 0)
    assert [(item["ref"], item["last"], item["lasts"]) for item in told["reach"]] == [
        ("sandbox/cargo", None, False)
    ]
    assert ask(key, "/draw/cargo").status_code == 200
    services.give(setup.by, workload, "client", right="draw")
    told = look()
    assert told["others"] == 1
    assert told["reach"][0]["last"] is not None
    ends = TokenSet.objects.get(connection=connection).ends
    assert ends is not None
    assert abs(datetime.fromisoformat(told["reach"][0]["at"]) - ends) < timedelta(seconds=1)
    Connection.objects.filter(pk=connection.pk).update(individual=True)
    assert look()["reach"] == []  # where each person has an account of their own, no job draws
    [row] = [
        item for item in web.get("/api/credentials").json()["items"] if item["kind"] == "token"
    ]
    assert (row["workload"], row["workload_name"], row["connections"]) == (
        str(workload.pk),
        workload.name,
        [],
    )


def test_the_end_of_the_last_own_key_stands_on_today(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    """The connection latches and goes on; who draws it with a key that ends does not."""
    setup, _, workload, _ = drawn
    web, now, queries = setup.web(), timezone.now(), []

    def breaks() -> list[tuple[str, str | None, str]]:
        with CaptureQueriesContext(database) as seen:
            told = web.get("/api/today").json()["breaks"]["items"]
        queries.append(len(seen))
        return [
            (item["workloads"][0], item["workload"], item["why"].split(" …")[0])
            for item in told
            if item["workload"]
        ]

    assert breaks() == []  # in half a year
    key = Credential.objects.get(client__workload=workload)
    Credential.objects.filter(pk=key.pk).update(ends=now + timedelta(days=9))
    assert breaks() == [("Night run", str(workload.pk), "The API key")]
    second, handover = services.give(
        setup.by, workload, "client", right="draw", ends=now + timedelta(days=2)
    )
    take(setup, handover)
    assert breaks() == [
        ("Night run", str(workload.pk), "The API key")
    ]  # the client's secret ends sooner, and the key is there still
    issuing.revoke(setup.by, key, "a test")
    assert breaks() == [("Night run", str(workload.pk), "The client secret")]
    other = noted(setup, Connection.objects.get(), "Day run")
    _, handover = services.give(setup.by, other, "key", right="draw", ends=now + timedelta(days=1))
    assert [name for name, _, _ in breaks()] == ["Day run", "Night run"]
    assert len(set(queries[1:])) == 1
    Workload.objects.all().first().uses.all().delete()  # type: ignore[union-attr]
    assert [name for name, _, _ in breaks()] == [
        "Night run"
    ]  # with nothing left to draw, nothing stops


def test_a_right_is_relay_only_or_draw(setup: Setup) -> None:
    """F6: anyone who may only relay is given no header; anyone who draws may relay as well."""
    connection = setup.latched("manifest.read")
    workload = noted(setup, connection)
    for right, scopes in (("relay", {"relay"}), ("draw", {"draw", "relay"})):
        client, handover = services.give(setup.by, workload, "key", right=right)
        asker = services.caller(f"Bearer {take(setup, handover)}", "127.0.0.1", timezone.now())
        assert asker.scopes == scopes
        services.connection_of(asker, "cargo", "relay")
        if right == "relay":
            with refused_with("key-forbids"):
                services.connection_of(asker, "cargo", "draw")
        else:
            services.connection_of(asker, "cargo", "draw")
    with refused_with("invalid-fields"):
        services.give(setup.by, workload, "key", right="everything")  # type: ignore[arg-type]
    web = setup.web("reader")
    told = web.get(f"/api/workloads/{workload.pk}/drawables").json()
    assert told == [
        {"ref": "sandbox/cargo", "hands_out": "token", "says": WORDS["token"], "not_let": []}
    ]
    assert web.get("/api/connections/sandbox/cargo/drawables").json() == told[0]
    assert {key["right"] for key in web.get(f"/api/workloads/{workload.pk}/keys").json()} == {
        "relay",
        "draw",
    }


@pytest.mark.parametrize(
    ("kind", "handed"),
    [
        (CODE, "token"),
        (OAUTH1, "signature"),
        (API_KEY, "secret"),
        (BASIC, "secret"),
        (CERTIFICATE, "nothing"),
    ],
)
def test_what_a_draw_hands_out_is_what_is_said(kind: str, handed: str) -> None:
    """The very secret is in what is drawn exactly where the page says so."""
    assert hands_out(kind) == handed
    if kind in (CODE, CERTIFICATE):
        return
    secrets = {
        "api_key": "hush-a",
        "password": "hush-b",
        "client_secret": "hush-c",
        "token_secret": "hush-d",
    }
    values = {"username": "svc", "client_key": "ck", "token_id": "ti"}
    drawn = with_credential(
        Request("GET", "https://a.example/x"), Credentials(kind, values, secrets), "n", 1
    )
    text = " ".join(
        f"{name} {value} "
        f"{base64.b64decode(value.removeprefix('Basic ')) if value.startswith('Basic ') else ''}"
        for name, value in drawn.headers
    )
    assert any(secret in text for secret in secrets.values()) is (handed == "secret")


def test_a_secret_itself_is_drawn_only_by_those_who_may(setup: Setup) -> None:
    """The hole beside H6: an administrator's session alone gives a key that draws, and the draw
    hands the stored secret out.
    """
    deployment = applications.add_manually(
        setup.by,
        "Tide tables",
        "sandbox",
        {"api_base": "https://localhost:9/tides"},
        {"schemes": [{"key": "api_key"}]},
    )
    made, _ = connections.create(
        setup.by,
        deployment,
        "tides",
        "api_key",
        None,
        {"api_base": "https://localhost:9/tides"},
        [],
        {"api_key": "hush-key-of-the-tides"},
    )
    workload = noted(setup, made, operations=[])
    web, codes = setup.web("administrator"), codes_of(Person.objects.get(username="administrator"))

    def post(address: str, body: dict[str, Any] | None = None, **headers: str) -> Any:
        sent = {f"Neatlatch-{name}": value for name, value in headers.items()}
        return web.post(
            f"/api{address}", json.dumps(body or {}), content_type="application/json", headers=sent
        )

    keys = f"/workloads/{workload.pk}/keys"
    refused = post(keys, {"kind": "key", "right": "draw"})
    assert refused.status_code == 409
    assert (refused.json()["keeps"], refused.json()["moves"][0]["would_go_to"]) == (
        True,
        "Night run, who draws it",
    )
    assert (
        post(keys, {"kind": "key", "right": "draw"}, Held="let-go").status_code == 409
    )  # there is nothing to discard
    assert not Client.objects.filter(workload=workload).exists()
    assert post(keys, {"kind": "key", "right": "relay"}).status_code == 201
    assert (
        post(
            keys,
            {"kind": "key", "right": "draw"},
            Code=next(codes),
            Reason="It cannot use the relay",
        ).status_code
        == 201
    )
    assert Entry.objects.get(did="revealed to").details["connections"] == ["sandbox/tides"]
    assert services.draw(workload, made).headers == {"X-Api-Key": "hush-key-of-the-tides"}
    # Another secret that somebody puts in is drawn by the same; one that is taken by reference,
    # which nobody need know, is not.
    connections.put_secret(setup.by, made, "hush-key-of-the-next-year")
    assert services.draw(workload, Connection.objects.get(ref="sandbox/tides")).headers == {
        "X-Api-Key": "hush-key-of-the-next-year"
    }
    # A connection that it is noted for later hands it nothing until somebody lets it.
    other, _ = connections.create(
        setup.by,
        deployment,
        "tides-2",
        "api_key",
        None,
        {"api_base": "https://localhost:9/tides"},
        [],
        {"api_key": "hush-key-of-the-ebb"},
    )
    workloads.use_connection(
        setup.by, other, workloads.WorkloadFields("Night run", "", "job", "Freight", "daily"), []
    )
    with refused_with("drawing-not-permitted"):
        services.draw(workload, other)
    assert web.get("/api/connections/sandbox/tides-2/drawables").json()["not_let"] == ["Night run"]
    assert web.get("/api/connections/sandbox/tides/drawables").json()["not_let"] == []
    assert post("/connections/sandbox/tides-2/drawables").status_code == 409
    assert (
        post("/connections/sandbox/tides-2/drawables", Code=next(codes), Reason="The same").json()[
            "not_let"
        ]
        == []
    )
    assert services.draw(workload, other).headers == {"X-Api-Key": "hush-key-of-the-ebb"}
    third, _ = connections.create(
        setup.by,
        deployment,
        "tides-3",
        "api_key",
        None,
        {"api_base": "https://localhost:9/tides"},
        [],
        {"api_key": "hush-key-of-the-moon"},
    )
    connections.put_secret(setup.by, other, "neatlatch://sandbox/tides-3/api_key")
    with refused_with("drawing-not-permitted"):
        services.draw(workload, Connection.objects.get(ref="sandbox/tides-2"))


def test_the_callers_own_key_does_not_reach_the_application(
    drawn: tuple[Setup, Connection, Workload, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """L1, as a caller: the field that carries the caller's key to us carries ours to the
    application, once, and nothing else says who called.
    """
    _, _, _, key = drawn
    sent: list[Request] = []
    real = Transport.pass_on

    def pass_on(transport: Transport, request: Request, *rest: Any, **more: Any) -> StreamedReply:
        sent.append(request)
        return real(transport, request, *rest, **more)

    monkeypatch.setattr(Transport, "pass_on", pass_on)
    answer = ask(
        key,
        "/relay/cargo/manifests",
        headers={
            "Cookie": "a=b",
            "X-Forwarded-For": "203.0.113.9",
            "X-Api-Key": key,
            "Proxy-Authorization": f"Basic {key}",
        },
    )
    assert answer.status_code == 200
    fields = [name.lower() for name, _ in sent[-1].headers]
    assert fields.count("authorization") == 1
    assert not {"cookie", "x-forwarded-for", "proxy-authorization"} & set(fields)
    assert all(key not in value for _, value in sent[-1].headers)


@pytest.mark.parametrize("force", [False, True])
def test_who_waits_for_a_renewal_holds_no_worker(
    drawn: tuple[Setup, Connection, Workload, str], monkeypatch: pytest.MonkeyPatch, force: bool
) -> None:
    """M4: between its steps the work waits outside of the pool; here anyone who renews comes to its
    end meanwhile.
    """
    _, connection, _, _ = drawn
    now = timezone.now()
    steps = services.until_renewed(connection, force)
    assert list(steps) == []  # nobody renews
    ends = now + timedelta(hours=1) if force else now - timedelta(seconds=1)
    TokenSet.objects.update(lease=owner.sign(), lease_until=now + timedelta(seconds=20), ends=ends)
    if force:  # a token that is still good is taken as it is, unless a newer one is wanted
        assert list(services.until_renewed(connection)) == []
    steps = services.until_renewed(connection, force)
    assert [next(steps) for _ in range(3)] == [shares.Wait(0.1)] * 3
    TokenSet.objects.update(lease="", lease_until=None)
    assert list(steps) == []


def test_a_header_that_the_application_refused_is_renewed(
    drawn: tuple[Setup, Connection, Workload, str],
) -> None:
    """A job says so by the digest of what it sent, and only the one that is held now counts."""
    _, connection, _, key = drawn
    first = ask(key, "/draw/cargo").json()["headers"]["Authorization"]
    refused = {"refused": hashlib.sha256(first.encode()).hexdigest()}
    # It has just been obtained: another would help nobody.
    again = ask(key, "/draw/cargo", data=refused).json()["headers"]["Authorization"]
    assert again == first
    TokenSet.objects.update(obtained=timezone.now() - timedelta(seconds=20))
    # Another one than the one that is held: nothing is wrong with that.
    other = {"refused": hashlib.sha256(b"Bearer other").hexdigest()}
    assert ask(key, "/draw/cargo", data=other).json()["headers"]["Authorization"] == first
    for wrong in ("x", "é", "0" * 10_000):
        assert ask(key, "/draw/cargo", data={"refused": wrong}).status_code == 200
    second = ask(key, "/draw/cargo", data=refused).json()["headers"]["Authorization"]
    assert second != first
    # One that comes late with the same is given what is there.
    assert ask(key, "/draw/cargo", data=refused).json()["headers"]["Authorization"] == second
    base = connection.values["api_base"]
    trusted = httpx.Client(verify=_context())
    answer = trusted.get(f"{base}/manifests", headers={"Authorization": second})
    assert answer.status_code == 200
