"""The client library against a desk and an application that are functions."""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest

from neatlatch import client
from neatlatch.client import AsyncLatch, Drawn, Latch, LatchError, Settings

URL = "https://latch.example"
BASE = "https://cargo.example/api"


class FakeDesk:
    """A desk that hands out a new token each time that it renews; counts what is asked."""

    def __init__(self, seconds: float | None = 600, answer: httpx.Response | None = None) -> None:
        self.generation, self.seconds, self.answer = 1, seconds, answer
        self.asked: list[httpx.Request] = []

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.asked.append(request)
        if self.answer is not None:
            return self.answer
        now = self.drawn()
        if request.url.params.get("refused") == Drawn.of(now).digest:
            self.generation += 1
        return httpx.Response(200, json=self.drawn())

    def drawn(self) -> dict[str, Any]:
        ends = datetime.now(UTC) + timedelta(seconds=self.seconds) if self.seconds else None
        return {
            "ref": "production/cargo-manifests",
            "base": BASE,
            "headers": {"Authorization": f"Bearer token-{self.generation}"},
            "query": {},
            "ends": ends.isoformat() if ends else None,
            "seconds": self.seconds,
        }


class FakeApplication:
    """An application that takes one token."""

    def __init__(self, takes: str = "Bearer token-1") -> None:
        self.takes = takes
        self.seen: list[httpx.Request] = []

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.seen.append(request)
        good = request.headers.get("Authorization") == self.takes
        return httpx.Response(200 if good else 401, json={"body": request.content.decode()})


def latch(desk: Callable[[httpx.Request], httpx.Response], **more: Any) -> Latch:
    return Latch(URL, key="nlk_x", transport=httpx.MockTransport(desk), **more)


def web(auth: httpx.Auth, application: FakeApplication) -> httpx.Client:
    return httpx.Client(auth=auth, base_url=BASE, transport=httpx.MockTransport(application))


def test_a_header_is_drawn_once_and_kept() -> None:
    desk, application = FakeDesk(), FakeApplication()
    with latch(desk) as ours, web(ours.httpx_auth("cargo-manifests"), application) as calls:
        assert [calls.get("/manifests").status_code for _ in range(3)] == [200] * 3
    (asked,) = desk.asked
    assert asked.url == f"{URL}/draw/cargo-manifests"
    assert asked.headers["Authorization"] == "Bearer nlk_x"
    assert [request.url.path for request in application.seen] == ["/api/manifests"] * 3


def test_a_header_is_drawn_again_before_it_ends() -> None:
    desk, application = FakeDesk(seconds=0.05), FakeApplication()
    with latch(desk) as ours, web(ours.httpx_auth("cargo-manifests"), application) as calls:
        calls.get("/manifests")
        first = len(desk.asked)
        asyncio.run(asyncio.sleep(0.06))
        assert calls.get("/manifests").status_code == 200
    assert (first, len(desk.asked)) == (1, 2)


@pytest.mark.parametrize("method", ["GET", "POST", "DELETE"])
def test_a_refused_request_is_repeated_once_with_a_new_header(method: str) -> None:
    """401 says that it was not carried out (RFC 9110 §15.5.2), so any method may be repeated."""
    desk, application = FakeDesk(), FakeApplication("Bearer token-2")
    with latch(desk) as ours, web(ours.httpx_auth("cargo-manifests"), application) as calls:
        answer = calls.request(method, "/manifests", content=b"x")
        assert (answer.status_code, answer.json()["body"]) == (200, "x")
    assert [bool(request.url.params) for request in desk.asked] == [False, True]
    assert len(application.seen) == 2


def test_a_request_is_not_repeated_where_nothing_newer_is_to_be_had() -> None:
    desk, application = FakeDesk(), FakeApplication("another")
    with latch(desk) as ours, web(ours.httpx_auth("cargo-manifests"), application) as calls:
        application.takes = "another"
        desk.drawn = lambda: {**FakeDesk().drawn(), "base": BASE}  # type: ignore[method-assign]
        assert calls.get("/manifests").status_code == 401
    assert len(application.seen) == 1


def test_a_body_that_is_used_up_is_not_sent_again() -> None:
    desk, application = FakeDesk(), FakeApplication("Bearer token-2")
    with latch(desk) as ours, web(ours.httpx_auth("cargo-manifests"), application) as calls:
        answer = calls.post("/manifests", content=iter([b"a", b"b"]))
    assert (answer.status_code, len(application.seen)) == (401, 1)


@pytest.mark.parametrize(
    "elsewhere",
    ["https://other.example/api", "http://cargo.example/api", "https://cargo.example:8443/api"],
)
def test_a_header_goes_to_its_application_only(elsewhere: str) -> None:
    desk, application = FakeDesk(), FakeApplication()
    with latch(desk) as ours, web(ours.httpx_auth("cargo-manifests"), application) as calls:
        with pytest.raises(client.WrongOrigin, match="Nothing|only"):
            calls.get(elsewhere)
        assert calls.get("https://CARGO.example:443/api/x").status_code == 200
    assert len(application.seen) == 1


def test_a_connection_that_signs_each_request_is_drawn_for_each() -> None:
    def desk(request: httpx.Request) -> httpx.Response:
        asked.append(dict(request.url.params))
        if not request.url.params.get("url"):
            problem = {"code": "request-signature-required", "title": "It signs each request."}
            return httpx.Response(422, json=problem)
        signed = {"Authorization": f"OAuth {request.url.params['url']}"}
        return httpx.Response(200, json={**FakeDesk().drawn(), "headers": signed, "ends": None})

    asked: list[dict[str, str]] = []
    application = FakeApplication(f"OAuth {BASE}/tides")
    with latch(desk) as ours, web(ours.httpx_auth("tide-tables"), application) as calls:
        assert calls.get("/tides").status_code == 200
        assert calls.get("/tides").status_code == 200
    assert asked == [{}, *[{"method": "GET", "url": f"{BASE}/tides"}] * 2]


def test_a_key_in_the_query_goes_there() -> None:
    def desk(_: httpx.Request) -> httpx.Response:
        return httpx.Response(200, json={**FakeDesk().drawn(), "headers": {}, "query": {"k": "v"}})

    application = FakeApplication()
    with latch(desk) as ours, web(ours.httpx_auth("messages"), application) as calls:
        calls.get("/messages", params={"page": "2"})
    assert dict(application.seen[0].url.params) == {"page": "2", "k": "v"}


def test_the_same_with_await() -> None:
    desk, application = FakeDesk(), FakeApplication("Bearer token-2")

    async def run() -> list[int]:
        transport = httpx.MockTransport(desk)
        async with AsyncLatch(URL, key="nlk_x", transport=transport) as ours:
            calls = httpx.AsyncClient(
                auth=ours.httpx_auth("cargo-manifests"),
                base_url=BASE,
                transport=httpx.MockTransport(application),
            )
            answers = await asyncio.gather(*(calls.get("/manifests") for _ in range(5)))
            drawn = await ours.draw("cargo-manifests")
            assert drawn.headers == {"Authorization": "Bearer token-2"}
            return [answer.status_code for answer in answers]

    assert asyncio.run(run()) == [200] * 5
    # One draw, one renewal that all shared, and the one at the end.
    assert len(desk.asked) == 3


def test_each_kind_of_client_takes_its_own_authentication() -> None:
    with latch(FakeDesk()) as ours:
        auth = ours.httpx_auth("cargo-manifests")
        calls = httpx.AsyncClient(auth=auth, transport=httpx.MockTransport(FakeApplication()))
        with pytest.raises(TypeError, match="AsyncLatch"):
            asyncio.run(calls.get(BASE))


PROBLEMS = [
    (401, client.KeyRefused),
    (403, client.NotAllowed),
    (404, client.NotFound),
    (409, client.NotReady),
    (422, client.BadRequest),
    (429, client.TooManyRequests),
    (500, client.DeskFailed),
    (503, client.TokenUnavailable),
]


@pytest.mark.parametrize(("status", "kind"), PROBLEMS)
def test_each_refusal_is_a_class_of_its_own_with_what_to_do(
    status: int, kind: type[LatchError]
) -> None:
    problem = {"title": "It is so.", "detail": "Do this.", "code": "a-code", "status": status}
    told = httpx.Response(status, json=problem, headers={"Retry-After": "7"})
    with latch(FakeDesk(answer=told)) as ours, pytest.raises(LatchError) as refused:
        ours.draw("cargo-manifests")
    error = refused.value
    assert type(error) is kind
    assert (error.status, error.code, str(error)) == (status, "a-code", "It is so. Do this.")
    assert isinstance(error, client.TooManyRequests) is (getattr(error, "retry_after", 0) == 7)
    # Where the answer does not say what to do, the class does.
    bare = httpx.Response(status, text="<html>")
    with latch(FakeDesk(answer=bare)) as ours, pytest.raises(kind) as refused:
        ours.test("cargo-manifests")
    assert refused.value.next_step == kind.advice != ""
    assert kind.advice in str(refused.value)


def test_an_answer_that_is_none_of_the_desk_is_said_so() -> None:
    for answer in (
        httpx.Response(200, text="<html>"),
        httpx.Response(200, json=[]),
        httpx.Response(200, json={"ref": 1}),
        httpx.Response(200, content=b"{", headers={"Content-Type": "application/json"}),
        httpx.Response(302, headers={"Location": "https://elsewhere.example"}),
    ):
        with latch(FakeDesk(answer=answer)) as ours, pytest.raises(client.DeskFailed):
            ours.draw("cargo-manifests")


def test_a_desk_that_does_not_answer_is_said_so() -> None:
    def nobody(_: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("Connection refused")

    with latch(nobody) as ours, pytest.raises(client.CannotReach, match="latch.example"):
        ours.connections()


def test_the_relay_answers_what_the_application_did() -> None:
    def desk(request: httpx.Request) -> httpx.Response:
        asked.append(request)
        if request.url.path.startswith("/relay/other"):
            return httpx.Response(404, json={"title": "You use no connection other."})
        return httpx.Response(404, json={"error": "none"}, headers={"Neat-Latch-Tries": "1"})

    asked: list[httpx.Request] = []
    with latch(desk, workload="production/Nächtlicher Lauf") as ours:
        answer = ours.relay("cargo", "/a b/ü", method="PUT", json={"x": 1}, params={"q": "1"})
        assert (answer.status_code, answer.json()) == (404, {"error": "none"})
        with pytest.raises(client.NotFound, match="no connection other"):
            ours.relay("other")
    assert asked[0].url.raw_path == b"/relay/cargo/a%20b/%C3%BC?q=1"
    assert json.loads(asked[0].content) == {"x": 1}
    assert asked[0].headers["Neatlatch-Workload"] == "production/N%C3%A4chtlicher%20Lauf"


def test_settings_are_given_or_those_of_the_environment(tmp_path: Path) -> None:
    environment = {"NLATCH_URL": "https://a.example", "NLATCH_KEY": "nlk_env"}
    assert Settings.of(environment).headers() == {"Authorization": "Bearer nlk_env"}
    file = tmp_path / "key"
    file.write_text("nlk_file\n")
    # One that is given takes the place of all that the environment says.
    found = Settings.of(environment, key_file=str(file))
    assert (found.url, found.headers()) == (
        "https://a.example",
        {"Authorization": "Bearer nlk_file"},
    )
    assert "nlk" not in repr(found)
    with pytest.raises(client.NoKey, match="NLATCH_KEY"):
        Settings.of({}).headers()
    with pytest.raises(client.NoKey, match="No such file"):
        Settings(key_file=str(tmp_path / "none")).headers()
    with pytest.raises(client.NoKey, match="line break"):
        Settings(key="a\nb").headers()
    with pytest.raises(client.NoKey, match="PEM"):
        Settings(ca=str(file)).tls()


@pytest.mark.parametrize(
    ("url", "goes"),
    [
        ("http://127.0.0.1:8600", True),
        ("http://localhost:8600", True),
        ("http://[::1]:8600", True),
        ("https://latch.example", True),
        ("http://latch.example", False),
        ("http://127.0.0.1.example", False),
        ("http://10.0.0.1", False),
    ],
)
def test_a_key_goes_over_plain_http_to_this_machine_only(url: str, goes: bool) -> None:
    """RFC 6750 §5.3: bearer tokens are sent over TLS."""
    if goes:
        Settings(url=url).tls()
    else:
        with pytest.raises(client.NoKey, match="https"):
            Settings(url=url).tls()
        Settings(url=url, plain_http="1").tls()


def test_nothing_secret_is_shown() -> None:
    drawn = Drawn.of(FakeDesk().drawn())
    assert "token-1" not in repr(drawn)
    assert drawn.url("/manifests") == f"{BASE}/manifests"


def test_it_requires_httpx_and_nothing_else() -> None:
    """What a job loads with it: of Neat Latch only the library itself."""
    told = subprocess.run(
        [sys.executable, "-c", "import sys, neatlatch.client\nprint(*sys.modules)"],
        capture_output=True,
        text=True,
        check=True,
    ).stdout.split()
    ours = {name for name in told if name.startswith("neatlatch.")}
    assert ours
    assert all(name.startswith("neatlatch.client") for name in ours)
    assert not {"django", "pydantic", "cryptography", "yaml", "ninja"} & set(told)


def test_a_signed_call_is_checked_as_it_came() -> None:
    answer = {"ref": "x/y", "id": "call_1", "sent_at": "2026-12-02T03:00:00+00:00", "seen_at": None}
    desk = FakeDesk(answer=httpx.Response(200, json=answer))
    with Latch(URL, key="k", transport=httpx.MockTransport(desk)) as latch:
        call = latch.check_call("cargo", {"Webhook-Id": "call_1"}, b"\xff{}")
    assert desk.asked[0].url.path == "/draw/cargo/signed-calls"
    sent = json.loads(desk.asked[0].content)
    assert sent == {"headers": {"Webhook-Id": "call_1"}, "body": "/3t9"}
    assert (call.id, call.repeated) == ("call_1", False)
    assert call.sent_at == datetime(2026, 12, 2, 3, tzinfo=UTC)

    async def again() -> bool:
        seen = httpx.Response(200, json=answer | {"seen_at": "2026-12-02T03:00:01+00:00"})
        transport = httpx.MockTransport(FakeDesk(answer=seen))
        async with AsyncLatch(URL, key="k", transport=transport) as latch:
            return (await latch.check_call("cargo", {}, "")).repeated

    assert asyncio.run(again())


def test_a_call_that_is_rejected_is_an_error_that_nobody_overlooks() -> None:
    problem = {"code": "call-rejected", "title": "No.", "detail": "Wrong.", "reason": "wrong"}
    told = httpx.Response(422, json=problem, headers={"Content-Type": "application/problem+json"})
    with (
        Latch(URL, key="k", transport=httpx.MockTransport(FakeDesk(answer=told))) as latch,
        pytest.raises(client.CallRejected) as raised,
    ):
        latch.check_call("cargo", {}, b"")
    assert (raised.value.reason, raised.value.code) == ("wrong", "call-rejected")
