"""The stand-in keeps to the standards it speaks, with oauthlib as the client; nothing of neatlatch
takes part here.
"""

from __future__ import annotations

import base64
import hashlib
import secrets
import ssl
from collections.abc import Iterator
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from oauthlib.oauth2 import (
    BackendApplicationClient,
    InvalidClientError,
    InvalidGrantError,
    WebApplicationClient,
)

from tests.harness import NOBODY, StandIns

URI = "https://client.example/return"


@pytest.fixture
def web(stand_ins: StandIns) -> Iterator[httpx.Client]:
    from tests.settings import HOME_OF_TESTS

    context = ssl.create_default_context(
        cafile=str(HOME_OF_TESTS / "standins" / "certificates" / "root.pem")
    )
    with httpx.Client(verify=context, base_url=stand_ins.issuer(), timeout=60) as client:
        yield client


def register(web: httpx.Client, **more: Any) -> dict[str, Any]:
    fields = {
        "client_name": "reference",
        "redirect_uris": [URI],
        "scope": "manifest.read berth.read",
        "token_endpoint_auth_method": "client_secret_post",
        "grant_types": ["authorization_code", "refresh_token", "client_credentials"],
        **more,
    }
    answer = web.post("/register", json=fields)
    assert answer.status_code == 201, answer.text
    found: dict[str, Any] = answer.json()
    return found


def token(web: httpx.Client, body: str) -> httpx.Response:
    return web.post(
        "/token", content=body, headers={"Content-Type": "application/x-www-form-urlencoded"}
    )


def code_for(
    stand_ins: StandIns, client: WebApplicationClient, verifier: str, scope: str = "manifest.read"
) -> dict[str, str]:
    """Sign in at the stand-in's screens and agree; returns what came back."""
    challenge = (
        base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
    )
    url = client.prepare_request_uri(
        "https://screens.example/authorize",
        redirect_uri=URI,
        scope=scope,
        state="st",
        code_challenge=challenge,
        code_challenge_method="S256",
    )
    # oauthlib speaks of https addresses only; the screens are on this machine, in the open.
    url = url.replace("https://screens.example", stand_ins.screens())
    browser = httpx.Client(base_url=stand_ins.screens(), verify=NOBODY)
    ticket = browser.get(url).text.split("name=ticket value='")[1].split("'")[0]
    browser.post("/choose", data={"ticket": ticket, "account": "svc-manifests@gannet.example"})
    back = browser.post("/answer", data={"ticket": ticket, "say": "yes"}).headers["location"]
    assert back.startswith(URI)
    return {key: value[0] for key, value in parse_qs(urlsplit(back).query).items()}


def test_metadata(web: httpx.Client, stand_ins: StandIns) -> None:
    """RFC 8414 §2, §3.3; RFC 9207 §3."""
    told = web.get("/.well-known/oauth-authorization-server").json()
    assert told["issuer"] == stand_ins.issuer()
    assert told["code_challenge_methods_supported"] == ["S256"]
    assert told["authorization_response_iss_parameter_supported"] is True
    for key in (
        "token_endpoint",
        "registration_endpoint",
        "revocation_endpoint",
        "introspection_endpoint",
    ):
        assert told[key].startswith(stand_ins.issuer())


def test_code_refresh_and_revocation(web: httpx.Client, stand_ins: StandIns) -> None:
    """RFC 6749 §4.1, §6; RFC 7636; RFC 7009; RFC 9700 §4.14.2."""
    made = register(web)
    client = WebApplicationClient(made["client_id"])
    verifier = secrets.token_urlsafe(48)
    back = code_for(stand_ins, client, verifier)
    assert (back["state"], back["iss"]) == ("st", stand_ins.issuer())
    body = client.prepare_request_body(
        code=back["code"],
        redirect_uri=URI,
        client_secret=made["client_secret"],
        code_verifier=verifier,
    )
    answer = token(web, body)
    assert answer.headers["cache-control"] == "no-store"  # §5.1
    first = client.parse_request_body_response(answer.text)
    assert first["token_type"] == "Bearer"
    assert first["expires_in"] == 900
    with pytest.raises(
        InvalidGrantError
    ):  # a code serves once, and its second use ends what came of it (§4.1.2)
        client.parse_request_body_response(token(web, body).text)
    assert (
        web.get(
            "/api/manifests", headers={"Authorization": f"Bearer {first['access_token']}"}
        ).status_code
        == 401
    )

    verifier = secrets.token_urlsafe(48)
    back = code_for(stand_ins, client, verifier)
    body = client.prepare_request_body(
        code=back["code"],
        redirect_uri=URI,
        client_secret=made["client_secret"],
        code_verifier=verifier,
    )
    first = client.parse_request_body_response(token(web, body).text)

    def refresh(value: str) -> Any:
        asked = client.prepare_refresh_body(
            refresh_token=value, client_id=made["client_id"], client_secret=made["client_secret"]
        )
        return client.parse_request_body_response(token(web, asked).text)

    second = refresh(first["refresh_token"])
    assert second["refresh_token"] != first["refresh_token"]
    again = refresh(
        first["refresh_token"]
    )  # nothing of the second was used: its answer was plainly lost
    with pytest.raises(InvalidGrantError):
        refresh(second["refresh_token"])
    assert (
        web.get(
            "/api/manifests", headers={"Authorization": f"Bearer {again['access_token']}"}
        ).status_code
        == 200
    )
    with pytest.raises(
        InvalidGrantError
    ):  # now it was used: the old one shown again is reuse, and ends the family
        refresh(first["refresh_token"])
    with pytest.raises(InvalidGrantError):
        refresh(again["refresh_token"])
    assert (
        web.get(
            "/api/manifests", headers={"Authorization": f"Bearer {again['access_token']}"}
        ).status_code
        == 401
    )
    asked = {
        "token": "whatever",
        "client_id": made["client_id"],
        "client_secret": made["client_secret"],
    }
    assert (
        web.post("/revoke", data=asked).status_code == 200
    )  # RFC 7009 §2.2: an unknown token is no error


def test_client_credentials_and_introspection(web: httpx.Client) -> None:
    """RFC 6749 §4.4, RFC 7662 §2.2."""
    made = register(web)
    client = BackendApplicationClient(made["client_id"])
    body = client.prepare_request_body(
        scope=["berth.read"], include_client_id=True, client_secret=made["client_secret"]
    )
    got = client.parse_request_body_response(token(web, body).text, scope=["berth.read"])
    proof = {"client_id": made["client_id"], "client_secret": made["client_secret"]}
    told = web.post("/introspect", data={"token": got["access_token"], **proof}).json()
    assert (told["active"], told["scope"]) == (True, "berth.read")
    assert web.post("/introspect", data={"token": "none", **proof}).json() == {"active": False}
    wrong = client.prepare_request_body(include_client_id=True, client_secret="wrong")
    with pytest.raises(InvalidClientError):
        client.parse_request_body_response(token(web, wrong).text)


@pytest.mark.parametrize(
    ("body", "status", "error"),
    [
        ("", 401, "invalid_client"),
        ("{client}", 400, "invalid_request"),
        ("{client}&grant_type=telepathy", 400, "unsupported_grant_type"),
        ("{client}&grant_type=authorization_code&code=none", 400, "invalid_grant"),
        ("{client}&grant_type=refresh_token&refresh_token=none", 400, "invalid_grant"),
        ("{client}&grant_type=client_credentials", 400, "unauthorized_client"),
        ("{client}&grant_type=refresh_token&grant_type=refresh_token", 400, "invalid_request"),
    ],
)
def test_error_replies_of_the_token_endpoint(
    web: httpx.Client, body: str, status: int, error: str
) -> None:
    """RFC 6749 §5.2."""
    made = register(web, grant_types=["authorization_code", "refresh_token"])
    answer = token(
        web,
        body.replace(
            "{client}", f"client_id={made['client_id']}&client_secret={made['client_secret']}"
        ),
    )
    assert (answer.status_code, answer.json()["error"]) == (status, error)
    assert answer.headers["cache-control"] == "no-store"


def test_a_client_that_used_the_header_is_told_so_by_the_header(web: httpx.Client) -> None:
    """RFC 6749 §5.2: 401 with WWW-Authenticate when the client used the Authorization header."""
    answer = web.post("/token", data={"grant_type": "client_credentials"}, auth=("nobody", "wrong"))
    assert answer.status_code == 401
    assert answer.headers["www-authenticate"].startswith("Basic ")


def test_challenges_of_the_api(web: httpx.Client) -> None:
    """RFC 6750 §3 and §3.1."""
    made = register(web)
    body = (
        f"grant_type=client_credentials&scope=berth.read&client_id={made['client_id']}"
        f"&client_secret={made['client_secret']}"
    )
    bearer = {"Authorization": f"Bearer {token(web, body).json()['access_token']}"}
    assert web.get("/api/berths", headers=bearer).status_code == 200
    nothing = web.get("/api/manifests")
    assert (nothing.status_code, nothing.headers["www-authenticate"]) == (
        401,
        'Bearer realm="harbour"',
    )  # no error code without a credential
    wrong = web.get("/api/manifests", headers={"Authorization": "Bearer none"})
    assert wrong.status_code == 401
    assert 'error="invalid_token"' in wrong.headers["www-authenticate"]
    short = web.get("/api/manifests", headers=bearer)
    assert short.status_code == 403
    assert 'error="insufficient_scope"' in short.headers["www-authenticate"]
    assert 'scope="manifest.read"' in short.headers["www-authenticate"]


def test_registration_and_management(web: httpx.Client) -> None:
    """RFC 7591 §3.2, RFC 7592 §2 and §3."""
    made = register(web)
    assert made["client_secret_expires_at"] > made["client_id_issued_at"]
    own, key = (
        made["registration_client_uri"],
        {"Authorization": f"Bearer {made['registration_access_token']}"},
    )
    assert web.get(own, headers=key).json()["redirect_uris"] == [URI]
    assert web.get(own, headers={"Authorization": "Bearer none"}).status_code == 401
    fields = {
        "client_id": made["client_id"],
        "redirect_uris": [URI, URI + "/"],
        "scope": "manifest.read",
        "grant_types": ["authorization_code"],
    }
    assert web.put(own, headers=key, json=fields).json()["redirect_uris"] == [URI, URI + "/"]
    assert (
        web.put(own, headers=key, json={**fields, "client_id": "another"}).json()["error"]
        == "invalid_client_metadata"
    )
    assert (
        web.put(own, headers=key, json={**fields, "registration_access_token": "x"}).status_code
        == 400
    )
    for bad, error in (
        ({"redirect_uris": ["http://sketchy.example.com"]}, "invalid_redirect_uri"),
        ({"scope": "x"}, "invalid_client_metadata"),
    ):
        refused = web.post("/register", json={"redirect_uris": [URI], **bad})
        assert (refused.status_code, refused.json()["error"]) == (400, error)
    assert web.delete(own, headers=key).status_code == 204
    assert web.get(own, headers=key).status_code == 401


@pytest.mark.parametrize(
    ("change", "error"),
    [
        ({"response_type": "token"}, "unsupported_response_type"),
        ({"scope": "customs.file"}, "invalid_scope"),
        ({"code_challenge_method": "plain"}, "invalid_request"),
    ],
)
def test_errors_of_the_sign_in_page_go_back(
    web: httpx.Client, stand_ins: StandIns, change: dict[str, str], error: str
) -> None:
    """RFC 6749 §4.1.2.1."""
    made = register(web)
    asked = {
        "response_type": "code",
        "client_id": made["client_id"],
        "redirect_uri": URI,
        "scope": "manifest.read",
        "state": "st",
        "code_challenge": "x" * 43,
        "code_challenge_method": "S256",
        **change,
    }
    answer = httpx.get(f"{stand_ins.screens()}/authorize", params=asked, verify=NOBODY)
    assert answer.headers["location"].startswith(URI)
    back = {
        key: value[0] for key, value in parse_qs(urlsplit(answer.headers["location"]).query).items()
    }
    assert (back["error"], back["state"], back["iss"]) == (error, "st", stand_ins.issuer())
    # A wrong redirect URI or client sends nobody anywhere.
    for key, value in (("redirect_uri", URI + "/"), ("client_id", "none")):
        refused = httpx.get(
            f"{stand_ins.screens()}/authorize", params={**asked, key: value}, verify=NOBODY
        )
        assert refused.status_code == 400
        assert "location" not in refused.headers


def test_two_secrets_may_live_at_once(web: httpx.Client, stand_ins: StandIns) -> None:
    made = register(web)
    office = httpx.Client(base_url=stand_ins.screens(), follow_redirects=True, verify=NOBODY)
    office.post("/office/enter")
    page = office.post(f"/office/{made['client_id']}/secret").text
    second = page.split("Secret value<td><code>")[1].split("<")[0]
    assert office.post(f"/office/{made['client_id']}/secret").status_code == 409
    for secret in (made["client_secret"], second):
        body = (
            f"grant_type=client_credentials&scope=berth.read&client_id={made['client_id']}"
            f"&client_secret={secret}"
        )
        assert token(web, body).status_code == 200
