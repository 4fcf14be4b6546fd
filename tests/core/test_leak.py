"""Finding a leaked credential in what was pasted, and when revoking it stops whom."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import house_key, leak
from neatlatch.core.schemes import API_KEY, CODE

NOW = datetime(2026, 11, 25, 9, 0, tzinfo=UTC)
KEY = house_key.make("nlk", "production", b"eight888", b"\x07" * 32)


@pytest.mark.parametrize(
    "text",
    [
        KEY,
        f"it was in a mail: {KEY}.",
        f"curl -H 'Authorization: Bearer {KEY}' https://a.example",
        f'{{"key": "{KEY}"}}',
        f"API_KEY={KEY}\n",
    ],
)
def test_a_key_is_found_wherever_it_stands(text: str) -> None:
    assert leak.candidates(text)[0] == KEY


def test_values_of_others_are_found_too() -> None:
    for text in (
        "FUEL_SECRET=s3cr3t-of-the-ledger",
        "fuel: s3cr3t-of-the-ledger",
        '"s3cr3t-of-the-ledger"',
        "is s3cr3t-of-the-ledger, and",
    ):
        assert "s3cr3t-of-the-ledger" in leak.candidates(text), text


@given(st.text(max_size=300))
def test_any_text_is_read_in_bounds(text: str) -> None:
    found = leak.candidates(text)
    assert len(found) <= 4 * leak.MOST_WORDS + 10
    assert text.strip() in found


def test_when_it_stops() -> None:
    assert leak.stop(CODE, False, NOW + timedelta(minutes=40), True, NOW).at == NOW + timedelta(minutes=40)
    assert leak.stop(CODE, False, NOW - timedelta(minutes=1), True, NOW).at is None
    assert leak.stop(CODE, False, None, True, NOW).says.startswith("nobody can say")
    assert leak.stop(API_KEY, False, None, False, NOW).says.startswith("at once")
    assert leak.stop(CODE, True, NOW + timedelta(minutes=40), True, NOW).at is None


def test_the_quickest_replacement_ends_with_the_old_one_dead() -> None:
    assert leak.acts("Fuel ledger", True, True)[-1].startswith("Revoke this one")
    assert leak.acts("Fuel ledger", False, False)[-1] == "Revoke this one in Fuel ledger's screens."
    assert leak.acts("Fuel ledger", False, True)[-1] == "Remove the old client there."
    assert leak.acts("", False, False)[0] == "Have it revoked where it was issued."
