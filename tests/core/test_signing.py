"""What a caller sends to prove itself, against reference libraries: oauthlib, urllib, joserfc, the
openssl command.
"""

from __future__ import annotations

import base64
import json
import subprocess
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import parse_qsl, quote_plus, unquote_plus, urlencode

import joserfc.jwk
import oauthlib.oauth1
import pytest
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from hypothesis import given
from hypothesis import strategies as st
from joserfc import jws as reference_jws
from joserfc import jwt as reference_jwt
from oauthlib.oauth1.rfc5849 import signature as reference

from neatlatch.core import basic, bearer, forms, http_digest, keys, oauth1
from neatlatch.core.jose import b64, jwk, jws, jwt

TEXT = st.text(st.characters(blacklist_categories=("Cs",)), max_size=30)
WORD = st.text("abcXYZ019-._~ +&=%:/é€", min_size=1, max_size=12)
NOW = datetime(2026, 6, 1, tzinfo=UTC)


@given(TEXT)
def test_forms_against_urllib(text: str) -> None:
    assert unquote_plus(forms.encode(text)) == text
    assert forms.decode(quote_plus(text)) == text
    assert forms.decode(forms.encode(text)) == text


@pytest.mark.parametrize(
    ("text", "says"), [("%", "two hexadecimal"), ("%zz", "two hexadecimal"), ("%e9", "UTF-8")]
)
def test_broken_forms_are_told(text: str, says: str) -> None:
    with pytest.raises(forms.BadForm, match=says):
        forms.decode(text)


@given(
    TEXT.filter(lambda text: ":" not in text and text.isprintable()), TEXT.filter(str.isprintable)
)
def test_basic_there_and_back(user: str, password: str) -> None:
    """RFC 7617 §2: the first colon parts them, so a password may hold colons."""
    assert basic.decode(basic.encode(user, password)) == (user, password)


@pytest.mark.parametrize(("user", "password"), [("a:b", "c"), ("a", "b\n"), ("a\x7f", "b")])
def test_basic_refuses_what_the_standard_forbids(user: str, password: str) -> None:
    with pytest.raises(basic.BadBasic):
        basic.encode(user, password)


def test_bearer_header() -> None:
    assert bearer.header("mF_9.B5f-4.1JqM") == "Bearer mF_9.B5f-4.1JqM"  # RFC 6750 §2.1
    for bad, says in (("a b", "a space"), ("“x”", "“"), ("=a", "end"), ("", "empty")):
        with pytest.raises(ValueError, match=says):
            bearer.header(bad)


def test_digest_with_sha_256() -> None:
    """RFC 7616 §3.9.1, the second answer of the example (from memory)."""
    given = (
        "SHA-256",
        "Mufasa",
        "Circle of Life",
        "http-auth@example.org",
        "GET",
        "/dir/index.html",
        "7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v",
        "00000001",
        "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ",
        "auth",
    )
    assert (
        http_digest.response(*given)
        == "753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"
    )
    with pytest.raises(ValueError, match="not known"):
        http_digest.response("CRC", *given[1:])


@given(
    st.lists(st.tuples(WORD, WORD), max_size=4),
    st.lists(st.tuples(WORD, WORD), max_size=3),
    WORD,
    WORD,
    st.sampled_from(["GET", "POST", "PUT"]),
)
def test_oauth1_signature_against_oauthlib(
    query: list[tuple[str, str]],
    body: list[tuple[str, str]],
    secret: str,
    token_secret: str,
    method: str,
) -> None:
    url = "https://API.tides.example:443/v1/tables" + (f"?{urlencode(query)}" if query else "")
    form = urlencode(body) if body and method != "GET" else None
    oauth = [
        ("oauth_consumer_key", "ck"),
        ("oauth_token", "t"),
        ("oauth_signature_method", "HMAC-SHA1"),
        ("oauth_timestamp", "1780272000"),
        ("oauth_nonce", "n0nce"),
        ("oauth_version", "1.0"),
    ]
    ours = oauth1.sign(
        method,
        url,
        oauth,
        secret,
        token_secret,
        body=form,
        content_type=oauth1.FORM if form else None,
    )
    collected = reference.collect_parameters(
        uri_query=url.partition("?")[2],
        body=parse_qsl(form or "", keep_blank_values=True),
        headers={},
        exclude_oauth_signature=True,
    )
    text = reference.signature_base_string(
        method, reference.base_string_uri(url), reference.normalize_parameters([*collected, *oauth])
    )
    assert ours.base_string == text
    assert ours.signature == reference._sign_hmac("SHA-1", text, secret, token_secret)


def test_an_oauth1_header_is_taken_by_oauthlib() -> None:
    """A request signed here is signed anew by oauthlib's client with the same nonce and
    timestamp.
    """
    ours = oauth1.authorization(
        "GET",
        "https://tides.example/v1?port=North%20quay",
        oauth1.Keys("ck", "c s", "tok", "t&s"),
        "abc",
        1780272000,
    )
    client = oauthlib.oauth1.Client("ck", "c s", "tok", "t&s", nonce="abc", timestamp="1780272000")
    _, headers, _ = client.sign("https://tides.example/v1?port=North%20quay")
    pieces = {part.strip() for part in ours.removeprefix("OAuth ").split(",")}
    assert pieces == {
        part.strip() for part in headers["Authorization"].removeprefix("OAuth ").split(",")
    }
    assert "t&s" not in repr(oauth1.Keys("ck", "c s", "tok", "t&s"))


def test_rsa_sha1_holds_for_openssl(tmp_path: Path) -> None:
    private = rsa.generate_private_key(65537, 2048)
    (tmp_path / "public.pem").write_bytes(
        private.public_key().public_bytes(
            keys.serialization.Encoding.PEM, keys.serialization.PublicFormat.SubjectPublicKeyInfo
        )
    )
    (tmp_path / "signature").write_bytes(keys.rsa_sha1(private, b"what is signed"))
    done = subprocess.run(
        ["openssl", "dgst", "-sha1", "-verify", "public.pem", "-signature", "signature"],
        cwd=tmp_path,
        input=b"what is signed",
        capture_output=True,
    )
    assert b"Verified OK" in done.stdout
    with pytest.raises(keys.BadKey):
        keys.rsa_sha1(ec.generate_private_key(ec.SECP256R1()), b"x")


KEYS = {
    "RS256": rsa.generate_private_key(65537, 2048),
    "ES256": ec.generate_private_key(ec.SECP256R1()),
    "ES384": ec.generate_private_key(ec.SECP384R1()),
    "ES512": ec.generate_private_key(ec.SECP521R1()),
    "EdDSA": ed25519.Ed25519PrivateKey.generate(),
}


@pytest.mark.parametrize("algorithm", KEYS)
def test_an_assertion_is_taken_by_joserfc(algorithm: str) -> None:
    """RFC 7523 §3, verified by the reference library."""
    token = jwt.assertion(
        KEYS[algorithm],
        "client-1",
        "svc",
        "https://ids.example/token",
        NOW,
        "j1",
        thumbprint="abc",
        scope="a b",
    )
    public = jwk.of_public(KEYS[algorithm].public_key())
    found = reference_jwt.decode(
        token, joserfc.jwk.import_key(dict(public)), algorithms=[algorithm]
    )
    assert found.claims == {
        "iss": "client-1",
        "sub": "svc",
        "aud": "https://ids.example/token",
        "iat": 1780272000,
        "nbf": 1780271995,
        "exp": 1780272120,
        "jti": "j1",
        "scope": "a b",
    }
    assert found.header == {"alg": algorithm, "typ": "JWT", "x5t#S256": "abc"}
    assert jws.verify(token, public, [algorithm]).valid
    assert not jws.verify(token, public, ["HS256"]).valid
    assert jws.algorithm_for(KEYS[algorithm]) == algorithm


@given(
    st.binary(max_size=80),
    st.sampled_from(["HS256", "HS384", "HS512"]),
    st.binary(min_size=32, max_size=64),
)
def test_jws_both_ways_with_joserfc(payload: bytes, algorithm: str, key: bytes) -> None:
    octets = {"kty": "oct", "k": b64.encode(key)}
    theirs = reference_jws.serialize_compact(
        {"alg": algorithm}, payload, joserfc.jwk.OctKey.import_key(octets), algorithms=[algorithm]
    )
    found = jws.verify(theirs, octets, [algorithm])
    assert found.valid
    assert found.parts is not None
    assert found.parts.payload == payload
    ours = jws.sign(json.dumps({"alg": algorithm}).encode(), payload, algorithm, key)
    assert (
        reference_jws.deserialize_compact(
            ours, joserfc.jwk.OctKey.import_key(octets), algorithms=[algorithm]
        ).payload
        == payload
    )


@given(
    st.text(max_size=60) | st.from_regex(r"[\w-]{1,10}\.[\w-]{1,10}\.[\w-]{0,10}", fullmatch=True)
)
def test_no_text_crashes_the_reading_of_a_token(text: str) -> None:
    assert jws.verify(text, {"kty": "oct", "k": "AAAA"}, ["HS256"]).valid is False
    with pytest.raises(jws.BadToken):
        jwt.decode(text)


def test_extensions_that_must_be_understood_are_refused() -> None:
    token = jws.sign(b'{"alg":"HS256","crit":["b64"],"b64":false}', b"x", "HS256", b"k" * 32)
    assert "crit" in jws.verify(token, {"kty": "oct", "k": b64.encode(b"k" * 32)}, ["HS256"]).reason


def test_keys_and_algorithms_that_do_not_go_together() -> None:
    with pytest.raises(jwk.BadKey):
        jws.sign(b"{}", b"", "ES384", KEYS["ES256"])
    with pytest.raises(jwk.BadKey, match="missing"):
        jwk.thumbprint({"kty": "RSA", "e": "AQAB"})
    # An RSA public key must never serve as the secret of an HMAC (RFC 8725 §3.1).
    public = jwk.of_public(KEYS["RS256"].public_key())
    forged = jws.sign(b'{"alg":"HS256"}', b"x", "HS256", json.dumps(public).encode())
    assert not jws.verify(forged, public, ["HS256", "RS256"]).valid
    assert base64.b64decode(keys.facts(KEYS["RS256"].public_key()).spki_sha256)
