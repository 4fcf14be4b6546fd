"""Findings about credentials."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.credential_marks import CredentialFacts, marks, next_moment

NOW = datetime(2026, 11, 25, 9, 0, tzinfo=UTC)
GOOD = CredentialFacts(
    NOW - timedelta(days=10),
    NOW + timedelta(days=100),
    True,
    True,
    NOW - timedelta(hours=1),
    frozenset({"Production"}),
)


def keys(known: CredentialFacts) -> list[str]:
    return [mark.key for mark in marks(known, NOW)]


def test_each_mark() -> None:
    assert keys(GOOD) == []
    assert keys(replace(GOOD, ends=NOW + timedelta(days=30))) == ["ends_soon"]
    assert keys(replace(GOOD, ends=NOW + timedelta(days=30, seconds=1))) == []
    assert keys(replace(GOOD, ends=None)) == ["no_end"]
    assert keys(replace(GOOD, ends=NOW)) == ["over"]
    assert keys(replace(GOOD, environments=frozenset({"Sandbox", "Production"}), ends=None)) == [
        "shared",
        "no_end",
    ]
    assert (
        marks(replace(GOOD, environments=frozenset({"Sandbox", "Production"})), NOW)[0].says
        == "Production and Sandbox share it."
    )
    two = replace(
        GOOD,
        applications=frozenset({"Fares", "Tides"}),
        environments=frozenset({"Sandbox", "Production"}),
    )
    assert [mark.says for mark in marks(two, NOW)] == ["Fares and Tides share it."]
    assert [(mark.key, mark.grave) for mark in marks(replace(GOOD, weak="It is short."), NOW)] == [
        ("weak", True)
    ]
    assert keys(replace(GOOD, held=False, last_used=None)) == ["unused"]
    assert keys(replace(GOOD, held=False, last_used=NOW - timedelta(days=90))) == []
    assert keys(replace(GOOD, held=False, last_used=NOW - timedelta(days=91))) == ["unused"]
    assert (
        keys(replace(GOOD, held=False, last_used=None, issued=NOW)) == []
    )  # it was only just made
    assert keys(replace(GOOD, held=False, last_used=None, waits=True)) == ["waits"]
    assert keys(replace(GOOD, of_a_person=True)) == ["person"]
    assert keys(replace(GOOD, lives=False)) == ["dead"]
    assert keys(replace(GOOD, lives=False, held=False, ends=NOW)) == []


def test_an_end_is_grave_for_those_who_stop_by_it() -> None:
    for days, grave in ((8, False), (6, True), (-1, True)):
        soon = replace(GOOD, ends=NOW + timedelta(days=days), held=False)
        assert [mark.grave for mark in marks(replace(soon, draws=True), NOW)] == [grave]
        assert [mark.grave for mark in marks(soon, NOW)] == [False]


@given(st.integers(-40, 400), st.booleans(), st.booleans())
def test_an_end_is_told_in_just_one_way(days: int, held: bool, lives: bool) -> None:
    told = keys(replace(GOOD, ends=NOW + timedelta(days=days), held=held, lives=lives))
    assert len({"over", "ends_soon", "no_end", "dead"} & set(told)) <= 1
    assert ("over" in told) == (lives and days <= 0)
    assert ("ends_soon" in told) == (lives and 0 < days <= 30)


DAYS = st.integers(-400, 400)


@given(DAYS, st.none() | DAYS, st.none() | DAYS, st.booleans(), st.booleans(), st.floats(0, 1))
def test_between_two_moments_the_same_marks_stand_out(
    issued: int, ends: int | None, used: int | None, held: bool, lives: bool, part: float
) -> None:
    def at(days: int | None) -> datetime | None:
        return None if days is None else NOW + timedelta(days=days)

    known = CredentialFacts(
        NOW + timedelta(days=issued), at(ends), lives, held, at(used), frozenset({"Production"})
    )

    def keys(moment: datetime) -> list[str]:
        return [mark.key for mark in marks(known, moment)]

    following = next_moment(known, NOW)
    until = following or NOW + timedelta(days=2000)
    assert until > NOW
    assert {
        tuple(sorted(keys(item)))
        for item in (NOW, NOW + (until - NOW) * part * 0.999999, until - timedelta(microseconds=1))
    } == {tuple(sorted(keys(NOW)))}
