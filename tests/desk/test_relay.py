"""The relay's quick way: what it answers, when it leaves the answer to the long way, and what its
lines and statements are.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from typing import Any

import pytest
from django.db import connection as database
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from neatlatch.core.destinations import origin
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.pages.drawing import draw_endpoints
from neatlatch.desk.work.drawing import relay
from neatlatch.desk.work.drawing.models import Drawn
from neatlatch.wire.kept_connections import KeptTransports
from neatlatch.wire.pace import Paces

from .conftest import Setup
from .test_drawing import ask, drawn

__all__ = ["drawn"]
Drawn_ = tuple[Setup, Connection, Workload, str]


@pytest.fixture(autouse=True)
def kept(monkeypatch: pytest.MonkeyPatch) -> Iterator[KeptTransports]:
    """No lines and no paces of other tests."""
    monkeypatch.setattr(relay, "_PACES", Paces())
    monkeypatch.setattr(relay, "_KEPT", KeptTransports())
    yield relay._KEPT
    relay._KEPT.close()


def quickly(
    key: str,
    path: str = "/relay/cargo/manifests",
    method: str = "GET",
    body: bytes = b"",
    **headers: str,
) -> dict[str, Any]:
    """Ask by the application's own quick way; ``long`` in the answer says that it left it to the
    long one.
    """
    raw, _, query = path.partition("?")
    fields = {"authorization": f"Bearer {key}", **headers}
    scope = {
        "type": "http",
        "method": method,
        "path": raw,
        "raw_path": raw.encode(),
        "query_string": query.encode(),
        "client": ("127.0.0.1", 40000),
        "headers": [
            (name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()
        ],
    }
    told: dict[str, Any] = {"long": False, "body": b""}

    parts = [body[at : at + 50_000] for at in range(0, len(body), 50_000)] or [b""]

    async def receive() -> dict[str, Any]:
        return {"type": "http.request", "body": parts.pop(0), "more_body": bool(parts)}

    async def send(event: dict[str, Any]) -> None:
        if event["type"] == "http.response.start":
            told["status"] = event["status"]
            told["headers"] = {
                name.decode().title(): value.decode() for name, value in event["headers"]
            }
        else:
            told["body"] += event["body"]

    async def long_way(again: Any) -> None:
        told["long"], told["replayed"], more = True, b"", True
        while more:
            event = await again()
            told["replayed"] += event["body"]
            more = event["more_body"]

    asyncio.run(draw_endpoints.usual_relay(scope, receive, send, long_way))
    return told


def test_the_quick_way_answers_what_the_long_way_answers(drawn: Drawn_) -> None:
    _, connection, _, key = drawn
    slow = ask(key, "/relay/cargo/manifests?x=1")  # notes the key's use
    fast = quickly(key, "/relay/cargo/manifests?x=1")
    assert (fast["long"], fast["status"], fast["body"]) == (False, 200, slow.content)
    assert {
        name: value
        for name, value in fast["headers"].items()
        if name not in ("Content-Length", "X-Request-Id", "Date")
    }.items() >= {
        name: slow[name]
        for name in (
            "Content-Type",
            "Neat-Latch-Tries",
            "Content-Security-Policy",
            "Cache-Control",
            "X-Content-Type-Options",
            "X-Frame-Options",
            "Referrer-Policy",
        )
    }.items()
    assert "Set-Cookie" not in fast["headers"]
    assert "Authorization" not in fast["headers"]
    missing = quickly(key, "/relay/cargo")
    assert (missing["status"], missing["headers"]["Neat-Latch-Tries"]) == (404, "1")
    refused = quickly(
        key,
        "/relay/cargo/manifests/T-1",
        "PUT",
        b'{"ship": "a", "sailing": "b"}',
        content_type="application/json",
    )
    assert refused["status"] == 403
    told = Drawn.objects.get(way="relay", connection=connection.pk)
    assert (told.count, told.failed) == (4, 0)


def test_what_is_out_of_the_ordinary_goes_the_long_way_with_its_body(drawn: Drawn_) -> None:
    _, connection, _, key = drawn
    assert quickly(key)["long"]  # nobody has noted yet that the key is used
    ask(key, "/relay/cargo/manifests")
    assert not quickly(key)["long"]
    assert quickly(f"{key}x", body=b"some", method="POST")["replayed"] == b"some"
    for path in ("/relay/other/manifests", "/relay/cargo/%2e%2e/token", "/relay/cargo/../token"):
        assert quickly(key, path)["long"], path
    assert quickly(key, method="TRACE")["long"]
    assert quickly(key, method="POST", body=b"x" * 170_000)["replayed"] == b"x" * 170_000
    TokenSet.objects.filter(connection=connection).update(sent_to=["https://localhost:9"])
    assert quickly(key)["long"]
    TokenSet.objects.filter(connection=connection).update(
        sent_to=[origin(connection.values["api_base"])], refused="no"
    )
    assert quickly(key)["long"]
    TokenSet.objects.filter(connection=connection).update(refused="", ends=timezone.now())
    assert quickly(key)["long"]


def test_its_line_is_kept_for_the_next_and_a_request_that_may_not_be_repeated_has_its_own(
    drawn: Drawn_, kept: KeptTransports
) -> None:
    _, _, _, key = drawn
    ask(key, "/relay/cargo/manifests")
    opened: list[int] = []
    reach = relay.Transport.reach

    def counted(transport: Any, host: str, port: int) -> Any:
        opened.append(port)
        return reach(transport, host, port)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(relay.Transport, "reach", counted)
        for _ in range(5):
            assert quickly(key)["status"] == 200
        assert (len(opened), len(kept)) == (1, 1)
        for _ in range(2):
            quickly(
                key,
                "/relay/cargo/manifests/T-1/customs",
                "POST",
                b"{}",
                content_type="application/json",
            )
        assert (len(opened), len(kept)) == (3, 1)


def test_the_quick_way_takes_few_statements(drawn: Drawn_) -> None:
    """One that finds the caller, and those that count the draw."""
    _, _, _, key = drawn
    ask(key, "/relay/cargo/manifests")
    quickly(key)
    with CaptureQueriesContext(database) as seen:
        list(_steps(key))
    assert (
        len([item for item in seen if item["sql"].startswith("SELECT")]) == 1 + 3
    )  # the caller; what may have become stale meanwhile
    assert len(seen) <= 8


def _steps(key: str) -> Iterator[Any]:
    scope = {
        "method": "GET",
        "path": "/relay/cargo/manifests",
        "raw_path": b"/relay/cargo/manifests",
        "query_string": b"",
        "headers": [(b"authorization", f"Bearer {key}".encode())],
        "client": ("127.0.0.1", 4),
    }
    yield from draw_endpoints._relayed_quickly(scope, "cargo", b"")


def test_a_token_that_was_revoked_is_renewed_under_the_quick_way(drawn: Drawn_) -> None:
    setup, connection, _, key = drawn
    ask(key, "/relay/cargo/manifests")
    before = setup.stand_ins.calls("issued:refresh_token")
    setup.stand_ins.age(10_000, "access")
    answer = quickly(key)
    assert (answer["long"], answer["status"], answer["headers"]["Neat-Latch-Tries"]) == (
        False,
        200,
        "2",
    )
    assert setup.stand_ins.calls("issued:refresh_token") == before + 1
    assert TokenSet.objects.get(connection=connection).generation == 2


def test_it_keeps_the_pace_of_connection_and_key_and_says_when_to_come_again(drawn: Drawn_) -> None:
    _, connection, _, key = drawn
    ask(key, "/relay/cargo/manifests")
    Client.objects.filter(workload__isnull=False).update(pace=0.02)
    relay._PACES = Paces()
    assert quickly(key)["status"] == 200
    late = quickly(key)
    assert (late["status"], late["headers"]["Content-Type"]) == (429, "application/problem+json")
    assert 30 < int(late["headers"]["Retry-After"]) <= 50
    Client.objects.filter(workload__isnull=False).update(pace=None)
    Connection.objects.filter(pk=connection.pk).update(pace=0.02)
    relay._PACES = Paces()
    assert [quickly(key)["status"] for _ in range(2)] == [200, 429]


def test_an_application_that_is_gone_is_told_as_such(drawn: Drawn_, kept: KeptTransports) -> None:
    setup, _, _, key = drawn
    ask(key, "/relay/cargo/manifests")
    setup.stand_ins.fault("unavailable", where="api", count=9)
    answer = quickly(key)
    assert answer["status"] == 503
    assert int(answer["headers"]["Neat-Latch-Tries"]) > 1
    told = Drawn.objects.get(way="relay")
    assert told.failed == 1
    setup.stand_ins.fault("none")
    assert quickly(key)["status"] == 200


def test_a_fault_of_ours_sends_nothing_twice(
    drawn: Drawn_, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What went wrong after the request had left is not put right by sending it the long way as
    well.
    """
    _, _, _, key = drawn
    ask(key, "/relay/cargo/manifests")
    monkeypatch.setattr(relay._Sender, "back", lambda *given: 1 // 0)
    sent: list[str] = []
    pass_on = relay.Transport.pass_on

    def counted(transport: Any, request: Any, content: bytes | None = None) -> Any:
        sent.append(request.url)
        return pass_on(transport, request, content)

    monkeypatch.setattr(relay.Transport, "pass_on", counted)
    answer = quickly(key)
    assert (answer["long"], answer["status"], len(sent)) == (False, 500, 1)
    assert "zero" not in answer["body"].decode()
