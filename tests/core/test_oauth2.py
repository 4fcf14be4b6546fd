"""OAuth requests against oauthlib as an independent implementation, and PKCE against RFC 7636."""

from __future__ import annotations

import base64
from urllib.parse import parse_qs, parse_qsl, unquote_plus, urlsplit

from hypothesis import given
from hypothesis import strategies as st
from oauthlib.oauth2 import BackendApplicationClient, WebApplicationClient
from oauthlib.oauth2.rfc6749.parameters import prepare_token_request

from neatlatch.core import basic, oauth2, pkce

VERIFIER = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"  # RFC 7636 App. B
TEXT = st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=30)


def _form(request: oauth2.Request) -> dict[str, str]:
    return dict(parse_qsl(request.body, keep_blank_values=True))


@given(
    TEXT,
    st.sampled_from(["https://c.example/return", "http://127.0.0.1:8600/return/?a=b"]),
    st.sets(st.sampled_from("abcde"), max_size=4),
    TEXT,
)
def test_authorization_address(
    client_id: str, redirect_uri: str, scopes: set[str], state: str
) -> None:
    """RFC 6749 §4.1.1 with RFC 7636 §4.3."""
    ours = oauth2.authorization_url(
        "https://as.example/authorize",
        client_id,
        redirect_uri,
        frozenset(scopes),
        state,
        pkce.challenge(VERIFIER),
    )
    client = WebApplicationClient(client_id)
    client.code_challenge, client.code_challenge_method = (
        client.create_code_challenge(VERIFIER, "S256"),
        "S256",
    )
    theirs = client.prepare_request_uri(
        "https://as.example/authorize",
        redirect_uri=redirect_uri,
        scope=sorted(scopes),
        state=state,
        code_challenge=client.code_challenge,
        code_challenge_method="S256",
    )
    assert parse_qs(urlsplit(ours).query) == parse_qs(urlsplit(theirs).query)


def test_a_query_of_the_endpoint_is_kept() -> None:
    """RFC 6749 §3.1."""
    url = oauth2.authorization_url(
        "https://as.example/authorize?tenant=7", "c", "https://c.example/", frozenset(), "s", "x"
    )
    assert parse_qs(urlsplit(url).query)["tenant"] == ["7"]


@given(TEXT, TEXT, TEXT)
def test_token_requests(client_id: str, secret: str, code: str) -> None:
    """RFC 6749 §4.1.3, §4.4.2, §6, with the secret in the body."""
    client = oauth2.Client(client_id, secret, "client_secret_post")
    ours = oauth2.code_request(
        "https://as.example/token", client, code, "https://c.example/return", VERIFIER
    )
    theirs = prepare_token_request(
        "authorization_code",
        code=code,
        redirect_uri="https://c.example/return",
        client_id=client_id,
        client_secret=secret,
        code_verifier=VERIFIER,
    )
    assert _form(ours) == dict(parse_qsl(theirs))
    ours = oauth2.refresh_request("https://as.example/token", client, code)
    theirs = prepare_token_request(
        "refresh_token", refresh_token=code, client_id=client_id, client_secret=secret
    )
    assert _form(ours) == dict(parse_qsl(theirs))
    ours = oauth2.client_credentials_request(
        "https://as.example/token", client, frozenset({"b", "a"})
    )
    theirs = BackendApplicationClient(client_id).prepare_request_body(
        scope=["a", "b"], include_client_id=True, client_secret=secret
    )
    assert _form(ours) == dict(parse_qsl(theirs))


@given(st.text(min_size=1, max_size=20), st.text(min_size=1, max_size=20))
def test_basic_can_be_taken_apart_again(client_id: str, secret: str) -> None:
    """RFC 6749 §2.3.1: both parts are form-encoded before they are joined, so a colon or a “ü” in
    them does no harm.
    """
    pair = base64.b64decode(basic.client(client_id, secret).removeprefix("Basic ")).decode()
    first, _, second = pair.partition(":")
    assert (unquote_plus(first), unquote_plus(second)) == (client_id, secret)


def test_public_clients_send_their_id_and_no_secret() -> None:
    request = oauth2.refresh_request(
        "https://as.example/token", oauth2.Client("c", "", "none"), "r"
    )
    assert _form(request) == {"grant_type": "refresh_token", "refresh_token": "r", "client_id": "c"}
    assert "Authorization" not in dict(request.headers)


def test_an_update_leaves_out_what_must_not_be_sent_back() -> None:
    """RFC 7592 §2.2."""
    request = oauth2.update_request(
        "https://as.example/r/1",
        {"client_id": "c", "registration_access_token": "t", "client_secret_expires_at": 0},
        "t",
    )
    assert request.body == '{"client_id": "c"}'


def test_reprs_show_no_secret() -> None:
    assert "hush" not in repr(oauth2.Client("c", "hush"))


@given(st.binary(min_size=32, max_size=96))
def test_verifiers_answer_their_challenge(octets: bytes) -> None:
    """RFC 7636 §4.1, §4.2, §4.6, against oauthlib's computation."""
    verifier = pkce.verifier_from(octets)
    challenge = pkce.challenge(verifier)
    assert challenge == WebApplicationClient("c").create_code_challenge(verifier, "S256")
    assert pkce.verify(verifier, challenge).holds
    assert not pkce.verify(verifier, challenge + "=").holds
