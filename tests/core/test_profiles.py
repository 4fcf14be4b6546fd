"""Profiles: the shipped ones, the table of kinds, OpenAPI descriptions read into them, and what
each kind puts on a request.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import oauth2, openapi, profiles, schemes
from neatlatch.core.schemes import (
    API_KEY,
    BASIC,
    BEARER,
    CERTIFICATE,
    CLIENT,
    CODE,
    KINDS,
    OAUTH1,
    OAUTH2,
    PAIR,
    STREAM,
)
from neatlatch.core.sending import Credentials, NotComplete, with_credential

SHIPPED = sorted((Path(__file__).parents[2] / "neatlatch" / "profiles").glob("*.yaml"))
SENT_WITH_EVERY_CALL = (API_KEY, PAIR, BASIC, BEARER, OAUTH1, CERTIFICATE)


def shipped(path: Path) -> tuple[dict[str, Any], profiles.Profile]:
    told = yaml.safe_load(path.read_text())
    return told, profiles.from_dict(
        {key: value for key, value in told.items() if key not in ("name", "purpose")}
    )


@pytest.mark.parametrize("path", SHIPPED, ids=lambda item: item.stem)
def test_a_shipped_profile_holds_together(path: Path) -> None:
    told, profile = shipped(path)
    assert told["name"]
    assert told["purpose"]
    assert profile.schemes
    for scheme in profile.schemes:
        # Whatever a person must fetch from the other side, the profile says where it is.
        for value in (secret for secret in scheme.secrets() if secret.type != "key"):
            assert value.where, f"{scheme.key}: where is {value.label}?"
        assert {endpoint.kind for endpoint in scheme.endpoints} <= set(KINDS)
    rights = {scope.name for scope in (*profile.scopes, *profile.roles)}
    for operation in profile.operations:
        assert {name for some in operation.alternatives for name in some} <= rights, operation.name
    for scope in (*profile.scopes, *profile.roles):
        assert scope.meaning
        assert set(scope.implies) <= rights
    if profile.schemes[0].key != STREAM:
        harmless = profile.harmless_call()
        assert harmless is not None
        assert harmless.method == "GET"
        assert "{" not in harmless.path
    if profile.probe:
        probe = profile.probe
        assert any(
            operation.covers(probe.make_method, probe.make_path.replace("{test}", "TEST-1"))
            for operation in profile.operations
        )
        assert any(
            operation.covers(probe.clear_method, probe.clear_path.replace("{test}", "TEST-1"))
            for operation in profile.operations
        )
    assert profiles.unsound(profile) == ""


@pytest.mark.parametrize("path", SHIPPED, ids=lambda item: item.stem)
def test_a_shipped_profile_survives_the_editor(path: Path) -> None:
    """The editor shows it briefly, as YAML; reading that again gives the same."""
    _, profile = shipped(path)
    text = yaml.safe_dump(profiles.brief(profile), sort_keys=False, allow_unicode=True)
    assert profiles.from_dict(yaml.safe_load(text)) == profile
    assert profiles.from_dict(profiles.to_dict(profile)) == profile


@pytest.mark.parametrize("kind", KINDS)
def test_the_table_of_kinds(kind: str) -> None:
    scheme = KINDS[kind]
    values = scheme.all_values()
    assert scheme.key == kind
    assert len({value.key for value in values}) == len(values)
    assert all(value.label and value.help for value in values)
    assert all(value.choices for value in values if value.type == "choice")
    assert {secret.key for secret in scheme.secrets()} == {
        value.key for value in values if value.secret
    }
    assert bool(scheme.grant) == (kind in OAUTH2)
    wrong = profiles.check_values(scheme, {})
    assert set(wrong) == {
        value.key
        for value in values
        if value.required and not value.secret and value.type != "scopes"
    }
    assert all(text.endswith(".") for text in wrong.values())


def description(**schemes: dict[str, Any]) -> dict[str, Any]:
    return {
        "openapi": "3.1.0",
        "info": {"title": "Ships"},
        "servers": [{"url": "https://ships.example/api"}],
        "components": {"securitySchemes": schemes},
        "paths": {
            "/ships": {
                "get": {"summary": "List", "security": [{name: ["reader"]} for name in schemes]},
                "put": {"security": [{name: ["clerk"]} for name in schemes]},
            }
        },
    }


# The examples of OpenAPI 3.1.0 §4.8.27.2, with our own names.
@pytest.mark.parametrize(
    ("told", "key", "settings"),
    [
        (
            {"type": "apiKey", "name": "api_key", "in": "header"},
            API_KEY,
            {"placement": "header", "name": "api_key"},
        ),
        (
            {"type": "apiKey", "name": "k", "in": "query"},
            API_KEY,
            {"placement": "query", "name": "k"},
        ),
        (
            {"type": "apiKey", "name": "c", "in": "cookie"},
            API_KEY,
            {"placement": "cookie", "name": "c"},
        ),
        ({"type": "http", "scheme": "basic"}, BASIC, {}),
        ({"type": "http", "scheme": "Bearer", "bearerFormat": "JWT"}, BEARER, {}),
        ({"type": "mutualTLS", "description": "Ours only"}, CERTIFICATE, {}),
    ],
)
def test_security_schemes_that_are_sent_with_every_call(
    told: dict[str, Any], key: str, settings: dict[str, str]
) -> None:
    found = openapi.read_description(description(way=told))
    assert [scheme.key for scheme in found.schemes] == [key]
    assert dict(found.schemes[0].settings).items() >= settings.items()
    assert [(role.name, role.kind) for role in found.roles] == [
        ("clerk", "write"),
        ("reader", "read"),
    ]
    assert found.operations[0].alternatives == (frozenset({"reader"}),)
    assert (
        profiles.from_dict(
            profiles.to_dict(profiles.Profile(found.schemes, operations=found.operations))
        ).schemes
        == found.schemes
    )


def test_oauth_flows_and_what_is_left_of_them() -> None:
    told = {
        "type": "oauth2",
        "flows": {
            "authorizationCode": {
                "authorizationUrl": "https://ids.example/a",
                "tokenUrl": "https://ids.example/t",
                "scopes": {"ships.read": "See ships"},
            },
            "clientCredentials": {
                "tokenUrl": "https://ids.example/t",
                "scopes": {"ships.write": "Change ships"},
            },
            "implicit": {"authorizationUrl": "https://ids.example/a", "scopes": {}},
            "password": {"tokenUrl": "https://ids.example/t", "scopes": {}},
        },
    }
    document = description(way=told, odd={"type": "http", "scheme": "digest"})
    found = openapi.read_description(document)
    assert [scheme.key for scheme in found.schemes] == [CODE, CLIENT]
    assert found.addresses == {
        "authorization_endpoint": "https://ids.example/a",
        "token_endpoint": "https://ids.example/t",
    }
    assert [scope.name for scope in found.scopes] == ["ships.read", "ships.write"]
    assert len(found.notes) == 3
    assert any("odd" in note and "digest" in note for note in found.notes)
    assert sum("must not be used (RFC 9700" in note for note in found.notes) == 2


def test_an_operation_that_needs_nothing() -> None:
    """An empty security requirement, or an empty list of them (OpenAPI 3.1.0 §4.8.10, §4.8.30)."""
    document = description(way={"type": "http", "scheme": "basic"})
    document["security"] = [{"way": ["reader"]}]
    document["paths"] = {
        "/open": {"get": {"security": []}},
        "/either": {"get": {"security": [{"way": ["clerk"]}, {}]}},
        "/usual": {"get": {}},
    }
    found = {
        operation.path: operation.alternatives
        for operation in openapi.read_description(document).operations
    }
    assert found == {"/open": (), "/either": (), "/usual": (frozenset({"reader"}),)}


@given(
    st.dictionaries(
        st.from_regex(r"[a-z]{1,8}", fullmatch=True),
        st.from_regex(r"[a-z0-9-]{0,8}", fullmatch=True),
        max_size=4,
    ),
    st.data(),
)
def test_slots(slots: dict[str, str], data: st.DataObject) -> None:
    """Each is filled wherever it stands; one without a value stays, so that it is seen."""
    names = data.draw(st.lists(st.sampled_from([*sorted(slots), "other"]), max_size=5))
    pattern = "https://ids.example/" + "/".join("{" + name + "}" for name in names)
    wanted = "https://ids.example/" + "/".join(
        slots.get(name) or "{" + name + "}" for name in names
    )
    assert profiles.fill_slots(pattern, slots) == wanted


# What goes out, read back by a reference library

PRINTABLE = st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=40)


def sent(held: Credentials, url: str = "https://ships.example/api/ships?page=2") -> oauth2.Request:
    return with_credential(oauth2.api_request("GET", url), held, "nonce", 1_700_000_000)


@given(PRINTABLE)
def test_an_api_key_in_the_query_is_read_back_the_same(key: str) -> None:
    request = sent(
        Credentials(API_KEY, {}, {"api_key": key}, {"placement": "query", "name": "key"})
    )
    assert parse_qs(urlsplit(request.url).query) == {"page": ["2"], "key": [key]}
    assert key in request.secrets  # so that it is masked in what is kept


@given(PRINTABLE)
def test_an_api_key_in_a_header_or_a_cookie(key: str) -> None:
    assert (
        dict(sent(Credentials(API_KEY, {}, {"api_key": key}, {"name": "X-Key"})).headers)["X-Key"]
        == key
    )
    request = sent(
        Credentials(API_KEY, {}, {"api_key": key}, {"placement": "cookie", "name": "access"})
    )
    assert dict(request.headers)["Cookie"] == f"access={key}"


@given(
    st.text(
        st.characters(min_codepoint=32, max_codepoint=126, exclude_characters=":"),
        min_size=1,
        max_size=20,
    ),
    PRINTABLE,
)
def test_basic_as_the_reference_library_sends_it(username: str, password: str) -> None:
    """RFC 7617 §2; httpx as the reference."""
    request = sent(Credentials(BASIC, {"username": username}, {"password": password}))
    reference = next(
        httpx.BasicAuth(username, password).auth_flow(httpx.Request("GET", request.url))
    )
    assert dict(request.headers)["Authorization"] == reference.headers["Authorization"]


@pytest.mark.parametrize(
    ("held", "says"),
    [
        (Credentials(API_KEY, {}, {"api_key": "kéy"}, {"name": "X-Key"}), "cannot carry"),
        (Credentials(API_KEY, {}, {"api_key": "a\nb"}, {"name": "X-Key"}), "cannot carry"),
        (Credentials(BASIC, {"username": "a:b"}, {"password": "p"}), "cannot be sent"),
        (Credentials(BEARER, {}, {"token": "two words"}), "cannot be sent"),
        (Credentials(STREAM, {"key_id": "k"}, {"key_secret": "s"}), "no way of sending"),
        (Credentials(API_KEY), "The API key has not been put in"),
        (Credentials(PAIR, {}, {"key_secret": "s"}), "The key ID is not filled in"),
        (
            Credentials(OAUTH1, {"client_key": "c", "token_id": "t"}, {"client_secret": "s"}),
            "The token secret has not been put in",
        ),
        (Credentials(CERTIFICATE, {"certificate": "c"}), "The private key has not been put in"),
    ],
)
def test_what_cannot_be_sent_is_said(held: Credentials, says: str) -> None:
    """Nothing is sent half: a header with a line end in it would be two headers (RFC 9110 §5.5)."""
    with pytest.raises(NotComplete, match=says) as told:
        sent(held)
    assert not any(secret in str(told.value) for secret in held.secrets.values() if len(secret) > 1)


@pytest.mark.parametrize("kind", SENT_WITH_EVERY_CALL)
def test_nothing_of_it_prints(kind: str) -> None:
    secrets = {
        "api_key": "s3cr3t-1",
        "key_secret": "s3cr3t-2",
        "password": "s3cr3t-3",
        "token": "s3cr3t-4",
        "client_secret": "s3cr3t-5",
        "token_secret": "s3cr3t-6",
        "private_key": "s3cr3t-7",
    }
    held = Credentials(
        kind,
        {"username": "u", "key_id": "k", "client_key": "c", "token_id": "t", "certificate": "c"},
        secrets,
    )
    assert "s3cr3t" not in repr(held)
    assert "s3cr3t" not in repr(sent(held))


PROBE = {
    "make_method": "PUT",
    "make_path": "/reports/{test}",
    "make_body": {},
    "look_path": "/reports",
    "clear_method": "DELETE",
    "clear_path": "/reports/{test}",
}
OWN_ID = {"make_method": "POST", "make_path": "/reports", "clear_path": "/reports/{id}"}


@pytest.mark.parametrize(
    ("changes", "word"),
    [
        ({}, ""),
        (OWN_ID | {"id_at": "/number"}, ""),
        (OWN_ID | {"id_at": "Location", "look_path": "/reports/{id}"}, ""),
        ({"make_method": "POST"}, "makes another one each time"),
        (OWN_ID, "{id}"),
        (OWN_ID | {"id_at": "number"}, "JSON Pointer"),
        (OWN_ID | {"id_at": "/a~2"}, "JSON Pointer"),
        (OWN_ID | {"id_at": "/number", "make_path": "/reports/{id}"}, "only after the making"),
        ({"id_at": "/number"}, "clear_path must hold {id}"),
        ({"clear_method": "POST"}, "cannot be repeated"),
        ({"look_path": "https://elsewhere.example/"}, "is an address"),
    ],
)
def test_work_that_could_not_be_cleared_away_is_not_saved(
    changes: dict[str, str], word: str
) -> None:
    profile = profiles.from_dict({"probe": PROBE | changes})  # what was saved before is still read
    said = profiles.unsound(profile)
    assert (word in said) if word else (said == "")


@pytest.mark.parametrize(
    ("kinds", "house", "expected"),
    [
        ((CODE, CLIENT), False, ["application client"]),
        ((CODE,), True, ["house client", "house key", "house certificate", "application client"]),
        ((BEARER,), True, ["house key", "house client", "house certificate"]),
        ((CERTIFICATE, BASIC), True, ["house certificate", "house client", "house key"]),
        ((BASIC, API_KEY), False, []),
    ],
)
def test_what_a_caller_can_be_issued(
    kinds: tuple[str, ...], house: bool, expected: list[str]
) -> None:
    """What is usual at the application comes first (common practice, no source)."""
    found = schemes.issuings([KINDS[kind] for kind in kinds], house)
    assert [f"{issuing.by} {issuing.what}" for issuing in found] == expected
    assert {issuing.what: issuing.kind for issuing in found if issuing.by == "house"} == (
        {"client": "", "key": BEARER, "certificate": CERTIFICATE} if house else {}
    )
