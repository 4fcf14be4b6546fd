"""Pins: each one fits, differs and mends as DOMAIN §2 says."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import pins
from neatlatch.core.pins import CallerSide, Consent, Fit, Halves, Need, ProviderSide, SecretFacts
from neatlatch.core.schemes import CLIENT, CODE, KINDS

NOW = datetime(2026, 11, 24, 12, tzinfo=UTC)
SECRET = SecretFacts("f1", "…k7Qd", ends=NOW + timedelta(days=41))
ADDRESSES = {
    "authorization_endpoint": "https://ids.example/a",
    "token_endpoint": "https://ids.example/t",
    "api_base": "https://api.example",
}
PROVIDER = ProviderSide(
    known=True,
    managed=True,
    environment="Production",
    issuer="https://ids.example",
    addresses=ADDRESSES,
    published=True,
    client_id="c1",
    redirect_uris=("https://l.example/return",),
    scopes=frozenset({"read", "berth"}),
    grants=frozenset({"authorization_code", "refresh_token"}),
    sign_in_methods=frozenset({"client_secret_basic"}),
    secrets=(SECRET,),
    changed_at=NOW - timedelta(days=3),
)
CALLER = CallerSide(
    scheme=CODE,
    environment="Production",
    environment_is_production=True,
    environment_wants_service_account=True,
    grant="authorization_code",
    issuer="https://ids.example",
    values=ADDRESSES,
    parts=KINDS[CODE],
    client_id="c1",
    secret=SECRET,
    sign_in_method="client_secret_basic",
    redirect_uri="https://l.example/return",
    scopes=frozenset({"read"}),
    account="svc@g.example",
    granted=frozenset({"read"}),
    signed_in_as="svc@g.example",
    signed_in_at=NOW - timedelta(days=1),
    changed_at=NOW - timedelta(days=2),
)


def halves(
    provider: dict[str, Any] | None = None, caller: dict[str, Any] | None = None, **rest: Any
) -> Halves:
    return Halves(
        provider=replace(PROVIDER, **(provider or {})),
        caller=replace(CALLER, **(caller or {})),
        now=NOW,
        **rest,
    )


def pin(key: str, **given: Any) -> pins.Pin:
    return next(item for item in pins.work_out(halves(**given)) if item.key == key)


def test_everything_latches() -> None:
    worked_out = pins.work_out(halves())
    assert pins.latches(worked_out), [
        (item.key, item.why) for item in worked_out if item.fit is not Fit.FITS
    ]
    assert pins.summary(worked_out) == "12 pins, all on the line"


DIFFERENT: list[tuple[str, dict[str, Any], str, str]] = [
    ("issuer", {"caller": {"issuer": "https://ids.example/other"}}, "different", "take_provider"),
    ("issuer", {"caller": {"issuer": "https://ids.example/{tenant}"}}, "{tenant}", "take_provider"),
    (
        "endpoints",
        {"caller": {"values": {**ADDRESSES, "token_endpoint": "https://ids.example/old"}}},
        "token endpoint",
        "take_provider",
    ),
    (
        "endpoints",
        {"caller": {"values": {**ADDRESSES, "api_base": "http://api.example"}}},
        "not https",
        "take_provider",
    ),
    (
        "redirect_uri",
        {"caller": {"redirect_uri": "https://l.example/return/"}},
        "Ours ends in “/”",
        "register_ours",
    ),
    ("client_id", {"caller": {"client_id": "c1 "}}, "space", "take_provider"),
    (
        "client_id",
        {
            "caller": {"client_id": "sid-9"},
            "provider": {"secrets": (replace(SECRET, secret_id="sid-9"),)},
        },
        "ID of the secret",
        "take_provider",
    ),
    (
        "secret",
        {"caller": {"secret": replace(SECRET, fingerprint="f2")}},
        "not one of those",
        "put_secret",
    ),
    (
        "secret",
        {"provider": {"secrets": (replace(SECRET, ends=NOW - timedelta(hours=9)),)}},
        "expired 9 h ago",
        "put_secret",
    ),
    (
        "secret",
        {"provider": {"secrets": (replace(SECRET, live=False),)}},
        "retired or revoked",
        "put_secret",
    ),
    ("secret", {"provider": {"public": True}}, "public", "drop_secret"),
    (
        "client_sign_in",
        {"caller": {"sign_in_method": "client_secret_post"}},
        "client_secret_post",
        "take_provider",
    ),
    (
        "grant",
        {"provider": {"grants": frozenset({"client_credentials"})}},
        "not switched on",
        "enable_grant",
    ),
    (
        "grant",
        {"provider": {"grants": frozenset({"authorization_code"})}},
        "nothing can renew",
        "enable_grant",
    ),
    ("grant", {"caller": {"pkce": ""}}, "PKCE", ""),
    ("grant", {"caller": {"grant": "password"}}, "RFC 9700", ""),
    (
        "scopes",
        {"caller": {"scopes": frozenset({"read", "write"})}},
        "write is not permitted",
        "permit_scope",
    ),
    ("scopes", {"caller": {"granted": frozenset()}}, "lacks read", "sign_in"),
    (
        "consent",
        {"provider": {"administrator_scopes": frozenset({"read"})}},
        "must consent",
        "record_consent",
    ),
    (
        "account",
        {"caller": {"signed_in_as": "m.orr@g.example"}},
        "svc@g.example was expected",
        "sign_in",
    ),
    (
        "account",
        {"caller": {"account": "", "signed_in_as": "m.orr@g.example"}},
        "service account",
        "expect_account",
    ),
    (
        "environment",
        {"provider": {"environment": "Sandbox"}},
        "registered in Sandbox",
        "choose_client",
    ),
    ("environment", {"provider": {"vendor_shared": True}}, "never for production", "choose_client"),
    (
        "environment",
        {
            "caller": {"values": {**ADDRESSES, "token_endpoint": "https://stg.example/t"}},
            "other_environments": {"Staging": ("https://stg.example/t",)},
        },
        "belongs to Staging",
        "take_provider",
    ),
]


@pytest.mark.parametrize(("key", "given", "why", "act"), DIFFERENT)
def test_a_pin_differs_says_why_and_offers_the_mend(
    key: str, given: dict[str, Any], why: str, act: str
) -> None:
    found = pin(key, **given)
    assert found.fit is Fit.DIFFERS
    assert why in found.why
    assert not act or act in [act.key for act in found.acts]


@pytest.mark.parametrize(
    ("key", "given"),
    [
        ("issuer", {"issuer": ""}),
        ("endpoints", {"values": {**ADDRESSES, "api_base": ""}}),
        ("redirect_uri", {"redirect_uri": ""}),
        ("client_id", {"client_id": ""}),
        ("secret", {"secret": None}),
        ("client_sign_in", {"sign_in_method": ""}),
        ("account", {"signed_in_at": None}),
    ],
)
def test_a_value_that_is_not_there_is_missing(key: str, given: dict[str, Any]) -> None:
    assert pin(key, caller=given).fit is Fit.MISSING


def test_the_trailing_slash_is_marked() -> None:
    found = pin("redirect_uri", caller={"redirect_uri": "https://l.example/return/"})
    assert found.marked is not None
    assert [piece.text for piece in found.marked.caller if not piece.same] == ["/"]
    assert found.provider == "https://l.example/return"


def test_scopes_name_the_workloads_that_need_them() -> None:
    needs = (
        Need("Customs return", "PUT /m", (frozenset({"write"}),)),
        Need("Report", "GET /m", (frozenset({"read"}),)),
    )
    found = pin("scopes", caller={"scopes": frozenset({"read", "write"})}, needs=needs)
    assert "Needed by 1 of 2 workloads" in found.why
    found = pin("scopes", needs=needs)
    assert found.fit is Fit.DIFFERS
    assert found.why.startswith("Customs return needs write for PUT /m")


def test_what_a_scope_implies_counts() -> None:
    needs = (Need("Report", "GET /m", (frozenset({"read"}),)),)
    wide = {
        "provider": {"scopes": frozenset({"write"})},
        "caller": {"scopes": frozenset({"write"}), "granted": frozenset({"write"})},
    }
    assert pin("scopes", **wide, needs=needs, implies={"write": ("read",)}).fit is Fit.FITS
    assert pin("scopes", **wide, needs=needs).fit is Fit.DIFFERS


def test_a_mirror_is_not_proven_until_a_test_after_the_last_change() -> None:
    """DOMAIN §2."""
    mirror = {"managed": False, "secrets": (SecretFacts(None, ""),)}
    for proven_at, fit in (
        (None, Fit.NOT_PROVEN),
        (NOW - timedelta(days=4), Fit.NOT_PROVEN),
        (NOW - timedelta(hours=1), Fit.FITS),
    ):
        worked_out = pins.work_out(
            halves(provider=mirror, proven_at=proven_at, secret_taken_at=proven_at)
        )
        fits = {item.key: item.fit for item in worked_out}
        assert fits["redirect_uri"] is fits["secret"] is fits["client_id"] is fit, proven_at


def test_a_token_that_lives_proves_no_secret() -> None:
    """F9 the other way round: what a test has not shown is not said of the secret."""
    mirror = {"managed": False, "secrets": (SecretFacts(None, ""),)}
    fits = {item.key: item.fit for item in pins.work_out(halves(provider=mirror, proven_at=NOW))}
    assert (fits["client_id"], fits["secret"]) == (Fit.FITS, Fit.NOT_PROVEN)


def test_a_secret_that_was_taken_fits_whatever_is_noted() -> None:
    """F9: it was called different, because another one was noted."""
    noted = {"managed": False, "secrets": (replace(SECRET, fingerprint="another"),)}
    assert pin("secret", provider=noted, proven_at=NOW).fit is Fit.DIFFERS
    assert (
        pin("secret", provider=noted, proven_at=NOW, secret_taken_at=NOW - timedelta(hours=1)).fit
        is Fit.FITS
    )
    retired = {"managed": False, "secrets": (replace(SECRET, live=False),)}
    assert (
        pin("secret", provider=retired, secret_taken_at=NOW).fit is Fit.DIFFERS
    )  # it was taken for the last time


def test_consent_noted_is_proven_by_a_test() -> None:
    given = {
        "administrator_scopes": frozenset({"read"}),
        "consents": {"read": Consent("morag", NOW)},
    }
    assert pin("consent", provider=given).fit is Fit.NOT_PROVEN
    assert pin("consent", provider=given, proven_at=NOW).fit is Fit.FITS


def test_a_client_that_signs_in_by_itself_has_no_redirect_and_no_account() -> None:
    keys = [
        item.key
        for item in pins.work_out(halves(caller={"scheme": CLIENT, "grant": "client_credentials"}))
    ]
    assert "redirect_uri" not in keys
    assert "account" not in keys


def test_without_a_client_the_pins_ask_for_one() -> None:
    found = pin("client_id", provider={"known": False})
    assert found.fit is Fit.MISSING
    assert found.acts[0].key == "choose_client"


def test_the_summary_names_what_is_off() -> None:
    worked_out = pins.work_out(
        halves(caller={"redirect_uri": "https://l.example/return/", "scopes": frozenset({"write"})})
    )
    assert pins.summary(worked_out) == "12 pins, 2 differ: redirect URI, scopes"


ORDER = [
    "issuer",
    "endpoints",
    "redirect_uri",
    "client_id",
    "secret",
    "client_sign_in",
    "grant",
    "scopes",
    "consent",
    "account",
    "route",
    "environment",
]
VALUES = st.sampled_from(
    ["", "https://a.example", "https://a.example/", "c1", " c1", "http://x", "{t}", "é"]
)


@given(
    st.fixed_dictionaries(
        dict.fromkeys(
            (
                "issuer",
                "token_endpoint",
                "api_base",
                "client_id",
                "redirect_uri",
                "sign_in_method",
                "account",
            ),
            VALUES,
        )
    ),
    st.sets(st.sampled_from(["read", "write", "x y"])),
    st.booleans(),
    st.booleans(),
)
def test_any_values_get_an_answer_with_a_reason(
    values: dict[str, str], scopes: set[str], known: bool, managed: bool
) -> None:
    addresses = {key: values.pop(key) for key in ("token_endpoint", "api_base")}
    caller = {**values, "values": {**ADDRESSES, **addresses}, "scopes": frozenset(scopes)}
    worked_out = pins.work_out(halves(provider={"known": known, "managed": managed}, caller=caller))
    assert [item.key for item in worked_out] == ORDER
    for item in worked_out:
        assert item.why
        assert item.fit is not Fit.DIFFERS or item.provider != item.caller or item.acts
