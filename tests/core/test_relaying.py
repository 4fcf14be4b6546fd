"""What the relay sends on, where to, and when again."""

from __future__ import annotations

from urllib.parse import urlsplit

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import profiles, relaying
from neatlatch.core.formats import paste


def test_what_is_for_one_hop_or_for_us_stays_here() -> None:
    """RFC 9110 §7.6.1."""
    sent = (
        ("Accept", "*/*"),
        ("Authorization", "Bearer nlk_x"),
        ("Connection", "close, X-Hop"),
        ("X-Hop", "1"),
        ("Cookie", "a=b"),
        ("X-Forwarded-For", "1.2.3.4"),
        ("TE", "trailers"),
        ("If-Match", '"7"'),
        ("Content-Type", "text/plain"),
        ("Host", "desk.example"),
    )
    assert dict(relaying.onward(sent)) == {
        "Accept": "*/*",
        "If-Match": '"7"',
        "Content-Type": "text/plain",
    }
    came = (
        ("ETag", '"7"'),
        ("Set-Cookie", "a=b"),
        ("Transfer-Encoding", "chunked"),
        ("Retry-After", "3"),
        ("WWW-Authenticate", "Bearer"),
    )
    assert dict(relaying.back(came)) == {"ETag": '"7"', "Retry-After": "3"}


@pytest.mark.parametrize(
    "name",
    [
        "X-HTTP-Method-Override",
        "X-Original-URL",
        "X-Real-IP",
        "Client-Cert",
        "X-Api-Key",
        "X-SSL-Client-S-DN",
        "X-Anything",
        "Origin",
        "Upgrade",
    ],
)
def test_what_would_say_who_asks_or_move_a_request_stays_here(name: str) -> None:
    """L1, L2."""
    assert relaying.onward(((name, "1"), ("Accept", "*/*"))) == (("Accept", "*/*"),)


@pytest.mark.parametrize(
    "name",
    [
        "Access-Control-Allow-Origin",
        "X-Frame-Options",
        "Alt-Svc",
        "Refresh",
        "Service-Worker-Allowed",
        "Location",
        "Cache-Control",
        "Set-Cookie",
    ],
)
def test_what_would_steer_a_browser_does_not_come_back(name: str) -> None:
    """L4."""
    assert relaying.back(((name, "1"), ("ETag", '"7"'))) == (("ETag", '"7"'),)


def test_a_profile_lets_fields_of_its_own_through() -> None:
    sent = (("X-Gannet-Version", "3"), ("X-Other", "1"), ("Connection", "x-hop"), ("X-Hop", "1"))
    assert relaying.onward(sent, ("x-gannet-version", "x-hop", "Authorization")) == (
        ("X-Gannet-Version", "3"),
    )
    assert not relaying.may_travel("X-Forwarded-Host")
    assert not relaying.may_travel("a b")
    assert not relaying.may_travel("")
    with pytest.raises(profiles.BadProfile, match="X-Real-IP"):
        profiles.from_dict({"relays": ["X-Real-IP"]})
    kept = profiles.from_dict({"relays": ["X-Gannet-Version"]})
    assert (
        profiles.from_dict(profiles.to_dict(kept))
        == profiles.from_dict(profiles.brief(kept))
        == kept
    )


@pytest.mark.parametrize(
    ("told", "shown"),
    [
        ("https://a.example/api/manifests/7", "/relay/cargo/manifests/7"),
        ("/api/manifests/7?x=1", "/relay/cargo/manifests/7?x=1"),
        ("8", "/relay/cargo/8"),
        ("https://a.example/api", "/relay/cargo"),
        ("https://a.example/office", None),
        ("https://a.example/apix", None),
        ("https://evil.example/api/x", None),
        ("//evil.example/api/x", None),
        ("http://a.example/api/x", None),
        ("https://a.example/api/..;/office", None),
        ("https://[", None),
    ],
)
def test_where_an_answer_says_that_something_is(told: str, shown: str | None) -> None:
    assert (
        relaying.location(
            told, "https://a.example/api/manifests", "https://a.example/api/", "/relay/cargo"
        )
        == shown
    )


def test_where_it_goes() -> None:
    assert (
        relaying.target("https://a.example/api/", "/manifests", "x=1")
        == "https://a.example/api/manifests?x=1"
    )
    # A service with one address, as for queries in its body, is reached at the base itself; a slash
    # that was sent is kept.
    assert relaying.target("https://a.example/query", "") == "https://a.example/query"
    assert relaying.target("https://a.example/query", "/", "x=1") == "https://a.example/query/?x=1"
    for path in (
        "../office",
        "a/../../b",
        "%2e%2e/office",
        "%252e%252e/x",
        "..\\x",
        "https://evil.example/",
        "//evil.example/x",
        "a b",
        "a\r\nb",
        "./x",
        "..;/office",
        "a/..;x=1/b",
        "%2e%2e%3b/office",
        "a/.;/b",
    ):
        with pytest.raises(relaying.BadPath):
            relaying.target("https://a.example/api", path)


@given(
    st.text(max_size=40),
    st.text(
        st.characters(min_codepoint=33, max_codepoint=126, exclude_characters="#"), max_size=20
    ),
)
def test_no_path_leads_out_of_the_api(path: str, query: str) -> None:
    try:
        address = urlsplit(relaying.target("https://a.example/api", path, query))
    except relaying.BadPath:
        return
    assert (address.scheme, address.netloc) == ("https", "a.example")
    assert address.path.startswith("/api/" if path else "/api")
    assert ".." not in address.path.split("/")


def test_what_may_be_repeated() -> None:
    assert relaying.may_repeat_after_renewal("PUT", ())
    assert not relaying.may_repeat_after_renewal("POST", (("Content-Type", "text/plain"),))
    assert relaying.may_repeat_after_renewal("POST", (("idempotency-key", "7"),))


def test_lines_to_paste_hold_no_secret_and_are_python() -> None:
    lines = paste.lines("https://desk.example", "cargo-manifests", "/manifests")
    assert len(lines) == 6
    for language, text in lines.items():
        assert "NLATCH_KEY" in text
        assert "cargo-manifests" in text
        if language.startswith("Python"):
            compile(text, language, "exec")
