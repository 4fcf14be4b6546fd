"""Reading what comes in: pasted values, metadata, descriptions, profiles; masking what goes out;
explaining what failed.
"""

from __future__ import annotations

import json
import time
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import (
    advice,
    challenges,
    diagnosis,
    evidence,
    metadata,
    openapi,
    profiles,
    registration,
    replies,
    schemes,
    scopes,
)
from neatlatch.core.evidence import CauseClass, Failure, Rung, RungResult
from neatlatch.core.intake.clean import clean, suspicions
from neatlatch.core.pins import Act, Fit, Pin
from neatlatch.core.schemes import CODE
from neatlatch.core.secret import Secret, hint


# Pasted values: common practice, no source
@pytest.mark.parametrize(
    ("pasted", "value", "notes"),
    [
        ("abc", "abc", ()),
        (" abc", "abc", ("1 space cut from the start",)),
        ("abc\r\n", "abc", ("1 line break cut from the end",)),
        ("abc  \n", "abc", ("2 spaces cut from the end", "1 line break cut from the end")),
        ("“abc”", "abc", ("quotes round it taken off",)),
        ("\u200babc\ufeff", "abc", ("2 invisible characters taken out",)),
        (" \t ", "", ("3 spaces cut from the start",)),
    ],
)
def test_cleaning_says_what_it_took_away(pasted: str, value: str, notes: tuple[str, ...]) -> None:
    cleaned = clean(pasted)
    assert cleaned.value == value
    assert cleaned.notes == notes


@given(st.text(max_size=40))
def test_cleaning_twice_takes_nothing_more_and_never_is_silent(pasted: str) -> None:
    cleaned = clean(pasted)
    assert clean(cleaned.value).value == cleaned.value
    assert (cleaned.value != pasted) == bool(cleaned.notes)


@pytest.mark.parametrize(
    ("value", "said"),
    [
        ("client_id: abc", "label"),
        ("ab cd", "space"),
        ("••••••ab", "masked"),
        ("abc…", "masked"),
        ("а1b2", "cyrillic"),
    ],
)
def test_what_still_looks_wrong_is_said(value: str, said: str) -> None:
    assert any(said in suspicion for suspicion in suspicions(value))


def test_an_address_is_no_label() -> None:
    assert suspicions("https://a.example/x") == ()


# Metadata (RFC 8414)

GOOD = {
    "issuer": "https://as.example",
    "authorization_endpoint": "https://as.example/a",
    "token_endpoint": "https://as.example/t",
}
WELL_KNOWN = "https://as.example/.well-known/oauth-authorization-server"


def test_where_metadata_lies() -> None:
    """RFC 8414 §3.1 (its example has the path /issuer1) and OpenID Connect Discovery §4."""
    assert metadata.addresses_to_try("https://example.com/issuer1") == (
        "https://example.com/.well-known/oauth-authorization-server/issuer1",
        "https://example.com/issuer1/.well-known/openid-configuration",
    )
    assert metadata.addresses_to_try("https://example.com") == (
        "https://example.com/.well-known/oauth-authorization-server",
        "https://example.com/.well-known/openid-configuration",
    )
    for address in metadata.addresses_to_try("https://example.com/issuer1"):
        assert metadata.issuer_of(address) == "https://example.com/issuer1"


def test_defaults_are_those_of_the_standard() -> None:
    """RFC 8414 §2."""
    found = metadata.read_metadata(GOOD, WELL_KNOWN)
    assert found.token_endpoint_auth_methods_supported == ("client_secret_basic",)
    assert found.grant_types_supported == ("authorization_code", "implicit")
    assert metadata.ServerMetadata.from_dict(json.loads(json.dumps(found.as_dict()))) == found


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"issuer": "https://other.example"}, "must be the same"),
        ({"issuer": None}, "“issuer” is missing"),
        ({"token_endpoint": "http://as.example/t"}, "not https"),
        ({"token_endpoint": 7}, "not text"),
        ({"authorization_endpoint": None}, "“authorization_endpoint” is missing"),
        ({"scopes_supported": "a b"}, "list of texts"),
    ],
)
def test_metadata_that_cannot_be_gone_by(change: dict[str, Any], said: str) -> None:
    with pytest.raises(metadata.BadMetadata, match=said):
        metadata.read_metadata(
            {k: v for k, v in {**GOOD, **change}.items() if v is not None}, WELL_KNOWN
        )


# OpenAPI and profiles

DESCRIPTION = {
    "openapi": "3.1.0",
    "info": {"title": "Manifests"},
    "servers": [{"url": "https://api.example"}],
    "security": [{"o": ["read"]}],
    "paths": {
        "/m": {
            "get": {"summary": "List"},
            "put": {"security": [{"o": ["write"]}, {"o": ["admin"], "k": []}]},
            "head": {"security": [{}]},
        }
    },
    "components": {
        "securitySchemes": {
            "o": {
                "type": "oauth2",
                "flows": {"authorizationCode": {"scopes": {"read": "See", "write": "Change"}}},
            },
            "k": {"type": "apiKey"},
        }
    },
}


def test_operations_and_their_alternatives() -> None:
    """OpenAPI 3.1.0 §4.8.30: a list of alternatives; an operation without one of its own takes the
    document's.
    """
    found = openapi.read_description(DESCRIPTION)
    needs = {operation.name: operation.alternatives for operation in found.operations}
    assert needs == {
        "GET /m": (frozenset({"read"}),),
        "PUT /m": (frozenset({"write"}), frozenset({"admin"})),
        "HEAD /m": (),
    }
    assert {scope.name: (scope.meaning, scope.kind) for scope in found.scopes} == {
        "read": ("See", "read"),
        "write": ("Change", "write"),
    }


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(max_size=5),
        lambda x: (
            st.lists(x, max_size=3)
            | st.dictionaries(
                st.sampled_from(
                    [
                        "openapi",
                        "paths",
                        "components",
                        "securitySchemes",
                        "security",
                        "get",
                        "/x",
                        "flows",
                        "scopes",
                        "servers",
                    ]
                ),
                x,
                max_size=4,
            )
        ),
        max_leaves=20,
    )
)
def test_any_document_is_read_or_refused(document: Any) -> None:
    given = {"openapi": "3.0.0", **document} if isinstance(document, dict) else document
    if isinstance(given, dict) and not str(given.get("openapi", "")).startswith("3."):
        with pytest.raises(openapi.BadDescription):
            openapi.read_description(given)
    elif isinstance(given, dict):
        openapi.read_description(given)


def test_profiles_survive_being_kept() -> None:
    described = openapi.read_description(DESCRIPTION)
    probe = profiles.Probe("PUT", "/m/{test}", {"a": "b"}, "/m", "DELETE", "/m/{test}")
    profile = profiles.Profile(
        schemes=profiles.schemes_for(("authorization_code", "client_credentials")),
        scopes=described.scopes,
        operations=(*described.operations, profiles.Operation("GET", "/m")),
        harmless="GET /m",
        probe=probe,
    )
    assert profiles.from_dict(json.loads(json.dumps(profiles.to_dict(profile)))) == profile


@pytest.mark.parametrize(
    "kept",
    [
        {"schemes": [{"key": "telepathy"}]},
        {"scopes": [{"nom": "x"}]},
        {"operations": [{}]},
        {"probe": {"a": 1}},
    ],
)
def test_a_bad_profile_is_refused(kept: dict[str, Any]) -> None:
    with pytest.raises(profiles.BadProfile):
        profiles.from_dict(kept)


def test_forms_are_checked_by_the_profile() -> None:
    wrong = profiles.check_values(profiles.AUTHORIZATION_CODE, {"client_sign_in": "by_smile"})
    assert wrong["issuer"].startswith("Issuer is needed.")
    assert "must be one of" in wrong["client_sign_in"]
    assert "client_secret" not in wrong
    assert "account" not in wrong


# Scopes

SCOPE_SETS = st.frozensets(st.sampled_from("abcdef"), max_size=5)
IMPLIES = st.dictionaries(
    st.sampled_from("abcdef"), st.frozensets(st.sampled_from("abcdef"), max_size=3), max_size=5
)


@given(SCOPE_SETS, SCOPE_SETS, IMPLIES)
def test_closure(
    one: frozenset[str], other: frozenset[str], implies: dict[str, frozenset[str]]
) -> None:
    whole = scopes.closure(one, implies)
    assert one <= whole == scopes.closure(whole, implies)
    assert whole <= scopes.closure(one | other, implies)


@given(SCOPE_SETS, st.lists(SCOPE_SETS, max_size=3), IMPLIES)
def test_what_is_lacking_is_just_what_allows(
    held: frozenset[str], alternatives: list[frozenset[str]], implies: dict[str, frozenset[str]]
) -> None:
    gap = scopes.lacking(held, tuple(alternatives), implies)
    assert scopes.allows(held | gap, tuple(alternatives), implies)
    assert (not gap) == scopes.allows(held, tuple(alternatives), implies)


@pytest.mark.parametrize(
    ("scope", "bad"),
    [
        ("manifest.read", False),
        ("a b", True),
        ("", True),
        ('a"', True),
        ("a\\b", True),
        ("https://x/y", False),
        ("é", True),
    ],
)
def test_malformed(scope: str, bad: bool) -> None:
    """RFC 6749 §3.3."""
    assert scopes.malformed(scope) is bad


# Registration (RFC 7591)


def test_what_was_registered_counts_not_what_was_asked() -> None:
    """RFC 7591 §3.2.1: the server may replace any value."""
    asked = registration.ClientMetadata(
        "n", redirect_uris=("https://a.example/r",), scopes=frozenset({"read", "write"})
    )
    found = registration.read_answer(
        {"client_id": "c", "scope": "read", "token_endpoint_auth_method": "client_secret_post"},
        asked,
    )
    assert found.scopes == {"read"}
    assert found.sign_in_method == "client_secret_post"
    assert found.redirect_uris == asked.redirect_uris


def test_what_is_wrong_with_a_client() -> None:
    bad = registration.ClientMetadata(
        " ",
        public=True,
        redirect_uris=("http://a.example/",),
        grants=("client_credentials", "authorization_code"),
        scopes=frozenset({"a b"}),
        sign_in_method="x",
    )
    assert set(registration.check(bad)) == {
        "name",
        "grants",
        "redirect_uris",
        "scopes",
        "sign_in_method",
    }
    assert (
        "password"
        in registration.check(registration.ClientMetadata("n", grants=("password",)))["grants"]
    )


def test_the_steps_by_hand_hold_every_value() -> None:
    client = registration.ClientMetadata(
        "Ferries",
        ("t@g.example",),
        redirect_uris=("https://a.example/r",),
        scopes=frozenset({"read", "write"}),
    )
    copied = [
        step.copy
        for step in registration.manual_steps(client, "Cargo", frozenset({"write"}))
        if step.copy
    ]
    assert copied == [
        "Ferries",
        "t@g.example",
        "authorization_code refresh_token",
        "https://a.example/r",
        "read write",
        "write",
    ]


# Masking

SECRETS = st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=6, max_size=20)


@given(SECRETS, SECRETS, SECRETS)
def test_no_secret_gets_through(token: str, secret: str, refresh: str) -> None:
    known = (token, secret, refresh)
    form = (
        f"grant_type=refresh_token&refresh_token={evidence.quote(refresh)}"
        f"&client_secret={evidence.quote(secret)}"
    )
    body = json.dumps(
        {"access_token": token, "deep": [{"refresh_token": refresh}], "note": f"you sent {secret}"}
    )
    shown = (
        evidence.mask_body(form, evidence.__name__ and "application/x-www-form-urlencoded", known)
        + evidence.mask_body(body, "application/json; charset=utf-8", known)
        + evidence.mask_body(
            f"<input type=hidden name=state value='{secret}'> access_token={token}", "text/html", ()
        )
        + str(
            evidence.mask_headers(
                [
                    ("Authorization", f"Bearer {token}"),
                    ("Cookie", f"s={secret}"),
                    ("X-Trace", refresh),
                ],
                known,
            )
        )
        + evidence.mask_url(
            f"https://a.example/r?code={evidence.quote(token)}&state={evidence.quote(secret)}", ()
        )
    )
    plain = (
        "https://a.example/r?code=&state= grant_type refresh_token client_secret access_token "
        "deep note you sent hidden Authorization Bearer Cookie X-Trace"
    )
    for item in known:
        assert item not in shown or item in plain or item in evidence.MASK


@pytest.mark.parametrize(
    "body",
    [
        "<input value='SECRET>x' type=hidden>",
        '<INPUT type = "hidden" name=a value="SECRET b c">',
        "<input type=hidden value=SECRET>",
        '{"access_token" : "a \\" SECRET", "x": ',
        "password: SECRET",
        "client_secret='a SECRET'",
        "token='a'SECRET",
    ],
)
def test_loose_text_is_masked(body: str) -> None:
    assert "SECRET" not in evidence.mask_body(body, "text/html", ())
    assert "kept" in evidence.mask_body(f"{body} kept", "text/html", ())


def test_a_secret_that_the_cut_goes_through_is_not_shown() -> None:
    secret = "skerry" * 10
    for length in range(65_530 - 60, 65_540):
        body = f"{'password=x ' * 6_000}"[:length] + secret + "a" * 100
        assert "skerry" not in evidence.mask_body(body, "text/plain", (secret,))


@pytest.mark.parametrize(
    "part",
    [
        "<input ",
        "<input type=hidden ",
        "token = ",
        "token" + " " * 20,
        'token="',
        "token='x ",
        "token=\\",
        "[],",
        "[",
    ],
)
def test_no_answer_takes_long_to_mask(part: str) -> None:
    begun = time.process_time()
    for kind in ("text/html", "application/json", "application/x-www-form-urlencoded"):
        evidence.mask_body(
            "<input type=hidden " + part * (2_000_000 // len(part)), kind, ("skerry",)
        )
    assert time.process_time() - begun < 4


def test_a_curl_line_names_the_token_as_a_variable() -> None:
    line = evidence.curl_line(
        "PUT",
        "https://a.example/m?a=it's",
        [("Authorization", "Bearer abc"), ("Accept", "application/json")],
        '{"a": "b\'c"}',
    )
    assert '"Authorization: Bearer $TOKEN"' in line
    assert "abc" not in line
    assert "'it'\\''s'" in line or "it'\\''s" in line


def test_secrets_do_not_print_compare_or_pickle() -> None:
    secret = Secret("hush-hush")
    assert f"{secret} {secret!r}" == "••• •••"
    with pytest.raises(TypeError):
        _ = secret == secret
    with pytest.raises(TypeError):
        __import__("pickle").dumps(secret)
    assert hint("abcdefghijklmnopk7Qd") == "…k7Qd"
    assert hint("short") == "…"


# Diagnosis


def failed(kind: str, code: str, cause: CauseClass = CauseClass.UNKNOWN, **more: Any) -> RungResult:
    return RungResult(Rung.SIGN_IN, False, "", 1.0, failure=Failure(kind, code, cause, **more))


def off(key: str) -> Pin:
    return Pin(
        key,
        key,
        Fit.DIFFERS,
        "a",
        "b",
        f"{key} is off.",
        acts=(Act("take_provider", "Use the provider's"),),
    )


@pytest.mark.parametrize(
    ("kind", "code", "pins", "explained"),
    [
        ("authorize", "refused_without_return", ("scopes", "redirect_uri"), "redirect_uri"),
        ("authorize", "no_sign_in_page", ("redirect_uri", "tenant"), "tenant"),
        ("authorize", "no_sign_in_page", ("redirect_uri",), None),
        ("authorize", "invalid_scope", ("redirect_uri", "scopes"), "scopes"),
        ("authorize", "access_denied", ("consent",), "consent"),
        ("token", "invalid_client", ("secret", "scopes"), "secret"),
        ("token", "unauthorized_client", ("grant",), "grant"),
        ("resource", "insufficient_scope", ("scopes",), "scopes"),
        ("resolver", "no_such_name", ("endpoints",), "endpoints"),
        ("token", "invalid_client", ("redirect_uri",), None),
        ("tls", "expired", ("scopes",), None),
    ],
)
def test_a_pin_that_explains_the_refusal_comes_first(
    kind: str, code: str, pins: tuple[str, ...], explained: str | None
) -> None:
    found = diagnosis.diagnose(failed(kind, code), tuple(off(key) for key in pins), CODE)
    assert found.pin == explained
    assert all(cause.says and cause.mend for cause in found.causes)


KINDS = (
    [("tls", code) for code in diagnosis._TLS]
    + [("socket", code) for code in diagnosis._ROUTE]
    + [("token", code) for code in replies.TOKEN_ERRORS]
)
KINDS += [("authorize", code) for code in replies.AUTHORIZATION_ERRORS] + [
    ("resource", code) for code in replies.RESOURCE_ERRORS
]


@pytest.mark.parametrize("scheme", [*schemes.KINDS, advice.OWN])
@pytest.mark.parametrize(("kind", "code"), KINDS)
def test_every_standard_code_is_explained_and_says_what_to_do(
    kind: str, code: str, scheme: str
) -> None:
    cause = diagnosis.diagnose(failed(kind, code), (), scheme).causes[-1]
    assert len(cause.says) > 10
    assert len(cause.mend) > 10


def test_a_new_credential_and_a_wrong_clock_are_named() -> None:
    found = diagnosis.diagnose(
        failed("token", "invalid_client", CauseClass.CREDENTIAL),
        (),
        CODE,
        credential_is_new=True,
        clock_skew=-400,
    )
    text = " ".join(cause.says for cause in found.causes)
    assert "spread" in text
    assert "400 s" in text


@given(st.text(max_size=80))
def test_any_challenge_is_read_without_failing(line: str) -> None:
    challenges.read_challenges([line])


@given(
    st.sampled_from(["token", "resource", "revocation", "introspection", "registration"]),
    st.integers(100, 599),
    st.text(max_size=60),
)
def test_any_reply_is_read_without_failing(endpoint: str, status: int, body: str) -> None:
    assert replies.read(endpoint, status, {"Retry-After": body}, body).meaning


def test_an_issuer_that_must_be_sent_is_missed() -> None:
    """RFC 9207 §2.4."""
    found = replies.authorization_reply(
        "https://c.example/r?code=x&state=s", "s", "https://as.example", issuer_required=True
    )
    assert not found.accept
    twice = replies.authorization_reply("https://c.example/r?code=x&code=y&state=s", "s")
    assert not twice.accept


@pytest.mark.parametrize(
    ("told", "means"),
    [
        ('"3600"', 3600),
        ("3600.5", 3600.5),
        ('"²"', None),
        ('"' + "9" * 5000 + '"', None),
        ("true", None),
        ("-1", None),
        ("null", None),
    ],
    ids=["text", "fraction", "superscript", "5000 digits in a text", "true", "negative", "null"],
)
def test_a_life_that_is_told_oddly(told: str, means: float | None) -> None:
    reading = replies.read(
        "token", 200, {}, f'{{"access_token": "a", "token_type": "Bearer", "expires_in": {told}}}'
    )
    assert (reading.ok, reading.fields["expires_in"]) == (True, means)


@pytest.mark.parametrize(
    "told", ["NaN", "Infinity", "-Infinity", pytest.param("9" * 5000, id="5000 digits")]
)
def test_what_is_no_number_in_json_is_no_answer(told: str) -> None:
    # RFC 8259 §6: "Numeric values that cannot be represented in the grammar … (such as Infinity and
    # NaN) are not permitted."
    assert not replies.read(
        "token", 200, {}, f'{{"access_token": "a", "token_type": "Bearer", "expires_in": {told}}}'
    ).ok


def test_half_a_surrogate_pair_in_an_answer_can_be_stored() -> None:
    reading = replies.read(
        "token",
        200,
        {},
        r'{"access_token": "a\ud800b", "token_type": "Bearer", "scope": "\ud83d\ude80"}',
    )
    assert (reading.fields["access_token"], reading.fields["scope"]) == ("a?b", "🚀")
