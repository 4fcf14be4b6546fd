"""The rules of the house authority: keys, requests, refusals, status lists, turns of
signing keys.
"""

from __future__ import annotations

import base64
import json
import zlib
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from joserfc import jws as reference_jws
from joserfc.jwk import RSAKey

from neatlatch.core import house_key, pkce
from neatlatch.core.authority import (
    asking,
    granting,
    refusing,
    registering,
    rollover,
    status_list,
    telling,
)
from neatlatch.core.metadata import read_metadata

NOW = datetime(2026, 11, 25, 9, 0, tzinfo=UTC)
CHALLENGE = "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"  # RFC 7636 App. B
VERIFIER = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
CLIENT = asking.RegisteredClient(
    "quay-board",
    False,
    ("https://app.example/back",),
    frozenset({"authorization_code"}),
    frozenset({"a", "b", "admin"}),
    frozenset({"admin"}),
    frozenset(),
    "https://api.example",
)
ASK = {
    "response_type": "code",
    "client_id": "quay-board",
    "code_challenge": CHALLENGE,
    "code_challenge_method": "S256",
    "redirect_uri": "https://app.example/back",
}

octets = st.binary(min_size=8, max_size=8)
secrets = st.binary(min_size=32, max_size=32)


@given(octets, secrets)
@example(b"\0" * 8, b"\0" * 32)
@example(b"\xff" * 8, b"\xff" * 32)
def test_a_key_reads_back(identity: bytes, secret: bytes) -> None:
    text = house_key.make(house_key.API_KEY, "production", identity, secret)
    read = house_key.read(text)
    assert (read.kind, read.environment, read.digest) == (
        "nlk",
        "production",
        house_key.digest(text),
    )
    assert len(text) == len("nlk_production_") + 11 + 1 + 43 + 1 + 6
    # The check is zlib's CRC-32 over what stands before it, read back by another arithmetic.
    number = 0
    for digit in text.rpartition("_")[2]:
        number = (
            number * 62
            + "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz".index(digit)
        )
    assert number == zlib.crc32(text.rpartition("_")[0].encode())


@given(octets, secrets, st.data())
def test_any_single_slip_is_seen(identity: bytes, secret: bytes, data: st.DataObject) -> None:
    """A CRC-32 finds every error within 32 bits, so every changed character (Peterson and Brown
    1961).
    """
    text = house_key.make(house_key.CLIENT_SECRET, "sandbox", identity, secret)
    place = data.draw(st.integers(12, len(text) - 1).filter(lambda item: text[item] != "_"))
    other = data.draw(
        st.sampled_from("0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz").filter(
            lambda item: item != text[place]
        )
    )
    with pytest.raises(house_key.BadKey) as seen:
        house_key.read(text[:place] + other + text[place + 1 :])
    assert seen.value.fault == "mistyped"


@given(octets, secrets, st.integers(4, 70))
def test_a_cut_key_is_told_from_a_mistyped_one(identity: bytes, secret: bytes, length: int) -> None:
    text = house_key.make(house_key.API_KEY, "sandbox", identity, secret)
    with pytest.raises(house_key.BadKey) as seen:
        house_key.read(text[: min(length, len(text) - 1)])
    assert seen.value.fault == "cut"


def test_what_is_not_ours_is_foreign() -> None:
    for text in ("", "nl", "secret", "NLK_sandbox_x", " nlk_sandbox"):
        with pytest.raises(house_key.BadKey) as seen:
            house_key.read(text)
        assert seen.value.fault == "foreign", text


@given(secrets, st.text(max_size=40), st.text(max_size=40))
def test_keys_are_found_in_any_text(secret: bytes, before: str, after: str) -> None:
    text = house_key.make(house_key.API_KEY, "staging", b"8 octets", secret)
    assert house_key.find_in(f"{before} {text}\n{after} {text}") == (text,)
    assert house_key.find_in(f"x{text}") == ()
    assert house_key.find_in(text[:-1] + ("0" if text[-1] != "0" else "1")) == ()


def test_status_list_of_the_specification() -> None:
    """Token Status List §4.1 and its first example, from memory: sixteen tokens in two octets."""
    bits = [1, 0, 0, 1, 1, 1, 0, 1, 1, 1, 0, 0, 0, 1, 0, 1]
    assert (
        status_list.packed(16, [place for place, bit in enumerate(bits) if bit]) == "eNrbuRgAAhcBXQ"
    )
    with pytest.raises(ValueError, match="beyond"):
        status_list.packed(16, [16])


@given(st.sets(st.integers(0, 299)))
def test_a_status_list_reads_back(revoked: set[int]) -> None:
    packed = status_list.packed(300, revoked)
    octets = zlib.decompress(base64.urlsafe_b64decode(packed + "=" * (-len(packed) % 4)))
    assert {place for place in range(300) if octets[place // 8] >> (place % 8) & 1} == revoked


def test_a_sound_request_is_taken() -> None:
    asked = asking.judge({**ASK, "scope": "a b", "state": "s"}, CLIENT)
    assert (asked.redirect_uri, asked.scopes, asked.state, asked.redirect_given) == (
        "https://app.example/back",
        frozenset("ab"),
        "s",
        True,
    )
    without = asking.judge(
        {key: value for key, value in ASK.items() if key != "redirect_uri"}, CLIENT
    )
    assert not without.redirect_given
    assert without.scopes == frozenset("ab")  # the one that wants consent and has none is left out


@pytest.mark.parametrize(
    ("changed", "error"),
    [
        ({"response_type": "token"}, "unsupported_response_type"),
        ({"response_type": None}, "invalid_request"),
        ({"code_challenge": None}, "invalid_request"),
        ({"code_challenge_method": None}, "invalid_request"),
        ({"code_challenge": "short"}, "invalid_request"),
        ({"scope": "c"}, "invalid_scope"),
        ({"scope": "admin"}, "invalid_scope"),
        ({"resource": "https://other.example"}, "invalid_target"),
        ({"response_mode": "fragment"}, "invalid_request"),
    ],
)
def test_what_is_sent_back_with_an_error(changed: dict[str, str | None], error: str) -> None:
    with pytest.raises(refusing.RedirectedRefusal) as seen:
        asking.judge(
            {
                key: value
                for key, value in {**ASK, "state": "x y", **changed}.items()
                if value is not None
            },
            CLIENT,
        )
    assert seen.value.error == error
    location = seen.value.location("https://house.example")
    assert location.startswith("https://app.example/back?error=")
    assert "state=x+y" in location
    assert "iss=https%3A%2F%2Fhouse.example" in location


def test_what_must_not_be_sent_back() -> None:
    for changed in (
        {"redirect_uri": "https://app.example/back/"},
        {"redirect_uri": "https://evil.example"},
    ):
        with pytest.raises(refusing.Fatal):
            asking.judge({**ASK, **changed}, CLIENT)
    with pytest.raises(refusing.Fatal):
        asking.judge(ASK, None)


def test_a_code_serves_once_and_only_whom_it_was_given_to() -> None:
    def code(**changed: object) -> granting.Code:
        return granting.Code(
            **{
                "client_id": "quay-board",
                "redirect_uri": "https://app.example/back",
                "redirect_given": True,
                "challenge": CHALLENGE,
                "ends": NOW,
                "used": False,
                "revoked": False,
                **changed,
            }
        )  # type: ignore[arg-type]

    before, good = (
        NOW - timedelta(seconds=1),
        {"redirect_uri": "https://app.example/back", "code_verifier": VERIFIER},
    )
    granting.redeem(code(), "quay-board", good, before)
    with pytest.raises(granting.GrantReused):
        granting.redeem(code(used=True), "quay-board", good, before)
    for kept, client, params, now, logged in (
        (None, "quay-board", good, before, "code unknown"),
        (code(), "other", good, before, "code of another client"),
        (code(), "quay-board", good, NOW, "code ended"),
        (code(used=True), "other", good, before, "code of another client"),
        (
            code(),
            "quay-board",
            {**good, "redirect_uri": "https://app.example/"},
            before,
            "code with another redirect URI",
        ),
        (
            code(),
            "quay-board",
            {"redirect_uri": good["redirect_uri"]},
            before,
            "code without verifier",
        ),
        (
            code(),
            "quay-board",
            {**good, "code_verifier": VERIFIER[:-1] + "x"},
            before,
            "code with a wrong verifier",
        ),
    ):
        with pytest.raises(refusing.RequestRefused) as seen:
            granting.redeem(kept, client, params, now)
        assert (seen.value.error, seen.value.logged) == ("invalid_grant", logged)
    assert pkce.challenge(VERIFIER) == CHALLENGE


def test_scopes_of_a_renewal_are_no_more_than_were_granted() -> None:
    """RFC 6749 §6."""
    assert asking.choose_scopes("a", CLIENT, frozenset("ab")) == {"a"}
    assert asking.choose_scopes(None, CLIENT, frozenset("a")) == {"a"}
    with pytest.raises(refusing.RequestRefused, match="was not granted"):
        asking.choose_scopes("b", CLIENT, frozenset("a"))


def basic(user: str, password: str) -> str:
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


def test_how_a_client_says_who_it_is() -> None:
    """RFC 6749 §2.3.1; its header example is s6BhdRkqt3 with gX1fBat3bV."""
    shown = refusing.presented("Basic czZCaGRSa3F0MzpnWDFmQmF0M2JW", {})
    assert (shown.client_id, shown.secret, shown.method) == (
        "s6BhdRkqt3",
        "gX1fBat3bV",
        "client_secret_basic",
    )
    assert (
        refusing.presented(basic("a%3Ab", "p%2Bq"), {}).secret == "p+q"
    )  # each half is form-encoded
    assert (
        refusing.presented("", {"client_id": "x", "client_secret": "y"}).method
        == "client_secret_post"
    )
    assert refusing.presented("", {"client_id": "x"}).method == "none"
    assert "gX1f" not in repr(shown)
    for header, form, error in (
        (basic("x", "y"), {"client_secret": "y"}, "invalid_request"),
        (basic("x", "y"), {"client_id": "z"}, "invalid_request"),
        ("Bearer x", {}, "invalid_client"),
        ("Basic ???", {}, "invalid_client"),
        ("", {}, "invalid_client"),
    ):
        with pytest.raises(refusing.RequestRefused) as seen:
            refusing.presented(header, form)
        assert seen.value.error == error


def test_parameters_come_once() -> None:
    assert refusing.once([("a", "1"), ("b", "")]) == {"a": "1"}
    with pytest.raises(refusing.RequestRefused, match="more than once"):
        refusing.once([("a", "1"), ("a", "1")])


@given(st.text(max_size=60))
def test_no_header_makes_the_reader_stumble(text: str) -> None:
    refused = None
    try:
        refusing.presented(text, {})
    except refusing.RequestRefused as error:
        refused = error
    assert refused is None or refused.status in (400, 401)


def test_metadata_is_what_our_own_reader_takes() -> None:
    found = read_metadata(
        telling.metadata("https://house.example/house/sandbox", ["b", "a"]),
        "https://house.example/.well-known/oauth-authorization-server/house/sandbox",
    )
    assert found.issuer == "https://house.example/house/sandbox"


def test_registration_is_held_to_rfc_7591() -> None:
    fields = registering.read(
        {"redirect_uris": ["https://app.example/back"], "scope": "a z"}, frozenset("ab")
    )
    assert (fields.grants, fields.sign_in_method, fields.scopes) == (
        ("authorization_code",),
        "client_secret_basic",
        frozenset("a"),
    )
    for document, error in (
        ([], "invalid_client_metadata"),
        ({"redirect_uris": "x"}, "invalid_redirect_uri"),
        ({"redirect_uris": ["https://a.example/#x"]}, "invalid_redirect_uri"),
        ({"grant_types": ["password"]}, "invalid_client_metadata"),
        ({"token_endpoint_auth_method": "tls_client_auth"}, "invalid_client_metadata"),
        (
            {"grant_types": ["client_credentials"], "response_types": ["code"]},
            "invalid_client_metadata",
        ),
        ({}, "invalid_redirect_uri"),
    ):
        with pytest.raises(refusing.RequestRefused) as seen:
            registering.read(document, frozenset("ab"))
        assert seen.value.error == error, document


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(max_size=8),
        lambda inner: (
            st.lists(inner, max_size=3)
            | st.dictionaries(
                st.sampled_from(
                    [
                        "redirect_uris",
                        "grant_types",
                        "scope",
                        "contacts",
                        "client_name",
                        "response_types",
                    ]
                ),
                inner,
                max_size=4,
            )
        ),
    )
)
def test_no_document_makes_registration_stumble(document: object) -> None:
    refused = None
    try:
        registering.read(document, frozenset("ab"))
    except refusing.RequestRefused as error:
        refused = error
    assert refused is None or refused.error in ("invalid_client_metadata", "invalid_redirect_uri")


@given(
    st.lists(st.integers(0, 4000), min_size=1, max_size=6),
    st.integers(0, 600),
    st.integers(1, 3600),
)
def test_keys_take_turns_so_that_no_token_is_refused(
    starts: list[int], kept: int, life: int
) -> None:
    """Anyone who fetches the key set as seldom as allowed can verify every token through its whole
    life.
    """
    keys: dict[str, rollover.Key] = {}
    kept_for, longest = timedelta(seconds=kept), timedelta(seconds=life)
    for count, second in enumerate(sorted(starts)):
        try:
            changed = rollover.take_over(
                keys.values(), f"k{count}", NOW + timedelta(seconds=second), kept_for, longest
            )
        except ValueError:
            continue
        keys |= {key.kid: key for key in changed}
    for second in range(min(starts), 9000, 97):
        now = NOW + timedelta(seconds=second)
        signer = rollover.signer(keys.values(), now)
        assert signer is not None
        for later in (timedelta(0), longest / 2, longest - timedelta(microseconds=1)):
            checked = now + later
            for age in (timedelta(0), kept_for - timedelta(microseconds=1)):
                fetched = checked - age
                shown = {
                    key.kid
                    for key in rollover.published(keys.values(), fetched)
                    if key.published_from <= fetched
                }
                first = min(key.published_from for key in keys.values())
                if fetched >= first:
                    assert (
                        signer.kid in shown
                        or fetched < signer.published_from <= signer.signs_from == first
                    )


def test_claims_are_signed_as_rfc_9068_has_them() -> None:
    token = telling.AccessToken(
        "https://house.example",
        "quay-board",
        "morag",
        "https://api.example",
        frozenset({"b", "a"}),
        1,
        901,
        "j",
        0,
    )
    found = telling.claims(token, ("https://house.example/status/0", 5))
    assert {"iss", "exp", "aud", "sub", "client_id", "iat", "jti"} <= set(found)  # RFC 9068 §2.2
    assert found["scope"] == "a b"
    assert telling.introspection(token)["exp"] == 901
    key = RSAKey.generate_key(2048)
    from neatlatch.core.jose import jws

    text = jws.sign(
        b'{"alg":"RS256","typ":"at+jwt"}', json.dumps(found).encode(), "RS256", key.private_key
    )
    assert (
        json.loads(reference_jws.deserialize_compact(text, key, algorithms=["RS256"]).payload)
        == found
    )
