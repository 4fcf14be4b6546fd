"""The other stand-ins keep to the standards they speak, with oauthlib, httpx, joserfc and the ssl
module as clients; nothing of neatlatch takes part here.
"""

from __future__ import annotations

import json
import re
import secrets
import socket
import ssl
import struct
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from joserfc import jwk, jwt
from oauthlib import oauth1

from tests.harness import NOBODY, StandIns

JWT_BEARER = "urn:ietf:params:oauth:grant-type:jwt-bearer"
VERIFIER = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"  # RFC 7636 App. B
CHALLENGE = "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"


def trust() -> ssl.SSLContext:
    from tests.settings import HOME_OF_TESTS

    return ssl.create_default_context(
        cafile=str(HOME_OF_TESTS / "standins" / "certificates" / "root.pem")
    )


@pytest.fixture
def web() -> Iterator[httpx.Client]:
    with httpx.Client(verify=trust(), timeout=60) as client:
        yield client


def hand_out(
    stand_ins: StandIns, office: str, role: str, environment: str = "sandbox"
) -> dict[str, str]:
    base = stand_ins.office(office, environment)
    page = httpx.post(
        f"{base}/make",
        data={"name": "reference", "account": f"svc-{office}", "role": role},
        verify=NOBODY,
    ).text
    if code := re.search(r"id=slip>(\d+)<", page):
        key = re.search(r"name=key value='([^']+)'", page)
        assert key is not None
        page = httpx.post(f"{base}/show", data={"key": key[1], "code": code[1]}, verify=NOBODY).text
    return dict(re.findall(r"<th>([^<]+)<td><code>([^<]+)</code>", page))


# OAuth 1.0a (RFC 5849), with oauthlib


def signed(
    made: dict[str, str], method: str, url: str, body: str = "", **more: str
) -> dict[str, str]:
    client = oauth1.Client(
        made["Client key"], made["Client secret"], made["Token"], made["Token secret"], **more
    )
    headers = {"Content-Type": "application/json"} if body else {}
    _, found, _ = client.sign(url, method, body or None, headers)
    return {str(key): str(value) for key, value in found.items()}


def test_signed_requests(stand_ins: StandIns, web: httpx.Client) -> None:
    made, url = (
        hand_out(stand_ins, "tides", "read-and-write"),
        f"{stand_ins.secured('tides')}/tables",
    )
    headers = signed(made, "GET", f"{url}?from=1&from=2&q=a%20b")
    assert web.get(f"{url}?from=1&from=2&q=a%20b", headers=headers).status_code == 200
    again = web.get(f"{url}?from=1&from=2&q=a%20b", headers=headers)
    assert (again.status_code, again.json()["says"]) == (401, "This nonce was used before")  # §3.3
    assert (
        web.get(f"{url}?from=1", headers=signed(made, "GET", url)).status_code == 401
    )  # another query than was signed
    assert (
        web.get(url, headers=signed(made | {"Token secret": "x"}, "GET", url)).json()["says"]
        == "The signature does not hold"
    )
    late = signed(made, "GET", url, timestamp=str(int(time.time()) - 4000))
    assert "timestamp" in web.get(url, headers=late).json()["says"]
    assert web.get(url, headers=signed(made | {"Token": "x"}, "GET", url)).status_code == 401
    assert web.get(url).headers["www-authenticate"].startswith("OAuth ")  # §3.5.1
    body = json.dumps({"port": "Little quay"})
    assert (
        web.put(
            f"{url}/reference", content=body, headers=signed(made, "PUT", f"{url}/reference", body)
        ).status_code
        == 201
    )
    assert (
        web.delete(
            f"{url}/reference", headers=signed(made, "DELETE", f"{url}/reference")
        ).status_code
        == 204
    )


# Keys, tokens, passwords


def test_a_password(stand_ins: StandIns, web: httpx.Client) -> None:
    """RFC 7617 §2, with httpx; RFC 9110 §11.6.1 wants the challenge."""
    made, url = (
        hand_out(stand_ins, "tickets", "viewer"),
        f"{stand_ins.secured('tickets')}/workshop/tickets",
    )
    assert web.get(url, auth=(made["User name"], made["Password"])).status_code == 200
    for auth in (None, (made["User name"], "wrong"), ("nobody", made["Password"])):
        answer = web.get(url, auth=auth) if auth else web.get(url)
        assert answer.status_code == 401
        assert answer.headers["www-authenticate"] == 'Basic realm="office", charset="UTF-8"'
    forbidden = web.put(
        f"{url}/1", auth=(made["User name"], made["Password"]), json={"title": "t", "vessel": "v"}
    )
    assert (forbidden.status_code, forbidden.json()["error"]) == (403, "forbidden")
    assert (
        web.get(
            f"{stand_ins.secured('tickets')}/tickets", auth=(made["User name"], made["Password"])
        ).status_code
        == 404
    )  # no root folder


def test_a_bearer_token(stand_ins: StandIns, web: httpx.Client) -> None:
    """RFC 6750 §3: no error code where no token was sent, invalid_token where a wrong one was."""
    made, url = hand_out(stand_ins, "lost", "reader"), f"{stand_ins.secured('lost')}/items"
    assert web.get(url, headers={"Authorization": f"Bearer {made['Token']}"}).status_code == 200
    assert "error=" not in web.get(url).headers["www-authenticate"]
    assert (
        'error="invalid_token"'
        in web.get(url, headers={"Authorization": "Bearer x"}).headers["www-authenticate"]
    )


def test_keys_belong_to_an_environment_and_can_be_withdrawn(
    stand_ins: StandIns, web: httpx.Client
) -> None:
    made = hand_out(stand_ins, "messages", "sender")
    assert (
        web.get(
            f"{stand_ins.secured('messages')}/messages", params={"key": made["API key"]}
        ).status_code
        == 200
    )
    assert (
        web.get(
            f"{stand_ins.secured('messages', 'staging')}/messages", params={"key": made["API key"]}
        ).status_code
        == 401
    )
    httpx.post(f"{stand_ins.office('messages')}/{made['Key ID']}/end", verify=NOBODY)
    assert (
        web.get(
            f"{stand_ins.secured('messages')}/messages", params={"key": made["API key"]}
        ).status_code
        == 401
    )


def test_a_secret_is_shown_only_for_the_right_second_code(stand_ins: StandIns) -> None:
    base = stand_ins.office("fares")
    page = httpx.post(
        f"{base}/make",
        data={"name": "reference", "account": "svc-fares", "role": "reader"},
        verify=NOBODY,
    ).text
    code, key = re.search(r"id=slip>(\d+)<", page), re.search(r"name=key value='([^']+)'", page)
    assert code is not None
    assert key is not None
    assert "API key" not in page
    wrong = httpx.post(
        f"{base}/show",
        data={"key": key[1], "code": f"{(int(code[1]) + 1) % 10**6:06d}"},
        verify=NOBODY,
    )
    assert wrong.status_code == 403
    assert (
        httpx.post(f"{base}/show", data={"key": key[1], "code": code[1]}, verify=NOBODY).status_code
        == 403
    )  # used up by the wrong one


@pytest.mark.parametrize(
    ("office", "root"),
    [("fares", ""), ("messages", ""), ("tickets", "/workshop"), ("lost", ""), ("tides", "")],
)
def test_descriptions_say_what_is_there(
    stand_ins: StandIns, web: httpx.Client, office: str, root: str
) -> None:
    """OpenAPI 3.1: every operation names the scheme and the roles that may."""
    told = web.get(f"{stand_ins.secured(office)}{root}/openapi.json").json()
    assert told["openapi"].startswith("3.1")
    assert list(told["components"]["securitySchemes"]) == ["way"]
    for item in told["paths"].values():
        for operation in item.values():
            assert operation["responses"]
            assert all(
                list(need) == ["way"] and len(need["way"]) == 1 for need in operation["security"]
            )


# The stream


class Wire:
    """Frames over TLS, manually."""

    def __init__(self, port: int) -> None:
        self.sock = trust().wrap_socket(
            socket.create_connection(("127.0.0.1", port), 5), server_hostname="localhost"
        )

    def ask(self, message: dict[str, Any]) -> dict[str, Any]:
        body = json.dumps(message).encode()
        self.sock.sendall(struct.pack("!I", len(body)) + body)
        size = struct.unpack("!I", self.exactly(4))[0]
        found: dict[str, Any] = json.loads(self.exactly(size))
        return found

    def exactly(self, count: int) -> bytes:
        parts = b""
        while len(parts) < count:
            more = self.sock.recv(count - len(parts))
            if not more:
                raise EOFError
            parts += more
        return parts


def test_the_stream(stand_ins: StandIns) -> None:
    made = hand_out(stand_ins, "positions", "listener")
    wire = Wire(stand_ins.port + 56)
    assert wire.ask({"do": "list"}) == {"ok": False, "error": "forbidden", "says": "Sign in first"}
    assert wire.ask({"do": "sign_in", "key": "nobody", "secret": "x"})["error"] == "unknown_key"
    assert (
        wire.ask({"do": "sign_in", "key": made["Key ID"], "secret": "x"})["error"] == "wrong_secret"
    )
    assert wire.ask({"do": "sign_in", "key": made["Key ID"], "secret": made["Key secret"]}) == {
        "ok": True,
        "as": "svc-positions",
    }
    topics = wire.ask({"do": "list"})["topics"]
    assert len(topics) == 2
    assert wire.ask({"do": "peek", "topic": topics[0]})["ok"]
    assert wire.ask({"do": "dance"})["error"] == "unknown"
    wire.sock.sendall(struct.pack("!I", 2**31))  # a frame too large ends the line
    with pytest.raises((EOFError, OSError)):
        wire.exactly(1)


# OAuth 2.0 applications with peculiarities


def programme(stand_ins: StandIns, office: str, scope: str, **more: str) -> tuple[str, str]:
    """A client entered in an application's own office; returns its ID and its secret."""
    base = f"{stand_ins.office(office)}{'/t/4471' if office == 'returns' else ''}"
    person = httpx.Client(follow_redirects=True, verify=NOBODY)
    person.post(f"{base}/office/enter")
    grants = more.pop("grants", "authorization_code refresh_token").split()
    made = person.post(
        f"{base}/office/clients",
        data={
            "name": "reference",
            "uris": "https://client.example/return",
            "scope": scope.split(),
            "grant": grants,
            **more,
        },
    )
    found = re.findall(r"<td><code>([^<]*)</code>", made.text)
    return found[0], found[2]


def sign_in(stand_ins: StandIns, office: str, client_id: str, scope: str, account: str) -> str:
    """Go there, pick the account, agree; returns the code, or raises with the error
    that came back.
    """
    base = f"{stand_ins.office(office)}{'/t/4471' if office == 'returns' else ''}"
    person = httpx.Client(verify=NOBODY)
    query = {
        "response_type": "code",
        "client_id": client_id,
        "redirect_uri": "https://client.example/return",
        "scope": scope,
        "state": "s",
        "code_challenge": CHALLENGE,
        "code_challenge_method": "S256",
    }
    page = person.get(f"{base}/authorize", params=query)
    if page.status_code == 303:
        raise LookupError(parse_qs(urlsplit(page.headers["location"]).query)["error"][0])
    ticket = page.text.split("name=ticket value='")[1].split("'")[0]
    person.post(f"{base}/choose", data={"ticket": ticket, "account": account})
    back = person.post(f"{base}/answer", data={"ticket": ticket, "say": "yes"}).headers["location"]
    return parse_qs(urlsplit(back).query)["code"][0]


def tokens(web: httpx.Client, url: str, client: tuple[str, str], **form: str) -> httpx.Response:
    return web.post(f"{url}/token", data=form, auth=client)


def test_one_wants_the_old_access_token_to_renew(stand_ins: StandIns, web: httpx.Client) -> None:
    client, url = programme(stand_ins, "fuel", "ledger.read"), stand_ins.secured("fuel")
    code = sign_in(stand_ins, "fuel", client[0], "ledger.read", "svc-fuel@gannet.example")
    first = tokens(
        web,
        url,
        client,
        grant_type="authorization_code",
        code=code,
        redirect_uri="https://client.example/return",
        code_verifier=VERIFIER,
    ).json()
    bare = tokens(
        web, url, client, grant_type="refresh_token", refresh_token=first["refresh_token"]
    )
    assert (bare.status_code, bare.json()["error"]) == (400, "invalid_grant")
    renewed = tokens(
        web,
        url,
        client,
        grant_type="refresh_token",
        refresh_token=first["refresh_token"],
        access_token=first["access_token"],
    )
    assert renewed.status_code == 200
    assert renewed.json()["refresh_token"] != first["refresh_token"]


def test_one_never_rotates_and_has_a_switch(stand_ins: StandIns, web: httpx.Client) -> None:
    base, url = f"{stand_ins.office('returns')}/t/4471", f"{stand_ins.secured('returns')}/t/4471"
    client = programme(stand_ins, "returns", "returns.read")
    person = httpx.Client(follow_redirects=True, verify=NOBODY)
    person.post(f"{base}/office/enter")

    def turned(on: bool) -> None:
        if ("<b>on</b>" in person.get(f"{base}/office").text) is not on:
            person.post(f"{base}/office/switch")

    was_on = "<b>on</b>" in person.get(f"{base}/office").text
    try:
        turned(False)
        with pytest.raises(LookupError, match="unauthorized_client"):
            sign_in(stand_ins, "returns", client[0], "returns.read", "svc-returns@gannet.example")
        turned(True)
        code = sign_in(
            stand_ins, "returns", client[0], "returns.read", "svc-returns@gannet.example"
        )
    finally:
        turned(was_on)
    first = tokens(
        web,
        url,
        client,
        grant_type="authorization_code",
        code=code,
        redirect_uri="https://client.example/return",
        code_verifier=VERIFIER,
    ).json()
    for _ in range(3):
        again = tokens(
            web, url, client, grant_type="refresh_token", refresh_token=first["refresh_token"]
        ).json()
        assert "refresh_token" not in again
        assert (
            web.get(
                f"{url}/api/returns", headers={"Authorization": f"Bearer {again['access_token']}"}
            ).status_code
            == 200
        )


def test_the_secret_of_one_takes_a_while_to_spread(stand_ins: StandIns, web: httpx.Client) -> None:
    client, url = (
        programme(stand_ins, "berths", "berths.read", grants="client_credentials"),
        stand_ins.secured("berths"),
    )
    form = {"grant_type": "client_credentials", "client_id": client[0], "client_secret": client[1]}
    early = web.post(f"{url}/token", data=form)
    assert (early.status_code, early.json()["error"]) == (401, "invalid_client")
    stand_ins.age(2, "secrets", environment="berths-sandbox")
    assert web.post(f"{url}/token", data=form).status_code == 200
    assert (
        tokens(web, url, client, grant_type="client_credentials").status_code == 401
    )  # it takes the secret in the body only


def test_an_assertion_signed_with_a_certificates_key(
    stand_ins: StandIns, web: httpx.Client, tmp_path: Path
) -> None:
    """RFC 7523 §3, signed with joserfc: right; again; another audience; ended; another key; another
    subject.
    """
    key, url = ec.generate_private_key(ec.SECP256R1()), stand_ins.secured("payroll")
    name, now = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "reference")]), datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(7)
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=1))
        .sign(key, hashes.SHA256())
    )
    pem = certificate.public_bytes(serialization.Encoding.PEM).decode()
    person = httpx.Client(follow_redirects=True, verify=NOBODY)
    person.post(f"{stand_ins.office('payroll')}/office/enter")
    page = person.post(
        f"{stand_ins.office('payroll')}/office/clients",
        data={
            "name": "reference",
            "scope": "payroll.read",
            "grant": JWT_BEARER,
            "certificate": pem,
        },
    ).text
    client_id = re.findall(r"<td><code>([^<]*)</code>", page)[0]

    def asked(signer: ec.EllipticCurvePrivateKey = key, **more: Any) -> httpx.Response:
        private = signer.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        )
        claims = {
            "iss": client_id,
            "sub": "svc-payroll@gannet.example",
            "aud": f"{url}/token",
            "exp": int(time.time()) + 120,
            "jti": secrets.token_hex(8),
            **more,
        }
        assertion = jwt.encode({"alg": "ES256"}, claims, jwk.ECKey.import_key(private))
        return web.post(f"{url}/token", data={"grant_type": JWT_BEARER, "assertion": assertion})

    right = asked(jti="once")
    assert right.status_code == 200, right.text
    assert right.json()["scope"] == "payroll.read"
    for refused in (
        asked(jti="once"),
        asked(aud=f"{url}/token/"),
        asked(exp=int(time.time()) - 5),
        asked(exp=int(time.time()) + 9999),
        asked(ec.generate_private_key(ec.SECP256R1())),
        asked(sub="nobody"),
    ):
        assert (refused.status_code, refused.json()["error"]) == (400, "invalid_grant")
