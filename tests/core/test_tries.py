"""Counts of wrong log-ins, and recovery codes."""

from __future__ import annotations

import base64
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import recovery, tries

NOW = datetime(2026, 11, 28, 9, 0, tzinfo=UTC)


def after(limit: tries.Limit, *seconds: float) -> tuple[tries.TryCount, list[bool]]:
    """The count after wrong ones at these moments, and with which of them a rest began."""
    count, begun = tries.TryCount(), []
    for second in seconds:
        count, begins = tries.after_wrong(count, limit, NOW + timedelta(seconds=second))
        begun.append(begins)
    return count, begun


def test_the_fifth_wrong_one_locks_for_a_quarter_of_an_hour_and_then_it_begins_anew() -> None:
    count, begun = after(tries.PAIR, 0, 1, 2, 3, 4)
    assert begun == [False] * 4 + [True]
    assert tries.wait(count, NOW + timedelta(seconds=4)) == 900
    assert tries.wait(count, NOW + timedelta(seconds=904)) == 0
    count, begins = tries.after_wrong(count, tries.PAIR, NOW + timedelta(seconds=905))
    assert (count.wrong, begins, tries.wait(count, NOW + timedelta(seconds=905))) == (1, False, 0)


def test_wrong_ones_far_apart_lock_nobody() -> None:
    count, begun = after(tries.PAIR, *(300 * number for number in range(12)))
    assert not any(begun)
    assert tries.wait(count, NOW + timedelta(hours=1)) == 0


def test_a_name_is_slowed_and_never_locked() -> None:
    count, begun = after(tries.NAME, *range(40))
    assert [number for number, one in enumerate(begun) if one] == [19]
    assert tries.wait(count, NOW + timedelta(seconds=39)) == 10


@given(
    st.lists(st.floats(0, 5_000), max_size=60).map(sorted),
    st.sampled_from([tries.PAIR, tries.ADDRESS, tries.NAME]),
)
def test_nobody_waits_longer_than_the_rest(moments: list[float], limit: tries.Limit) -> None:
    count, begun = after(limit, *moments)
    assert (
        tries.wait(count, NOW + timedelta(seconds=moments[-1] if moments else 0))
        <= limit.rest.total_seconds()
    )
    assert sum(begun) <= len(moments) // limit.most


def test_a_clock_that_is_set_back_locks_nobody_for_good() -> None:
    count, _ = after(tries.PAIR, 10_000, 0)
    assert count.wrong == 1


def test_what_counts_as_one_address() -> None:
    assert (
        tries.network_of("203.0.113.7") == tries.network_of("::ffff:203.0.113.7") == "203.0.113.7"
    )
    assert (
        tries.network_of("2001:db8::1")
        == tries.network_of("2001:db8::ffff:ffff:ffff:ffff")
        == "2001:db8::/64"
    )
    assert tries.network_of("2001:db8::1") != tries.network_of("2001:db8:0:1::1")
    assert tries.network_of("") == ""


@given(st.binary(min_size=10, max_size=10))
def test_a_recovery_code_is_read_as_it_was_written(octets: bytes) -> None:
    """Base32 of RFC 4648 section 6, by the standard library."""
    text = recovery.written(octets)
    bare = text.replace("-", "")
    assert base64.b32decode(bare.upper()) == octets
    assert recovery.read(text) == recovery.read(f"  {text.upper().replace('-', ' ')} ") == bare
    assert len(recovery.digest(bare)) == 64


@pytest.mark.parametrize(
    "text",
    [
        "",
        "123456",
        "abcd-efgh-ijkl-mno",
        "abcd-efgh-ijkl-mno1",
        "x" * 10_000,
        "ab\ud800cd",
        "ÄÄÄÄ-ÄÄÄÄ-ÄÄÄÄ-ÄÄÄÄ",
    ],
)
def test_what_is_no_recovery_code(text: str) -> None:
    assert recovery.read(text) is None


def test_a_recovery_code_has_ten_octets() -> None:
    with pytest.raises(ValueError, match="10 octets"):
        recovery.written(b"short")
