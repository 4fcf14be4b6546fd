"""JSON Pointer, and what is said of a piece of work that a test makes."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import pointers, probing
from neatlatch.core.profiles import Probe

# RFC 6901 §5
DOCUMENT = {
    "foo": ["bar", "baz"],
    "": 0,
    "a/b": 1,
    "c%d": 2,
    "e^f": 3,
    "g|h": 4,
    "i\\j": 5,
    'k"l': 6,
    " ": 7,
    "m~n": 8,
}
EXAMPLES = [
    ("", DOCUMENT),
    ("/foo", ["bar", "baz"]),
    ("/foo/0", "bar"),
    ("/", 0),
    ("/a~1b", 1),
    ("/c%d", 2),
    ("/e^f", 3),
    ("/g|h", 4),
    ("/i\\j", 5),
    ('/k"l', 6),
    ("/ ", 7),
    ("/m~0n", 8),
]


@pytest.mark.parametrize(("pointer", "value"), EXAMPLES)
def test_the_examples_of_rfc_6901(pointer: str, value: Any) -> None:
    assert pointers.value_at(DOCUMENT, pointer) == value


@pytest.mark.parametrize(
    "pointer", ["/foo/2", "/foo/01", "/foo/-", "/foo/+1", "/foo/bar", "/x", "/foo/0/y", "//"]
)
def test_a_pointer_to_nothing(pointer: str) -> None:
    with pytest.raises(LookupError):
        pointers.value_at(DOCUMENT, pointer)


@pytest.mark.parametrize("pointer", ["foo", "/a~", "/a~2b", "#/foo"])
def test_what_is_no_pointer(pointer: str) -> None:
    with pytest.raises(pointers.BadPointer):
        pointers.value_at(DOCUMENT, pointer)


@given(st.lists(st.text(max_size=5), max_size=4), st.integers())
def test_every_place_of_a_document_has_a_pointer(path: list[str], value: int) -> None:
    document: Any = value
    for key in reversed(path):
        document = {key: document}
    pointer = "".join("/" + key.replace("~", "~0").replace("/", "~1") for key in path)
    assert pointers.value_at(document, pointer) == value


def probe(id_at: str = "/number", look: str = "/reports/{id}") -> Probe:
    return Probe("POST", "/reports", {"title": "{test}"}, look, "DELETE", "/reports/{id}", id_at)


@pytest.mark.parametrize(
    ("id_at", "headers", "content", "found"),
    [
        ("/number", {}, '{"number": "T-204"}', "T-204"),
        ("/number", {}, '{"number": 204}', "204"),
        ("/data/0/id", {}, '{"data": [{"id": "a/b"}]}', "a/b"),
        ("/number", {}, '{"number": true}', ""),
        ("/number", {}, '{"number": null}', ""),
        ("/number", {}, '{"number": {"a": 1}}', ""),
        ("/number", {}, '{"number": ""}', ""),
        ("/number", {}, json.dumps({"number": "x" * 201}), ""),
        ("/number", {}, json.dumps({"number": "a\nb"}), ""),
        ("/number", {}, '{"number": ".."}', ""),
        ("Location", {"Location": "/reports/%2E%2E"}, "", ""),
        ("/number", {}, "no JSON", ""),
        ("/number", {}, "[" * 100_000, ""),
        ("Location", {"location": "https://desk.example/api/reports/T-204"}, "", "T-204"),
        ("Location", {"Location": "/reports/T%20204/?x=1#y"}, "", "T 204"),
        ("Location", {}, "", ""),
    ],
)
def test_the_id_that_an_application_gives(
    id_at: str, headers: dict[str, str], content: str, found: str
) -> None:
    assert probing.id_in(probe(id_at), headers, content) == found


def test_nothing_is_said_that_was_not_shown() -> None:
    asked = probing.Piece(probe(), "TEST-1")
    assert not asked.can_be_cleared
    made = asked.answered({}, '{"number": "T/204"}')
    assert (made.name, made.path("/reports/{id}")) == ("TEST-1 (T/204)", "/reports/T%2F204")
    assert made.report() == "made TEST-1 (T/204), cleared it away"
    assert made.shown_by("a page without its mark")  # it was asked for by its ID
    listed = probing.Piece(probe(look="/reports"), "TEST-1", "T/204", made=True)
    assert not listed.shown_by('[{"number": "T/204"}]')  # an ID may stand in any list
    assert listed.shown_by('[{"title": "TEST-1"}]')


@given(st.text(min_size=1, max_size=30))
def test_an_id_stays_one_segment_of_the_path(given_id: str) -> None:
    try:
        piece = probing.Piece(probe(), "TEST-1", given_id)
        path = piece.path("/reports/{id}")
    except UnicodeEncodeError:  # half a character cannot be sent
        assert not given_id.isprintable()
        return
    assert path.count("/") == 2
    assert "?" not in path
    assert "#" not in path
