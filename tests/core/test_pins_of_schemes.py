"""The pins of the schemes beside OAuth 2.0 codes: what fits, each usual mistake, and the act that
mends it.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from neatlatch.core import pins, profiles, schemes
from neatlatch.core.pins import (
    CallerSide,
    CertificateSight,
    Fit,
    Halves,
    Need,
    ProviderSide,
    SecretFacts,
)
from neatlatch.core.schemes import (
    API_KEY,
    BASIC,
    BEARER,
    CERTIFICATE,
    JWT,
    KINDS,
    OAUTH1,
    PAIR,
    STREAM,
)

NOW = datetime(2026, 11, 24, 12, tzinfo=UTC)
KEY = SecretFacts("f1", "…p2Xa", put_in=NOW - timedelta(days=9))
SIGHT = CertificateSight(
    "CN=crew roster client",
    "AB:CD:" + "00:" * 29 + "EF",
    NOW + timedelta(days=40),
    "ok",
    "The chain is good.",
    True,
    True,
)
STREAMING = replace(KINDS[STREAM], endpoints=(schemes.endpoint("register", "Register", BASIC),))
VALUES = {
    API_KEY: {"api_base": "https://fares.example/v2"},
    BEARER: {"api_base": "https://lost.example"},
    CERTIFICATE: {"api_base": "https://crew.example", "certificate": "PEM"},
    PAIR: {"api_base": "https://x.example", "key_id": "kid-7"},
    BASIC: {"api_base": "https://tickets.example/shop", "username": "svc-tickets"},
    OAUTH1: {"api_base": "https://tides.example", "client_key": "ck", "token_id": "tk"},
    STREAM: {
        "stream_address": "positions.example:9443",
        "key_id": "kid-7",
        "register.api_base": "https://positions.example/register",
        "register.username": "svc-p",
    },
    JWT: {
        "issuer": "https://pay.example",
        "token_endpoint": "https://pay.example/t",
        "api_base": "https://pay.example/api",
        "audience": "https://pay.example/t",
    },
}


def halves(
    kind: str,
    caller: dict[str, Any] | None = None,
    provider: dict[str, Any] | None = None,
    **rest: Any,
) -> Halves:
    """A connection of a kind whose halves meet, with what is given changed."""
    scheme = STREAMING if kind == STREAM else KINDS[kind]
    values = VALUES[kind]
    keys = {secret.key: KEY for secret in scheme.secrets()}
    ours = CallerSide(
        scheme=kind,
        environment="Production",
        environment_is_production=True,
        environment_wants_service_account=True,
        grant=scheme.grant,
        parts=scheme,
        values=values,
        secrets=keys,
        issuer=values.get("issuer", ""),
        client_id="c1" if kind == JWT else "",
        certificate=SIGHT if kind in (CERTIFICATE, JWT) else None,
        changed_at=NOW - timedelta(days=2),
    )
    addresses = {address.key: values[address.key] for address in scheme.addresses()}
    facts = {identity.key: values[identity.key] for identity in scheme.identities()} | {
        "thumbprint": SIGHT.sha256.lower().replace(":", "")
    }
    theirs = ProviderSide(
        known=True,
        managed=False,
        environment="Production",
        issuer=values.get("issuer", ""),
        addresses=addresses,
        facts=facts,
        held=dict.fromkeys(keys, (KEY,)),
        account="svc-harbour",
        account_kind="service",
        client_id="c1" if kind == JWT else "",
        grants=frozenset({scheme.grant}),
        changed_at=NOW - timedelta(days=3),
    )
    return Halves(
        provider=replace(theirs, **(provider or {})),
        caller=replace(ours, **(caller or {})),
        now=NOW,
        proven_at=NOW - timedelta(hours=1),
        secret_taken_at=NOW - timedelta(hours=1),
        **rest,
    )


def pin(key: str, *given: Any, **rest: Any) -> pins.Pin:
    return next(item for item in pins.work_out(halves(*given, **rest)) if item.key == key)


@pytest.mark.parametrize("kind", VALUES)
def test_everything_latches(kind: str) -> None:
    worked_out = pins.work_out(halves(kind))
    assert pins.latches(worked_out), [
        (item.key, item.fit, item.why) for item in worked_out if item.fit is not Fit.FITS
    ]
    assert len({item.key for item in worked_out}) == len(worked_out)


@pytest.mark.parametrize("kind", VALUES)
def test_a_mirrored_half_is_not_proven(kind: str) -> None:
    worked_out = pins.work_out(replace(halves(kind), proven_at=None, secret_taken_at=None))
    assert {item.fit for item in worked_out} <= {Fit.NOT_PROVEN, Fit.NOT_ASKED}
    assert not pins.latches(worked_out)


@pytest.mark.parametrize("kind", VALUES)
def test_with_nothing_filled_in_every_pin_says_what_is_missing(kind: str) -> None:
    worked_out = pins.work_out(
        halves(
            kind,
            {"values": {}, "secrets": {}, "certificate": None, "issuer": "", "client_id": ""},
            {"known": False},
        )
    )
    assert Fit.FITS not in {item.fit for item in worked_out}
    assert all(item.why for item in worked_out)


SLIPS: list[tuple[str, str, dict[str, Any], dict[str, Any], str, str]] = [
    (
        "username",
        BASIC,
        {"values": {**VALUES[BASIC], "username": "Svc-Tickets"}},
        {},
        "Only capitals",
        "take_provider",
    ),
    (
        "username",
        BASIC,
        {"values": {**VALUES[BASIC], "username": "svc-tickets "}},
        {},
        "space",
        "take_provider",
    ),
    (
        "endpoints",
        BASIC,
        {"values": {**VALUES[BASIC], "api_base": "https://tickets.example"}},
        {},
        "/shop is part of their address",
        "take_provider",
    ),
    (
        "endpoints",
        BASIC,
        {"values": {**VALUES[BASIC], "api_base": "tickets.example/shop"}},
        {},
        "needs the scheme",
        "take_provider",
    ),
    (
        "endpoints",
        STREAM,
        {"values": {**VALUES[STREAM], "stream_address": "https://positions.example"}},
        {},
        "host and a port",
        "take_provider",
    ),
    (
        "endpoints",
        STREAM,
        {"values": {**VALUES[STREAM], "register.api_base": "https://other.example"}},
        {},
        "API base address of the register",
        "take_provider",
    ),
    (
        "key_id",
        PAIR,
        {"values": {**VALUES[PAIR], "key_id": "kid-8"}},
        {},
        "another key ID",
        "take_provider",
    ),
    (
        "token_id",
        OAUTH1,
        {"values": {**VALUES[OAUTH1], "token_id": "ck"}},
        {},
        "belongs at “client key”",
        "take_provider",
    ),
    (
        "api_key",
        API_KEY,
        {"secrets": {"api_key": replace(KEY, fingerprint="f2")}, "changed_at": NOW},
        {},
        "not one of those that are active",
        "put_secret",
    ),
    (
        "api_key",
        API_KEY,
        {},
        {"held": {"api_key": (replace(KEY, ends=NOW - timedelta(hours=9)),)}},
        "expired 9 h ago",
        "put_secret",
    ),
    (
        "token",
        BEARER,
        {"secrets": {"token": replace(KEY, looks_like_id=True)}},
        {},
        "ID of the secret",
        "put_secret",
    ),
    (
        "account",
        BEARER,
        {},
        {"account": "r.oake@gannet.example", "account_kind": "person"},
        "is a person's",
        "open_client",
    ),
    (
        "route",
        API_KEY,
        {"outgoing": ("203.0.113.9",)},
        {"allow_list": ("198.51.100.0/24",)},
        "outside their allow-list",
        "open_client",
    ),
    (
        "certificate",
        CERTIFICATE,
        {"certificate": replace(SIGHT, verdict="expired", ends=NOW - timedelta(days=2))},
        {},
        "expired 2 days ago",
        "put_certificate",
    ),
    (
        "certificate",
        CERTIFICATE,
        {"certificate": replace(SIGHT, client_use=False)},
        {},
        "clientAuth",
        "put_certificate",
    ),
    (
        "certificate",
        CERTIFICATE,
        {"certificate": replace(SIGHT, key_matches=False)},
        {},
        "not this certificate's",
        "put_certificate",
    ),
    (
        "certificate",
        CERTIFICATE,
        {"certificate": replace(SIGHT, sha256="11:" * 31 + "11")},
        {},
        "another certificate",
        "note_thumbprint",
    ),
    (
        "audience",
        JWT,
        {"values": {**VALUES[JWT], "audience": "https://pay.example/t/"}},
        {},
        "Only a slash",
        "take_provider",
    ),
    (
        "grant",
        JWT,
        {"parts": replace(KINDS[JWT], switches=("Programs may sign in",))},
        {},
        "firm-wide switch “Programs may sign in”",
        "note_switch",
    ),
    (
        "username",
        BASIC,
        {"values": {**VALUES[BASIC], "username": "svc-other"}},
        {},
        "another user name",
        "note_fact",
    ),
    (
        "environment",
        API_KEY,
        {},
        {"environment": "Sandbox"},
        "registered in Sandbox",
        "choose_client",
    ),
]


@pytest.mark.parametrize(("key", "kind", "caller", "provider", "why", "act"), SLIPS)
def test_the_usual_slips(
    key: str, kind: str, caller: dict[str, Any], provider: dict[str, Any], why: str, act: str
) -> None:
    found = pin(key, kind, caller, provider)
    assert found.fit is Fit.DIFFERS
    assert why in found.why
    assert act in [act.key for act in found.acts]


def test_thumbprints_are_compared_whatever_their_dress() -> None:
    for with_credential in (
        SIGHT.sha256,
        SIGHT.sha256.lower(),
        SIGHT.sha256.replace(":", ""),
        SIGHT.sha256.replace(":", " "),
    ):
        assert (
            pin("certificate", CERTIFICATE, provider={"facts": {"thumbprint": with_credential}}).fit
            is Fit.FITS
        )


def test_a_role_that_is_not_enough_names_the_workload() -> None:
    needs = (Need("Night run", "POST /tickets", (frozenset({"agent"}), frozenset({"manager"}))),)
    given: dict[str, Any] = {
        "roles": ("reader", "agent", "manager"),
        "needs": needs,
        "implies": {"manager": ("agent",), "agent": ("reader",)},
    }
    found = pin("rights", BASIC, {}, {"rights": frozenset({"reader"})}, **given)
    assert found.fit is Fit.DIFFERS
    assert found.why == "Night run needs agent for POST /tickets; the role there is reader."
    assert pin("rights", BASIC, {}, {"rights": frozenset({"manager"})}, **given).fit is Fit.FITS
    assert pin("rights", BASIC, **given).fit is Fit.MISSING


def test_a_permission_changed_after_the_token_was_made_does_not_reach_it() -> None:
    """Common practice, no source."""
    given: dict[str, Any] = {"roles": ("read", "write"), "roles_label": "permission"}
    late = {"rights": frozenset({"read", "write"}), "rights_changed_at": NOW - timedelta(days=1)}
    found = pin("rights", OAUTH1, {}, late, **given)
    assert found.fit is Fit.DIFFERS
    assert "does not reach it" in found.why
    assert (
        pin(
            "rights", OAUTH1, {}, {**late, "rights_changed_at": NOW - timedelta(days=20)}, **given
        ).fit
        is Fit.FITS
    )
    # A key is judged by what its account may do now: nothing of the kind.
    assert pin("rights", API_KEY, {}, late, **given).fit is Fit.FITS


def test_a_tenant_left_unchanged_in_one_address() -> None:
    patterns = {
        "token_endpoint": "https://pay.example/{tenant}/t",
        "api_base": "https://pay.example/{tenant}/api",
    }
    values = {
        **VALUES[JWT],
        "token_endpoint": "https://pay.example/4471/t",
        "api_base": "https://pay.example/9999/api",
    }
    found = pin("tenant", JWT, {"values": values, "slots": {"tenant": "4471"}}, patterns=patterns)
    assert found.fit is Fit.DIFFERS
    assert "Our api base has 9999" in found.why
    assert found.acts[0].key == "fill_slots"
    open_slot = {**values, "api_base": "https://pay.example/{tenant}/api"}
    assert (
        "is still in our"
        in pin(
            "tenant", JWT, {"values": open_slot, "slots": {"tenant": "4471"}}, patterns=patterns
        ).why
    )
    good = {**values, "api_base": "https://pay.example/4471/api"}
    assert (
        pin("tenant", JWT, {"values": good, "slots": {"tenant": "4471"}}, patterns=patterns).fit
        is Fit.FITS
    )
    assert pin("tenant", JWT, {"values": good}, patterns=patterns).fit is Fit.MISSING


def test_profiles_there_and_back_and_what_is_refused() -> None:
    kept = {
        "schemes": [
            {
                "key": "stream",
                "where": {"key_id": "Top right"},
                "endpoints": [
                    {
                        "key": "register",
                        "label": "Register",
                        "kind": "basic",
                        "where": {"username": "Mail"},
                    }
                ],
            },
            {
                "key": "api_key",
                "settings": {"placement": "query", "name": "key"},
                "values": [{"key": "api_key", "label": "Kiosk key", "pattern": "[a-z]+"}],
            },
        ],
        "slots": [{"key": "tenant", "label": "Tenant", "type": "text", "help": "Yours"}],
        "roles": [{"name": "reader", "meaning": "Look"}],
        "operations": [{"method": "get", "path": "/x", "alternatives": [["reader"]]}],
        "harmless": "GET /x",
    }
    found = profiles.from_dict(kept)
    assert profiles.from_dict(profiles.to_dict(found)) == found
    stream = found.scheme("stream")
    assert stream is not None
    assert [secret.key for secret in stream.secrets()] == ["key_secret", "register.password"]
    assert stream.value("register.username").where == "Mail"  # type: ignore[union-attr]
    key = found.scheme("api_key")
    assert key is not None
    assert key.value("api_key").label == "Kiosk key"  # type: ignore[union-attr]
    assert key.value("api_key").secret  # type: ignore[union-attr]
    assert key.settings == {"placement": "query", "name": "key"}
    assert profiles.check_values(key, {"api_base": ""})["api_base"].startswith(
        "API base address is needed"
    )
    for wrong, says in (
        ({"schemes": [{"key": "magic"}]}, "not known"),
        ({"schemes": [{"key": "basic"}, {"key": "basic"}]}, "twice"),
        ({"schemes": [{"key": "basic", "values": [{"key": "pin"}]}]}, "not one that the scheme"),
        ({"harmless": "GET /y"}, "not one of the operations"),
        ({"schemes": [{"key": "api_key", "settings": {"placement": "moon"}}]}, "header"),
        ({"schemes": [{"key": "basic", "colour": 1}]}, "colour"),
        (
            {"schemes": [{"key": "api_key", "values": [{"key": "api_key", "pattern": "("}]}]},
            "regular expression",
        ),
        ({"schemes": 5}, "cannot be read"),
    ):
        with pytest.raises(profiles.BadProfile, match=says):
            profiles.from_dict(wrong)


def test_a_secret_of_another_environment() -> None:
    given = halves(API_KEY, {"secrets": {"api_key": replace(KEY, elsewhere="Sandbox")}})
    found = next(
        item
        for item in pins.work_out(replace(given, secret_taken_at=None))
        if item.key == "environment"
    )
    assert found.fit is Fit.DIFFERS
    assert found.why == "The API key we send is the one that is used in Sandbox."
    # Where it works it belongs; the other environment has the wrong one.
    assert next(item for item in pins.work_out(given) if item.key == "environment").fit is Fit.FITS
