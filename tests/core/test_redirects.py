"""Redirect URIs: beyond the table of check values, what must always hold."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import differ, redirects

URI = st.from_regex(
    r"\Ahttps://[a-z]{1,5}\.example(:[1-9][0-9]{1,3})?(/[a-zA-Z0-9]{0,4}){0,3}(\?[a-z]=[0-9])?\Z"
)


@pytest.mark.slow
@given(st.lists(URI, min_size=1, max_size=4), URI)
def test_only_the_same_string_matches_for_web_clients(
    registered: list[str], presented: str
) -> None:
    """RFC 9700 §2.1."""
    found = redirects.match(tuple(registered), presented)
    assert found.match == (presented in registered)
    if not found.match:
        assert found.reason
        assert found.nearest in registered
        assert found.differences


@given(URI, st.sampled_from(["/", " ", "\n", "x", "%20"]))
def test_one_character_more_is_no_match_and_is_marked(uri: str, more: str) -> None:
    found = redirects.match((uri,), uri + more)
    assert not found.match
    marked = differ.mark(uri, uri + more)
    assert "".join(piece.text for piece in marked.caller if not piece.same) == more


@given(st.text(max_size=80), st.text(max_size=80))
def test_marks_give_both_texts_back(text: str, other: str) -> None:
    marked = differ.mark(text, other)
    assert "".join(piece.text for piece in marked.provider) == text
    assert "".join(piece.text for piece in marked.caller) == other
    assert [p.text for p in marked.provider if p.same] == [p.text for p in marked.caller if p.same]


def test_long_texts_are_marked_in_bounded_time() -> None:
    marked = differ.mark("a" * 200_000 + "x" + "b" * 10, "a" * 200_000 + "y" + "b" * 10)
    assert [piece.text for piece in marked.caller if not piece.same] == ["y"]


@given(st.text(max_size=60))
def test_lint_never_fails(uri: str) -> None:
    for item in redirects.lint(uri):
        assert item.says
        assert item.source


@pytest.mark.parametrize(
    ("uri", "code", "grave"),
    [
        ("/cb", "relative", True),  # RFC 6749 §3.1.2
        ("https://a.example/cb#x", "fragment", True),  # RFC 6749 §3.1.2
        ("https://*.a.example/cb", "wildcard", True),  # RFC 9700 §4.1.3
        ("http://a.example/cb", "not_https", True),  # RFC 6749 §3.1.2.1
        ("myapp:/cb", "no_dot", True),  # RFC 8252 §7.1
        ("javascript:alert(1)", "runnable", True),
        ("https://u@a.example/cb", "userinfo", True),  # RFC 9110 §4.2.4
        ("https://a.example/cb?next=x", "redirector", False),  # RFC 9700 §4.11
        ("http://localhost/cb", "localhost", False),  # RFC 8252 §8.3
        ("https://a.example/{tenant}", "placeholder", True),
        ("https://a.example/cb ", "end_space", True),
        ("https://a.example:0/cb", "port", True),
        ("https://A.example/cb", "not_normal", False),
        ("", "empty", True),
    ],
)
def test_lint(uri: str, code: str, grave: bool) -> None:
    found = {item.code: item.grave for item in redirects.lint(uri)}
    assert found[code] is grave


@pytest.mark.parametrize(
    "uri",
    ["https://a.example/cb", "http://127.0.0.1/cb", "http://[::1]:8080/cb", "com.example.app:/cb"],
)
def test_nothing_to_say(uri: str) -> None:
    assert redirects.lint(uri) == ()
