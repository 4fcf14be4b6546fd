"""What a request may bring: its octets by address, its parts, and headers that are none."""

from __future__ import annotations

import asyncio
import json
import time
from importlib import import_module
from types import ModuleType
from typing import Any, Protocol

import pytest
from django.conf import settings
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.desk.ground.common import body_limits, caller, heavy, json_bodies
from tests import work
from tests.refused import refused_with

from .operations import UNSAFE, operations

Events = list[dict[str, Any]]
Headers = list[tuple[bytes, bytes]]


@pytest.fixture
def asgi(transactional_db: None) -> ModuleType:
    """The application; it looks at the database when it is imported."""
    return import_module("neatlatch.desk.pages.asgi")


class Ask(Protocol):
    """Sends a request to the application."""

    def __call__(
        self,
        path: str,
        events: Events,
        work: Any,
        headers: Headers | None = None,
        peer: str = "192.0.2.1",
    ) -> Events: ...


@pytest.fixture
def ask(asgi: ModuleType, monkeypatch: pytest.MonkeyPatch) -> Ask:
    return lambda path, events, work, headers=None, peer="192.0.2.1": asked(
        asgi, monkeypatch, path, events, work, headers, peer
    )


def asked(
    asgi: ModuleType,
    monkeypatch: pytest.MonkeyPatch,
    path: str,
    events: Events,
    work: Any,
    headers: Headers | None,
    peer: str,
) -> Events:
    """What the application sends for a request whose body comes in these events; ``work`` stands in
    Django's place.
    """
    monkeypatch.setattr(asgi, "_django", work)
    sent: Events = []
    coming = iter(events)

    async def receive() -> dict[str, Any]:
        return next(coming)

    async def send(event: dict[str, Any]) -> None:
        sent.append(event)

    scope = {
        "type": "http",
        "method": "POST",
        "path": path,
        "headers": headers or [],
        "client": (peer, 5),
        "scheme": "http",
    }
    asyncio.run(asgi.application(scope, receive, send))
    return sent


def chunks(*sizes: int) -> Events:
    return [
        {"type": "http.request", "body": b"a" * size, "more_body": place < len(sizes) - 1}
        for place, size in enumerate(sizes)
    ]


async def reads_all(scope: Any, receive: Any, send: Any) -> None:
    while (await receive()).get("more_body"):
        pass
    await send({"type": "http.response.start", "status": 200, "headers": []})


def test_a_body_is_counted_as_it_comes(ask: Ask) -> None:
    most = body_limits.of("/api/session")
    assert ask("/api/session", chunks(most - 1, 1), reads_all)[0]["status"] == 200
    refused = ask("/api/session", chunks(most - 1, 1, 1, 1), reads_all)
    assert refused[0]["status"] == 413
    problem = json.loads(refused[1]["body"])
    assert problem["code"] == "too-large"
    assert "64 KiB" in problem["detail"]
    said = [(b"content-length", str(most + 1).encode())]
    assert ask("/api/session", [], reads_all, said)[0]["status"] == 413


def test_a_body_that_does_not_end_is_given_up(
    asgi: ModuleType, monkeypatch: pytest.MonkeyPatch
) -> None:
    """L11: half a body holds nothing for ever.

    A whole one is followed by as long a wait as the work takes.
    """
    monkeypatch.setattr(body_limits, "WITHIN", 0.01)
    sent: Events = []

    async def run(parts: Events) -> None:
        coming = iter(parts)

        async def receive() -> dict[str, Any]:
            event = next(coming, None)
            if event is None:
                await asyncio.Event().wait()
            assert event is not None
            return event

        async def send(event: dict[str, Any]) -> None:
            sent.append(event)

        async def work(scope: Any, receive: Any, send: Any) -> None:
            await reads_all(scope, receive, send)
            loop = asyncio.get_running_loop()
            over = loop.time() + body_limits.WITHIN
            while loop.time() <= over:
                await asyncio.sleep(0)
            assert (await receive())["type"] == "http.disconnect"

        monkeypatch.setattr(asgi, "_django", work)
        await asgi.application(
            {
                "type": "http",
                "method": "POST",
                "path": "/api/people",
                "headers": [],
                "client": ("192.0.2.1", 5),
                "scheme": "http",
            },
            receive,
            send,
        )

    asyncio.run(run([{"type": "http.request", "body": b"a", "more_body": True}]))
    assert sent[0]["status"] == 408
    assert json.loads(sent[1]["body"])["code"] == "request-incomplete"
    sent.clear()
    asyncio.run(run([*chunks(1, 1), {"type": "http.disconnect"}]))
    assert sent[0]["status"] == 200


def test_every_operation_has_a_limit_and_none_is_put_on_disk() -> None:
    limits = {
        operation.name: body_limits.of(operation.path)
        for operation in operations()
        if operation.method in UNSAFE
    }
    assert set(limits.values()) == {64 * 1024, body_limits.USUAL, 40 * 1024 * 1024}
    assert {
        name.rpartition("/")[2] for name, most in limits.items() if most > body_limits.USUAL
    } == {"imports", "previews"}
    assert all("/inventory/" in name for name, most in limits.items() if most > body_limits.USUAL)
    assert {name for name, most in limits.items() if most < body_limits.USUAL} == {
        name for name in limits if "/api/session" in name or "/api/links/" in name
    }
    assert max(most for _, most in body_limits.BY_ADDRESS) <= settings.FILE_UPLOAD_MAX_MEMORY_SIZE


def test_a_trailer_is_no_header(ask: Ask) -> None:
    """M2: a server puts what stands after a chunked body into the list of headers."""
    seen: list[list[tuple[bytes, bytes]]] = []
    headers = [(b"host", b"a.example")]

    async def work(scope: Any, receive: Any, send: Any) -> None:
        headers.append((b"client-cert", b":AAAA:"))
        await reads_all(scope, receive, send)
        seen.append(scope["headers"])

    ask("/relay/cargo", chunks(1), work, headers)
    assert seen == [[(b"host", b"a.example")]]


@pytest.mark.parametrize(
    ("proxies", "peer", "told", "seen"),
    [
        ((), "127.0.0.1", "203.0.113.9", "127.0.0.1"),  # M1: believed from nobody unless it is set
        (("127.0.0.1",), "127.0.0.1", "203.0.113.9", "203.0.113.9"),
        (("127.0.0.1",), "192.0.2.1", "203.0.113.9", "192.0.2.1"),
        (
            ("127.0.0.1",),
            "127.0.0.1",
            "198.51.100.7, 203.0.113.9",
            "203.0.113.9",
        ),  # the first was put there by the caller
        (("127.0.0.1", "10.0.0.0/8"), "127.0.0.1", "203.0.113.9, 10.1.2.3", "203.0.113.9"),
        (("127.0.0.1",), "127.0.0.1", "anything", ""),
        (("127.0.0.1",), "127.0.0.1", "", "127.0.0.1"),
        (("127.0.0.1",), "127.0.0.1", "127.0.0.1", "127.0.0.1"),
    ],
)
def test_only_a_proxy_of_ours_says_who_calls(
    ask: Ask, settings: Any, proxies: tuple[str, ...], peer: str, told: str, seen: str
) -> None:
    settings.PROXIES = proxies
    found: list[tuple[str, str, str]] = []

    async def work(scope: Any, receive: Any, send: Any) -> None:
        found.append((scope["client"][0], scope["neatlatch.peer"], scope["scheme"]))

    ask(
        "/api/people",
        chunks(1),
        work,
        [(b"x-forwarded-for", told.encode()), (b"x-forwarded-proto", b"https")],
        peer,
    )
    assert found == [(seen, peer, "https" if peer in proxies else "http")]


def test_who_hangs_up_is_known_where_the_work_is(ask: Ask) -> None:
    found: list[tuple[bool, bool, str]] = []

    async def work(scope: Any, receive: Any, send: Any) -> None:
        before = caller.now().hung_up.is_set()
        await receive()
        await receive()
        found.append(
            (
                before,
                await asyncio.to_thread(lambda: caller.now().hung_up.is_set()),
                caller.now().key,
            )
        )

    ask("/api/people", [*chunks(1), {"type": "http.disconnect"}], work)
    assert found == [(False, True, "192.0.2.1")]


def test_callers_are_told_apart_by_their_session(ask: Ask) -> None:
    keys: list[str] = []

    async def work(scope: Any, receive: Any, send: Any) -> None:
        keys.append(caller.now().key)

    name = settings.SESSION_COOKIE_NAME
    for cookie in (f"{name}=one; other=1", f"other=2; {name}=one", f"{name}=two", f"not{name}=one"):
        ask("/api/people", chunks(1), work, [(b"cookie", cookie.encode())])
    assert keys[0] == keys[1] != keys[2]
    assert keys[3] == "192.0.2.1"
    assert "one" not in keys


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
)


def parts(value: Any) -> tuple[int, int]:
    """Containers in a JSON value, and the commas between their parts."""
    if not isinstance(value, dict | list):
        return 0, 0
    within = [parts(text) for text in (value.values() if isinstance(value, dict) else value)]
    return 1 + sum(one for one, _ in within), max(len(value) - 1, 0) + sum(one for _, one in within)


@given(VALUES)
def test_what_stands_in_texts_does_not_count(value: Any) -> None:
    for ascii_only in (True, False):
        bare = json_bodies._TEXT.sub(
            b"", json.dumps(value, ensure_ascii=ascii_only).encode("utf-8", "surrogatepass")
        )
        assert (bare.count(b"[") + bare.count(b"{"), bare.count(b",")) == parts(value)


@pytest.mark.parametrize(
    "body",
    [
        b'"' + b'\\"' * 2_000_000,
        b'"' * 4_000_000,
        b"\\" * 4_000_000,
        b'"\\' * 2_000_000,
        b'["\\\\"' * 800_000,
    ],
    ids=lambda item: repr(item[:6]),
)
def test_looking_over_a_body_takes_no_longer_than_reading_it(body: bytes) -> None:
    begun = time.process_time()
    json_bodies.is_fair(body)
    assert time.process_time() - begun < 8


def test_half_a_million_lists_are_refused() -> None:
    assert json_bodies.is_fair(json.dumps([[1, [2]]] * 20_000).encode())
    assert not json_bodies.is_fair(b"[" + b"[]," * 500_000 + b"[]]")


# The child


def test_a_child_answers_and_raises_what_the_work_does(transactional_db: None) -> None:
    assert heavy.run(work.sorted_words, "c a b") == ["a", "b", "c"]
    with pytest.raises(ZeroDivisionError):
        heavy.run(work.divide, 1, 0)
    assert heavy.run(work.sorted_words, "b a") == ["a", "b"]


def test_a_child_has_so_much_memory_and_no_secrets(transactional_db: None) -> None:
    with refused_with("too-much-work"):
        heavy.run(work.bytes_of, 600 * 2**20)
    assert heavy.run(work.environment_of_it) <= {"PYTHONPATH", "PATH", "LANG", "LC_CTYPE"}
    with pytest.raises(OSError):
        heavy.run(work.writes)


def test_a_child_that_held_much_is_replaced_and_an_answer_too_large_to_tell_is_told_so(
    transactional_db: None,
) -> None:
    heavy.end_idle()
    heavy.run(work.sorted_words, "a")
    first = [item.process.pid for item in heavy._POOL._idle]
    assert heavy.run(work.keeps, 300 * 2**20) == 300 * 2**20
    assert heavy._POOL._idle == []
    with refused_with("too-much-work"):
        heavy.run(work.words_of, 300 * 2**20)
    with refused_with("too-much-work"):
        heavy.run(work.raises_words_of, 300 * 2**20)
    heavy.run(work.sorted_words, "a")
    (again,) = (item.process.pid for item in heavy._POOL._idle)
    assert again not in first


def test_one_caller_and_all_together_may_ask_for_so_much() -> None:
    pool, others = (
        heavy._Pool(),
        [caller.Caller(f"other {number}") for number in range(heavy._MOST_WAITING)],
    )
    one = caller.Caller("one")
    pool._working, pool._asking["one"] = heavy.CHILDREN, heavy._MOST_OF_ONE
    with refused_with("too-much-at-once") as refused:
        pool.take(one)
    assert (refused.value.status, refused.value.extra["retry_after"]) == (429, 5)
    for other in others:
        pool._asking[other.key] += 1
    with refused_with("busy-with-others") as refused:
        pool.take(caller.Caller("another"))
    assert refused.value.status == 503
    pool._asking.clear()
    one.hung_up.set()
    with pytest.raises(caller.CallerGone):
        pool.take(one)
    assert not pool._asking


def test_a_child_that_was_lost_is_replaced(transactional_db: None) -> None:
    heavy.run(work.sorted_words, "a")
    for item in heavy._POOL._idle:
        item.process.kill()
        item.process.wait()
    assert heavy.run(work.sorted_words, "a") == ["a"]


def test_no_work_for_a_child_within_a_transaction(db: None) -> None:
    with pytest.raises(RuntimeError):
        heavy.run(work.sorted_words, "a")
