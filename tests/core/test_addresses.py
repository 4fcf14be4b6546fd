"""RFC 3986: taking apart and normalising, against its own examples and the rfc3986 library."""

from __future__ import annotations

import pytest
import rfc3986
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import addresses

URIS = st.builds(
    lambda scheme, host, port, path, query: f"{scheme}://{host}{port}{path}{query}",
    st.sampled_from(["http", "https", "HTTPS", "Http"]),
    st.from_regex(r"\A[a-zA-Z][a-zA-Z0-9]{0,8}(\.[a-zA-Z]{2,5})?\Z"),
    st.sampled_from(["", ":443", ":80", ":8443"]),
    st.from_regex(r"\A(/([A-Za-z0-9~._-]|%7[eE]|%2[fF]|%41){1,4}|/\.\.|/\.){0,4}/?\Z"),
    st.sampled_from(["", "?a=1", "?a=%7e&b"]),
)


@pytest.mark.parametrize(
    ("path", "expected"),
    [
        ("/a/b/c/./../../g", "/a/g"),
        ("mid/content=5/../6", "mid/6"),
        ("/../a", "/a"),
        ("/a/..", "/"),
        ("..", ""),
        ("", ""),
    ],
)
def test_dot_segments(path: str, expected: str) -> None:
    """RFC 3986 §5.2.4 (the first two are its examples)."""
    assert addresses.remove_dot_segments(path) == expected


def test_the_example_of_equivalence() -> None:
    """RFC 3986 §6.2.2: example://a/b/c/%7Bfoo%7D is eXAMPLE://a/./b/../b/%63/%7bfoo%7d."""
    assert addresses.equivalent("example://a/b/c/%7Bfoo%7D", "eXAMPLE://a/./b/../b/%63/%7bfoo%7d")


@given(URIS)
def test_normalising_agrees_with_the_reference_library(uri: str) -> None:
    reference = rfc3986.uri_reference(uri).normalize()
    ours = addresses.take_apart(addresses.normalise(uri))
    assert ours.scheme == reference.scheme
    assert ours.host == reference.host
    # Empty segments are left out: the library drops them, RFC 3986 §5.2.4 does not ("/.//" is
    # "//"). The library does not undo escapes of unreserved characters (§6.2.2.2), nor fill an
    # empty path (§6.2.3).
    unescaped = (reference.path or "/").replace("%7E", "~").replace("%41", "A")
    assert ours.path == addresses.remove_dot_segments(unescaped)


@given(URIS)
def test_normalising_twice_changes_nothing_more(uri: str) -> None:
    once = addresses.normalise(uri)
    assert addresses.normalise(once) == once


@given(st.text(max_size=60))
def test_taking_apart_loses_nothing(text: str) -> None:
    assert addresses.take_apart(text).text == text


@pytest.mark.parametrize(
    ("uri", "said"),
    [
        ("https://ids.example/{tenant}/token", "{tenant}"),
        (" https://a.example", "space"),
        ("a.example/token", "scheme"),
        ("ftp://a.example/", "not a scheme"),
        ("https:///x", "no host"),
        ("https://me:pw@a.example/", "user name"),
        ("https://a.example:99999/", "port"),
        ("https://a.example/ü", "escape"),
    ],
)
def test_what_cannot_be_called_is_said(uri: str, said: str) -> None:
    assert said in (addresses.unsound_web_address(uri) or "")


def test_a_sound_address() -> None:
    assert addresses.unsound_web_address("https://a.example:8443/x?y=1") is None


@pytest.mark.parametrize(
    "uri",
    [
        "https://a.example/{tenant}/token",
        "a.example",
        "",
        "https://<host>/x",
        f"https://a.example/{'x' * 1_982}",
    ],
)
def test_an_unfinished_address_is_not_uncallable(uri: str) -> None:
    assert addresses.uncallable(uri) is None


@pytest.mark.parametrize(
    "uri",
    [
        "ftp://a.example",
        "https://u@a.example/{tenant}",
        "https://:@a.example",
        f"https://a.example/{'x' * 1_983}",
    ],
)
def test_what_nothing_is_ever_sent_to(uri: str) -> None:
    """RFC 9110 §4.2.4 for user info; the length is our own."""
    assert addresses.uncallable(uri)


@pytest.mark.parametrize(
    ("uri", "expected"),
    [
        ("https://x.example", True),
        ("http://127.0.0.1:1/", True),
        ("http://[::1]/", True),
        ("http://localhost/", True),
        ("http://x.example/", False),
        ("http://127.0.0.1.evil.example/", False),
    ],
)
def test_protected(uri: str, expected: bool) -> None:
    assert addresses.is_protected(uri) is expected


@pytest.mark.parametrize(
    ("address", "says"),
    [
        ("https://tallies.gannet.example/done", ""),
        ("HTTPS://tallies.gannet.example/done", ""),
        ("http://127.0.0.1:8123/done", ""),
        ("http://[::1]:8123/done", ""),
        ("http://tallies.gannet.example/done", "must be https"),
        ("https://tallies.gannet.example/#x", "no fragment"),
        ("https://" + "a" * 60, "40 characters at most"),
        ("/done", "needs the scheme"),
    ],
)
def test_where_people_may_be_sent_on_to(address: str, says: str) -> None:
    said = addresses.unsound_return_address(address, 40)
    assert says in said
    assert bool(said) is bool(says)
