"""Drawing a connection, and sending requests through it."""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import pytest
from django.db import connection as database
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.core.schemes import BASIC, CERTIFICATE
from neatlatch.desk.applications.models import Environment
from neatlatch.desk.clients.models import Client
from neatlatch.desk.common.problems import Problem
from neatlatch.desk.connections.models import Connection, TokenSet
from neatlatch.desk.credentials.models import Credential
from neatlatch.desk.credentials.services import close, show
from neatlatch.desk.drawing import ledger, quick, services
from neatlatch.desk.drawing.models import Drawn
from neatlatch.desk.house import issuing, tokens
from neatlatch.desk.house.models import Turned
from neatlatch.desk.users import services as users
from neatlatch.desk.users.models import User
from tests.harness import ROOT, Desk, StandIns

from .conftest import Setup


def take(setup: Setup, handover: Any) -> str:
    _, value = show(setup.by, handover)
    close(setup.by, handover)
    return value


def noted(setup: Setup, connection: Connection, name: str = "Night run") -> User:
    users.use_connection(setup.by, connection, users.Given(name, "", "job", "Freight", "daily"), ["GET /manifests"])
    return User.objects.select_related("environment").get(name=name)


@pytest.fixture
def drawn(setup: Setup) -> tuple[Setup, Connection, User, str]:
    """A connection that works, a user of it, and the user's key that may relay too."""
    connection = setup.latched("manifest.read")
    user = noted(setup, connection)
    _, handover = services.give(setup.by, user, "key", relay=True)
    return setup, connection, user, take(setup, handover)


def ask(key: str, path: str, method: str = "get", **more: Any) -> Any:
    headers = {"Authorization": f"Bearer {key}", **more.pop("headers", {})}
    return getattr(WebClient(), method)(path, headers=headers, **more)


def test_a_user_takes_a_ready_header_by_reference_name(drawn: tuple[Setup, Connection, User, str]) -> None:
    setup, connection, user, key = drawn
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
    assert (listed["user"], [one["ref"] for one in listed["connections"]]) == ("Night run", ["cargo"])
    [fact] = Drawn.objects.all()
    assert (fact.user, fact.connection, fact.count, fact.way) == (user.pk, connection.pk, 2, "draw")
    assert fact.credential == str(Connection.objects.get(ref="cargo").credential.pk)  # type: ignore[union-attr]
    shown = setup.web().get("/api/connections/cargo/draws").json()
    assert (shown[0]["user_name"], shown[0]["today"], len(shown[0]["secrets"])) == ("Night run", 2, 1)
    assert setup.web().get(f"/api/users/{user.pk}/draws").json()[0]["ref"] == "cargo"
    lines = {one["language"]: one["text"] for one in setup.web().get("/api/connections/cargo/lines").json()}
    assert "/relay/cargo/manifests" in lines["curl"]
    assert key not in json.dumps(lines)


def _context() -> Any:
    import ssl

    return ssl.create_default_context(cafile=os.environ["NEATLATCH_TRUST"])


def test_client_credentials_draw_too(drawn: tuple[Setup, Connection, User, str]) -> None:
    setup, _, user, _ = drawn
    client, handover = services.give(setup.by, user, "client", relay=False)
    take(setup, handover)
    client = Client.objects.select_related("place__application", "place__environment").get(pk=client.pk)
    token = tokens.give(client, Credential.objects.get(client=client), {"grant_type": "client_credentials"})["access_token"]
    assert ask(token, "/draw/cargo").status_code == 200
    assert ask(token, "/relay/cargo/manifests").status_code == 403  # it was not given the right to relay
    issuing.revoke_tokens(setup.by, client, "a test")
    assert ask(token, "/draw/cargo").status_code == 401


def test_who_may_not_draw(drawn: tuple[Setup, Connection, User, str]) -> None:
    setup, connection, user, key = drawn
    wrong = key[:-1] + ("A" if key[-1] != "A" else "B")
    bodies = set()
    other, other_key = issuing.register(setup.by, _accepting(connection), issuing.ClientMetadata("Other", scopes=frozenset()), "bearer")
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
        assert Turned.objects.first().what == logged  # type: ignore[union-attr]
    assert len(bodies) == 1
    assert ask(key, "/draw/other").status_code == ask(key, "/draw/cargo-manifests").status_code == 404
    users.stop_using(setup.by, user.uses.get())
    assert ask(key, "/draw/cargo").status_code == 404
    Client.objects.filter(user=user).update(allow_list=["203.0.113.0/24"])
    assert ask(key, "/draw").status_code == 401
    Client.objects.filter(user=user).update(allow_list=["127.0.0.0/8"])
    assert ask(key, "/draw").status_code == 200
    assert setup.web().delete(f"/api/users/{user.pk}/keys/{Client.objects.get(user=user).pk}").status_code == 204
    assert ask(key, "/draw").status_code == 401


def _accepting(connection: Connection) -> Any:
    connection.place.house = True
    connection.place.save()
    return connection.place


def test_the_relay_adds_the_credential_and_keeps_to_the_api(drawn: tuple[Setup, Connection, User, str]) -> None:
    _, _, _, key = drawn
    answer = ask(key, "/relay/cargo/manifests?x=1")
    assert answer.status_code == 200, answer.content
    assert "manifests" in answer.json()
    assert answer["Neat-Latch-Tries"] == "1"
    assert "sandbox" in answer["Content-Security-Policy"]
    refused = ask(key, "/relay/cargo/manifests/T-1", "put", data='{"ship": "a", "sailing": "b"}', content_type="application/json")
    assert refused.status_code == 403  # the application says so: the scope was not granted
    for path in ("/relay/cargo/%2e%2e/office", "/relay/cargo/%252e%252e/token"):
        assert ask(key, path).status_code == 422


def test_a_token_that_ends_in_the_middle_of_a_run(drawn: tuple[Setup, Connection, User, str]) -> None:
    setup, connection, _, key = drawn
    assert ask(key, "/relay/cargo/manifests").status_code == 200
    issued = setup.stand_ins.calls("issued:refresh_token")
    setup.stand_ins.age(2000, "access")  # over there they have ended; here they look alive
    assert TokenSet.objects.get(connection=connection).ends > timezone.now()  # type: ignore[operator]
    unsafe = ask(key, "/relay/cargo/manifests/T-1/customs", "post", data="{}", content_type="application/json")
    assert unsafe.status_code == 401  # a POST is not repeated (RFC 9110 §9.2.2)
    answer = ask(key, "/relay/cargo/manifests")
    assert (answer.status_code, answer["Neat-Latch-Tries"]) == (200, "2")
    assert setup.stand_ins.calls("issued:refresh_token") == issued + 1


def test_blips_are_repeated_where_that_is_safe(drawn: tuple[Setup, Connection, User, str]) -> None:
    setup, _, _, key = drawn
    setup.stand_ins.fault("unavailable", where="api", count=2)
    answer = ask(key, "/relay/cargo/manifests")
    assert (answer.status_code, answer["Neat-Latch-Tries"]) == (200, "3")


def test_what_cannot_be_drawn_says_what_to_do(drawn: tuple[Setup, Connection, User, str]) -> None:
    setup, connection, _, _ = drawn
    connection.scheme = CERTIFICATE
    with pytest.raises(Problem, match="relay"):
        services.draw(connection)
    connection.scheme, connection.values = BASIC, {"api_base": "https://a.example", "username": "svc"}
    with pytest.raises(Problem, match="not set up"):
        services.draw(connection)
    Connection.objects.filter(pk=connection.pk).update(individual=True)
    asker = services.Caller(User.objects.get(), Client.objects.filter(user__isnull=False).get(), frozenset({"draw"}))
    with pytest.raises(Problem, match="account of their own"):
        services.connection_of(asker, "cargo", "draw")


def test_the_quick_way_lets_in_whom_the_long_way_lets_in_and_nobody_else(drawn: tuple[Setup, Connection, User, str]) -> None:
    setup, connection, user, key = drawn
    now = timezone.now()

    def quickly(shown: str = key, ref: str = "cargo", scope: str = "draw", at: datetime = now) -> quick.Quick | None:
        return quick.draw(f"Bearer {shown}", ref, scope, "127.0.0.1", at)

    assert quickly() is None  # the first use is noted by the long way
    long = services.draw(connection)
    assert services.caller(f"Bearer {key}", "127.0.0.1", now).user == user
    found = quickly()
    assert found is not None
    assert (found.header, found.base, found.ends, found.credential) == (
        long.headers["Authorization"],
        long.base,
        long.ends,
        long.credential,
    )
    assert (found.user, found.connection) == (str(user.pk), str(connection.pk))
    assert "Bearer" not in repr(found)
    own = Client.objects.get(user=user)
    forged = issuing.house_key.make("nlk", "sandbox", b"otherkey", b"2" * 32)
    for shown in (key[:-1], forged, key.replace("nlk_sandbox", "nlk_staging"), "x.y.z", ""):
        assert quickly(shown) is None, shown
    assert quickly(ref="other") is quickly(scope="register") is None
    assert quickly(at=now + timedelta(seconds=61)) is None  # the last use is to be noted again
    use, tokens_held, secret = user.uses.get(), TokenSet.objects.get(connection=connection), Credential.objects.get(client=own)
    elsewhere = Environment.objects.get(key="production")
    changes: list[tuple[Any, dict[str, Any]]] = [
        (Credential.objects.filter(pk=secret.pk), {"state": "revoked"}), (Credential.objects.filter(pk=secret.pk), {"ends": now - timedelta(seconds=1)}),
        (Credential.objects.filter(pk=secret.pk), {"digest": "0" * 64}), (Client.objects.filter(pk=own.pk), {"scopes": []}),
        (Client.objects.filter(pk=own.pk), {"allow_list": ["203.0.113.0/24"]}), (Client.objects.filter(pk=own.pk), {"house": False}),
        (Client.objects.filter(pk=own.pk), {"user": None}), (User.objects.filter(pk=user.pk), {"environment": elsewhere}),
        (type(use).objects.filter(pk=use.pk), {"connection": None}), (Connection.objects.filter(pk=connection.pk), {"individual": True}),
        (Connection.objects.filter(pk=connection.pk), {"scheme": BASIC}), (TokenSet.objects.filter(pk=tokens_held.pk), {"refused": "gone"}),
        (TokenSet.objects.filter(pk=tokens_held.pk), {"ends": now + timedelta(seconds=5)}), (TokenSet.objects.filter(pk=tokens_held.pk), {"ends": now}),
        (type(connection.place).objects.filter(pk=connection.place_id), {"environment": elsewhere}),
    ]  # fmt: skip
    for rows, changed in changes:
        before = rows.values(*changed).get()
        rows.update(**changed)
        assert quickly() is None, changed
        rows.update(**before)
        assert quickly() is not None, changed


def test_many_draws_are_all_counted(setup: Setup) -> None:
    """Those that wait for the same commit share it, and none is lost or doubled."""
    now = timezone.now()
    facts = [ledger.Fact("0" * 31 + str(one), "f" * 32, "", "draw", failed=one == 0) for one in range(3)]

    def hand() -> None:
        for turn in range(30):
            ledger.LEDGER.note(facts[turn % 3], now)
        database.close()

    hands = [threading.Thread(target=hand) for _ in range(8)]
    for one in hands:
        one.start()
    for one in hands:
        one.join()
    assert sorted(Drawn.objects.values_list("count", "failed")) == [(80, 0), (80, 0), (80, 80)]


def test_hours_become_days_and_days_go(setup: Setup) -> None:
    fact = ledger.Fact("1" * 32, "2" * 32, "secret", "relay")
    begin = datetime(2026, 11, 1, 0, 30, tzinfo=UTC)
    for hour in range(48):
        ledger.LEDGER.note(fact, begin + timedelta(hours=hour))
    assert Drawn.objects.count() == 48
    assert ledger.roll_up(begin + timedelta(days=3)) == 0
    assert ledger.roll_up(begin + timedelta(days=20)) == 46
    assert list(Drawn.objects.order_by("begins").values_list("span", "count", "last")) == [
        ("day", 24, begin + timedelta(hours=23)), ("day", 24, begin + timedelta(hours=47))]  # fmt: skip
    assert ledger.roll_up(begin + timedelta(days=20)) == 0
    assert ledger.roll_up(begin + timedelta(days=500)) == 2
    assert not Drawn.objects.exists()


GIVE = """
import json
from datetime import timedelta
from django.utils import timezone
from neatlatch.desk.connections.models import TokenSet, Connection
from neatlatch.desk.credentials.services import close, show
from neatlatch.desk.drawing import services
from neatlatch.desk.people.models import Person
from neatlatch.desk.users.models import User
by = Person.objects.get(username="morag")
user = User.objects.get(name="Rehearsal of the night run")
_, handover = services.give(by, user, "key", relay=True)
_, value = show(by, handover); close(by, handover)
Connection.objects.filter(ref="cargo-manifests-sandbox").update(pace=1000)
print(value)
"""
ABOUT_TO_END = """
from datetime import timedelta
from django.utils import timezone
from neatlatch.desk.connections.models import TokenSet
now = timezone.now()
TokenSet.objects.filter(connection__ref="cargo-manifests-sandbox").update(obtained=now - timedelta(seconds=880), ends=now + timedelta(seconds={left}))
"""
COUNT = """
from django.db.models import Sum
from neatlatch.desk.drawing.models import Drawn
print(Drawn.objects.filter(way="{way}").aggregate(n=Sum("count"))["n"] or 0)
"""


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[tuple[Desk, str]]:
    from tests.settings import HOME_OF_TESTS

    found = Desk(HOME_OF_TESTS / "draws", stand_ins, HOME_OF_TESTS / "standins" / "certificates" / "root.pem")
    found.manage("migrate", "--verbosity", "0")
    found.python(f"from neatlatch.demo.load import load\nload({stand_ins.port}, only=('cargo-manifests',))")
    key = found.python(GIVE).splitlines()[-1]
    found.start("desk")
    yield found, key
    found.kill()


async def _many(url: str, key: str, count: int, path: str) -> list[int]:
    """So many requests at once, each on a line of its own; a client library's pool would be slower than what is tested."""
    host, port = url.removeprefix("http://").split(":")
    request = f"GET {path} HTTP/1.1\r\nHost: {host}:{port}\r\nAuthorization: Bearer {key}\r\nConnection: close\r\n\r\n".encode()
    room = asyncio.Semaphore(400)  # files that may be open

    async def one() -> int:
        async with room:
            reader, writer = await asyncio.open_connection(host, int(port))
            writer.write(request)
            answer = await asyncio.wait_for(reader.read(), 120)
            writer.close()
            return int(answer.split(b" ", 2)[1])

    return list(await asyncio.gather(*(one() for _ in range(count))))


@pytest.mark.parametrize("left", [15, -5], ids=["about to end", "ended"])
def test_a_thousand_draws_at_once_and_one_renewal(desk: tuple[Desk, str], stand_ins: StandIns, left: int) -> None:
    found, key = desk
    found.python(ABOUT_TO_END.format(left=left))
    issued, before = stand_ins.calls("issued:refresh_token"), int(found.python(COUNT.format(way="draw")))
    stand_ins.fault("slow_answer", where="token", count=1, seconds=1)  # so that all the others ask while it is under way
    answers = asyncio.run(_many(found.url, key, 1000, "/draw/cargo-manifests-sandbox"))
    assert answers == [200] * 1000
    assert stand_ins.calls("issued:refresh_token") == issued + 1
    assert int(found.python(COUNT.format(way="draw"))) == before + 1000


def test_the_relay_with_a_token_that_ends_in_the_middle(desk: tuple[Desk, str], stand_ins: StandIns) -> None:
    found, key = desk

    async def run() -> list[int]:
        begun = asyncio.create_task(_many(found.url, key, 150, "/relay/cargo-manifests-sandbox/manifests"))
        await asyncio.sleep(0.7)
        await asyncio.to_thread(stand_ins.age, 2000, "access")
        return await begun

    issued = stand_ins.calls("issued:refresh_token")
    answers = asyncio.run(run())
    assert answers == [200] * 150
    assert stand_ins.calls("issued:refresh_token") == issued + 1


def test_the_command_line_draws_lists_and_tests(desk: tuple[Desk, str]) -> None:
    found, key = desk

    def nlatch(*words: str, own: str = key) -> tuple[int, str, str]:
        environment = {**os.environ, "NLATCH_URL": found.url, "NLATCH_KEY": own}
        done = subprocess.run([sys.executable, "-m", "neatlatch.cli", *words], cwd=ROOT, env=environment, capture_output=True, text=True)
        return done.returncode, done.stdout, done.stderr

    status, out, _ = nlatch("draw", "cargo-manifests-sandbox")
    assert status == 0
    assert out.startswith("Authorization: Bearer ")
    assert json.loads(nlatch("draw", "cargo-manifests-sandbox", "--json")[1])["base"].startswith("https://localhost:")
    assert "cargo-manifests-sandbox" in nlatch("list")[1]
    status, out, _ = nlatch("test", "cargo-manifests-sandbox")
    assert (status, out.count("ok ")) == (0, 6), out
    status, out, said = nlatch("draw", "cargo-manifests-sandbox", own=key[:-2])
    assert (status, out) == (1, "")
    assert "does not let you in" in said
    assert nlatch("draw", "other")[0] == 1
    assert "NLATCH_KEY" in nlatch("list", own="")[2]
