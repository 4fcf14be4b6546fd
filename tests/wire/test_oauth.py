"""Reading what authorization servers answer on the wire: would a sign-in be taken, what is
published, why was it refused.
"""

from __future__ import annotations

import json

import pytest

from neatlatch.core.evidence import CauseClass, Exchange
from neatlatch.core.replies import Reading
from neatlatch.wire import oauth
from neatlatch.wire.transport import HttpReply, Transport

from .test_transport import LOOPBACK, server

URI = "https://c.example/return"


def answer(status: int, location: str = "") -> HttpReply:
    return HttpReply(
        status, {"location": location} if location else {}, "", Exchange("GET", "x", (), "", status)
    )


@pytest.mark.parametrize(
    ("status", "location", "code"),
    [
        (200, "", None),  # a sign-in page
        (302, "https://as.example/login?next=x", None),  # on to one
        (
            302,
            f"{URI}?error=login_required&state=s",
            None,
        ),  # OpenID Connect Core 1.0 §3.1.2.6: comes with a person
        (303, f"{URI}?error=invalid_scope&state=s", "invalid_scope"),
        (303, f"{URI}?error=unauthorized_client", "unauthorized_client"),
        (400, "", "refused_without_return"),  # RFC 6749 §4.1.2.1
        (404, "", "no_sign_in_page"),  # RFC 9110 §15.5.5
        (410, "", "no_sign_in_page"),
        (429, "", "pace"),
        (503, "", "status_503"),
    ],
)
def test_whether_a_sign_in_would_be_taken(status: int, location: str, code: str | None) -> None:
    found = oauth.would_take(answer(status, location), "s", URI)
    assert (found.code if found else None) == code


@pytest.mark.parametrize(
    ("error", "status", "cause"),
    [
        ("invalid_client", 401, CauseClass.CREDENTIAL),
        ("invalid_grant", 400, CauseClass.CREDENTIAL),
        ("invalid_scope", 400, CauseClass.RIGHT),
        ("insufficient_scope", 403, CauseClass.RIGHT),
        (None, 403, CauseClass.RIGHT),
        (None, 429, CauseClass.PACE),
        (None, 502, CauseClass.THEIRS),
        ("server_error", None, CauseClass.THEIRS),
        (None, 404, CauseClass.UNKNOWN),
    ],
)
def test_refusals_fall_into_classes(
    error: str | None, status: int | None, cause: CauseClass
) -> None:
    assert oauth.failure_of(Reading(False, error, "refused"), "token", status).cause is cause


def reply(body: str, status: str = "200 OK", kind: str = "application/json") -> bytes:
    return (
        f"HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: "
        f"{len(body.encode())}\r\n\r\n{body}"
    ).encode()


@pytest.mark.parametrize(
    ("body", "status", "said"),
    [
        ("<html>", "200 OK", "is not JSON"),
        ("[" * 50_000, "200 OK", "is not JSON"),
        ("[]", "200 OK", "not a JSON object"),
        ("{}", "200 OK", "“issuer” is missing"),
        ('{"issuer": "https://other.example"}', "200 OK", "must be the same"),
        ("", "404 Not Found", "answered 404"),
    ],
)
def test_metadata_that_cannot_be_read_is_explained(body: str, status: str, said: str) -> None:
    with (
        server(reply(body, status)) as (port, _),
        Transport(LOOPBACK) as transport,
        pytest.raises(oauth.Unreadable, match=said),
    ):
        oauth.fetch_metadata(transport, f"http://127.0.0.1:{port}")


def test_metadata_of_a_loopback_server_is_read() -> None:
    def told(port: int) -> bytes:
        issuer = f"http://127.0.0.1:{port}"
        return reply(
            json.dumps(
                {
                    "issuer": issuer,
                    "authorization_endpoint": f"{issuer}/a",
                    "token_endpoint": f"{issuer}/t",
                }
            )
        )

    with server(told) as (port, seen), Transport(LOOPBACK) as transport:
        found_at, found = oauth.fetch_metadata(transport, f"http://127.0.0.1:{port}")
    assert found_at.endswith("/.well-known/oauth-authorization-server")
    assert found.token_endpoint == f"http://127.0.0.1:{port}/t"
    assert b"authorization:" not in seen[0].lower()


def test_a_description_that_is_none() -> None:
    with (
        server(reply('{"swagger": "2.0"}')) as (port, _),
        Transport(LOOPBACK) as transport,
        pytest.raises(oauth.Unreadable, match="OpenAPI 3"),
    ):
        oauth.fetch_description(transport, f"http://127.0.0.1:{port}/openapi.json")
