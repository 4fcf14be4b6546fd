"""Weak secrets: expected values, names that anybody knows, short passwords (NIST SP 800-63B-4
§3.1.1.2).
"""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import strength

NAMES = ("svc-website", "Harbour tickets")


@pytest.mark.parametrize(
    "text",
    [
        "changeme",
        "ChangeMe1!",
        "secret",
        "password123",
        "1234567890123456",
        "svc-website",
        "SVC_WEBSITE",
        "harbourtickets",
    ],
)
def test_what_anybody_would_try(text: str) -> None:
    for is_password in (True, False):
        assert "anybody would try" in strength.weakness(text, is_password, NAMES)


def test_a_short_password() -> None:
    assert "14 characters, 15 needed" in strength.weakness("qpwoeirutyalsk", True, NAMES)
    assert strength.weakness("qpwoeirutyalskd", True, NAMES) == ""
    assert strength.weakness("qpwoeirutyalsk", False, NAMES) == ""  # a key that an application made


@given(st.text(min_size=20, max_size=60, alphabet="abcdefghjkmnpqrstuvwxyz"), st.booleans())
def test_long_ones_are_taken_without_a_word(text: str, is_password: bool) -> None:
    assert strength.weakness(text, is_password, NAMES) == ""


@given(st.text(max_size=80), st.lists(st.text(max_size=20), max_size=3))
def test_anything_is_judged(text: str, names: list[str]) -> None:
    told = strength.weakness(text, True, names)
    assert len(told) <= 200
    assert strength.weakness(text, False, names) in ("", told)
