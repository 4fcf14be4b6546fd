"""The road: what may be called, what is told when it breaks, and what is never sent on."""

from __future__ import annotations

import socket
import ssl
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest
import trustme
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.oauth2 import Request, api_request
from neatlatch.wire.road import Limits, Policy, Road, RoadError

LOOPBACK = Policy(("127.0.0.0/8", "::1/128"))
OK = b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"


@contextmanager
def server(
    answer: bytes | Callable[[int], bytes], context: ssl.SSLContext | None = None, silent: bool = False
) -> Iterator[tuple[int, list[bytes]]]:
    """A server of a few lines that answers every request alike, and keeps what it was sent."""
    listening = socket.create_server(("127.0.0.1", 0))
    seen: list[bytes] = []

    def serve() -> None:
        while True:
            try:
                line, _ = listening.accept()
            except OSError:
                return
            try:
                line = context.wrap_socket(line, server_side=True) if context else line
                seen.append(line.recv(65536))
                if not silent:
                    line.sendall(answer if isinstance(answer, bytes) else answer(listening.getsockname()[1]))
            except OSError:
                pass
            if not silent:
                line.close()

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    yield listening.getsockname()[1], seen
    listening.close()


def code_of(road: Road, url: str) -> str:
    with road, pytest.raises(RoadError) as broken:
        road.send(Request("GET", url))
    return f"{broken.value.failure.kind}/{broken.value.failure.code}"


@pytest.mark.parametrize(
    ("address", "allowed"),
    [
        ("8.8.8.8", True),
        ("127.0.0.1", True),
        ("10.0.0.1", False),
        ("192.168.1.1", False),
        ("169.254.169.254", False),  # cloud metadata, link-local (RFC 3927)
        ("fe80::1%eth0", False),
        ("fd00:ec2::254", False),
        ("::ffff:169.254.169.254", False),
        ("0.0.0.0", False),
        ("224.0.0.1", False),
        ("::1", True),
    ],
)
def test_which_addresses_may_be_called(address: str, allowed: bool) -> None:
    assert LOOPBACK.allows(address) is allowed


@given(st.ip_addresses(v=4, network="169.254.0.0/16"))
def test_link_local_is_never_allowed(address: object) -> None:
    assert not Policy(("0.0.0.0/0",)).allows(str(address))


def test_a_private_address_is_refused_unless_its_range_is_allowed() -> None:
    with server(OK) as (port, seen):
        assert code_of(Road(Policy()), f"http://127.0.0.1:{port}/") == "socket/forbidden_address"
        assert seen == []
        with Road(LOOPBACK) as road:
            assert road.send(Request("GET", f"http://127.0.0.1:{port}/")).text == "ok"


def test_nothing_listens() -> None:
    with socket.create_server(("127.0.0.1", 0)) as one:
        port = one.getsockname()[1]
    assert code_of(Road(LOOPBACK), f"http://127.0.0.1:{port}/") == "socket/refused"


@pytest.mark.parametrize(
    ("error", "code"), [(socket.EAI_NONAME, "no_such_name"), (socket.EAI_NODATA, "no_such_name"), (socket.EAI_AGAIN, "resolver_silent")]
)
def test_a_name_that_is_not_known_is_told_from_a_resolver_that_does_not_answer(
    monkeypatch: pytest.MonkeyPatch, error: int, code: str
) -> None:
    """RFC 3493 §6.1: what getaddrinfo says, whatever network this machine has."""

    def fall(*_: object, **__: object) -> None:
        raise socket.gaierror(error, "as the resolver says")

    monkeypatch.setattr(socket, "getaddrinfo", fall)
    assert code_of(Road(LOOPBACK), "http://no-such-host.invalid/") == f"resolver/{code}"


def test_no_answer_within_the_time_limit() -> None:
    with server(b"", silent=True) as (port, _):
        assert code_of(Road(LOOPBACK, Limits(total=0.3)), f"http://127.0.0.1:{port}/") == "socket/timeout"


def test_an_answer_larger_than_the_limit() -> None:
    big = b"HTTP/1.1 200 OK\r\nContent-Length: 5000\r\n\r\n" + b"x" * 5000
    with server(big) as (port, _):
        assert code_of(Road(LOOPBACK, Limits(size=1000)), f"http://127.0.0.1:{port}/") == "socket/too_large"


def test_what_is_not_http() -> None:
    with server(b"220 mail ready\r\n") as (port, _):
        assert code_of(Road(LOOPBACK), f"http://127.0.0.1:{port}/") == "socket/reset"
        assert code_of(Road(LOOPBACK), f"https://127.0.0.1:{port}/").startswith("tls/")


def test_certificates_are_checked(tmp_path: object) -> None:
    """Untrusted, then trusted, then for another name (RFC 9525)."""
    authority = trustme.CA()
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    authority.issue_cert("elsewhere.example").configure_cert(context)
    right = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    authority.issue_cert("localhost").configure_cert(right)
    file = f"{tmp_path}/root.pem"
    authority.cert_pem.write_to_path(file)
    with server(OK, right) as (port, _):
        assert code_of(Road(LOOPBACK), f"https://localhost:{port}/") == "tls/untrusted"
        with Road(LOOPBACK, trust=file) as road:
            assert road.send(Request("GET", f"https://localhost:{port}/")).status == 200
    with server(OK, context) as (port, seen):
        assert code_of(Road(LOOPBACK, trust=file), f"https://localhost:{port}/") == "tls/name"
        assert seen == []


def test_a_redirect_is_reported_and_the_credential_goes_nowhere_else() -> None:
    with server(OK) as (elsewhere, seen_elsewhere):
        answer = f"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:{elsewhere}/\r\nContent-Length: 0\r\n\r\n".encode()
        with server(answer) as (port, seen), Road(LOOPBACK) as road:
            got = road.send(api_request("GET", f"http://127.0.0.1:{port}/", "hush-token"))
    assert got.status == 302
    assert b"hush-token" in seen[0]
    assert seen_elsewhere == []
    assert "hush-token" not in str(got.exchange)


def test_what_was_sent_is_kept_masked_also_when_the_road_breaks() -> None:
    with server(b"", silent=True) as (port, _), Road(LOOPBACK, Limits(total=0.3)) as road, pytest.raises(RoadError) as broken:
        road.send(api_request("PUT", f"http://127.0.0.1:{port}/x?token=hush-token", "hush-token", {"secret": "hush-token"}))
    assert broken.value.exchange is not None
    assert broken.value.exchange.method == "PUT"
    assert "hush-token" not in str(broken.value.exchange)
