"""Health, retries, lifetimes, what breaks next, and the journal's chain."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import breaks, health, lifetimes, retries
from neatlatch.core.evidence import CauseClass
from neatlatch.core.health import Health, Sample, State
from neatlatch.core.pins import Fit, Pin

NOW = datetime(2026, 11, 24, 12, tzinfo=UTC)
PASS, ROUTE, THEIRS = (
    Sample(True),
    Sample(False, CauseClass.ROUTE),
    Sample(False, CauseClass.THEIRS),
)


def run(*samples: Sample, start: Health | None = None) -> Health:
    found = start or Health()
    for sample in samples:
        found = health.after(found, sample)
    return found


def test_the_sum_of_page() -> None:
    """Page 1954 on p0 = 0.01 against p1 = 0.20 (DOMAIN §10): one failure adds ln 20, a pass takes
    ln(0.99/0.80) away.
    """
    assert math.isclose(health.ON_FAILURE, math.log(20))
    assert math.isclose(health.ON_PASS, -math.log(0.99 / 0.80))
    assert math.isclose(run(PASS, ROUTE, PASS).score, math.log(20) - math.log(0.99 / 0.80))


def test_one_failure_is_not_sticking_and_two_close_ones_are() -> None:
    assert run(PASS, ROUTE).state is State.LATCHED
    assert (
        run(PASS, ROUTE, PASS, THEIRS).state is State.STICKING
    )  # 2 ln 20 - ln(.99/.8) = 5.78 >= ln 100 = 4.61
    assert run(PASS, ROUTE, *[PASS] * 12, THEIRS).state is State.LATCHED


def test_sticking_is_left_only_at_zero() -> None:
    sticking = run(PASS, ROUTE, THEIRS)
    needed = math.ceil(sticking.score / -health.ON_PASS)
    assert run(*[PASS] * (needed - 1), start=sticking).state is State.STICKING
    assert run(*[PASS] * needed, start=sticking).state is State.LATCHED


def test_three_of_the_same_class_open() -> None:
    assert run(PASS, ROUTE, ROUTE, ROUTE).state is State.UNLATCHED
    assert run(PASS, ROUTE, THEIRS, ROUTE).state is State.STICKING


def test_a_failure_that_a_pin_explains_opens_at_once_and_three_passes_close() -> None:
    opened = run(PASS, replace(ROUTE, explained=True))
    assert opened.state is State.UNLATCHED
    states = [run(*[PASS] * passes, start=opened).state for passes in (1, 2, 3)]
    assert states == [State.STICKING, State.STICKING, State.LATCHED]


def test_a_failure_between_passes_begins_the_count_anew() -> None:
    """What was open and passed now and then is left to the cumulative sum."""
    opened = run(ROUTE, ROUTE, ROUTE)
    found = run(PASS, PASS, THEIRS, PASS, PASS, PASS, start=opened)
    assert (found.state, found.passes) == (State.STICKING, 0)
    assert run(PASS, PASS, ROUTE, ROUTE, ROUTE, start=opened).state is State.UNLATCHED


@given(
    st.lists(st.sampled_from([PASS, ROUTE, THEIRS, replace(ROUTE, explained=True)]), max_size=30)
)
def test_what_was_open_is_latched_only_after_three_passes_in_a_row(samples: list[Sample]) -> None:
    found, was_open, passes = Health(), False, 0
    for sample in samples:
        found = health.after(found, sample)
        passes = passes + 1 if sample.passed else 0
        was_open = found.state is State.UNLATCHED or was_open and found.state is not State.LATCHED
        if found.state is State.LATCHED and not sample.passed:
            continue
        assert not (was_open and found.state is State.LATCHED and passes < 3)


def test_a_pass_that_did_not_go_as_far_as_the_failure_changes_nothing() -> None:
    opened = run(ROUTE)
    assert run(*[replace(PASS, covers=False)] * 5, start=opened) == opened
    assert run(PASS, PASS, replace(PASS, covers=False), PASS, start=opened).state is State.LATCHED


def test_never_proven() -> None:
    assert Health().state is State.NOT_PROVEN
    assert run(ROUTE).state is State.UNLATCHED
    assert health.after_change(run(PASS)).state is State.NOT_PROVEN


@given(st.lists(st.sampled_from([PASS, ROUTE, THEIRS]), max_size=60))
def test_the_sum_is_never_negative_and_a_pass_never_opens(samples: list[Sample]) -> None:
    found = Health()
    for sample in samples:
        found = health.after(found, sample)
        assert found.score >= 0
        assert not (sample.passed and found.state is State.UNLATCHED)


# Repeating (RFC 9110 §9.2.2, §10.2.3)


@pytest.mark.parametrize(
    ("method", "status", "tries", "safe", "expected"),
    [
        ("GET", 503, 1, False, True),
        ("GET", 503, 3, False, False),
        ("GET", 404, 1, False, False),
        ("GET", 501, 1, False, False),
        ("PUT", 429, 2, False, True),
        ("DELETE", None, 1, False, True),
        ("POST", 503, 1, False, False),
        ("POST", 503, 1, True, True),
        ("POST", None, 1, False, False),
        ("GET", 408, 1, False, True),
    ],
)
def test_only_what_is_safe_is_repeated(
    method: str, status: int | None, tries: int, safe: bool, expected: bool
) -> None:
    assert retries.may_repeat(method, status, tries, safe) is expected


@given(st.integers(1, 40), st.floats(0, 0.999))
def test_waits_are_bounded(tries: int, chance: float) -> None:
    wait = retries.wait_before(tries, None, chance)
    assert wait is not None
    assert 0 <= wait <= min(retries.LONGEST_WAIT, retries.FIRST_WAIT * 2 ** (tries - 1))


def test_what_the_server_asks_for_goes_first_and_too_long_is_not_waited_for() -> None:
    assert retries.wait_before(1, 7, 0.1) == 7
    assert retries.wait_before(1, 3600, 0.1) is None


@given(
    st.sampled_from(["GET", "POST"]),
    st.sampled_from([None, 200, 403, 429, 503]),
    st.integers(1, 5),
    st.none() | st.floats(0, 60),
    st.floats(0, 0.999),
    st.floats(0, 60),
    st.booleans(),
    st.none() | st.floats(0, 120),
)
def test_the_wait_before_the_next_try(
    method: str,
    status: int | None,
    tries: int,
    asked: float | None,
    chance: float,
    left: float,
    safe: bool,
    spread: float | None,
) -> None:
    wait = retries.next_wait(
        method,
        status,
        tries,
        asked=asked,
        chance=chance,
        left=left,
        safe_anyway=safe,
        spread=spread,
    )
    may = retries.may_repeat(method, status, tries, safe)
    if wait is not None:
        assert 0 <= wait < left
        assert tries < retries.MOST_TRIES
        assert may or spread is not None
        assert not may or asked in (None, wait)
    elif may:
        assert (
            (asked or 0) > retries.LONGEST_ASKED_WAIT
            or (asked or chance * 8) >= left
            or left <= retries.LONGEST_WAIT
        )
    elif spread is not None and tries < retries.MOST_TRIES:
        assert left <= retries.LONGEST_SPREAD_WAIT


@given(st.floats(0.5, 50), st.lists(st.floats(0, 2), min_size=1, max_size=60))
def test_a_bucket_never_gives_more_than_its_pace(pace: float, gaps: list[float]) -> None:
    bucket, at, last = retries.Bucket.full(pace, 0), 0.0, 0.0
    for gap in gaps:
        at += gap
        bucket, wait = bucket.take(at)
        last = max(last, at + wait)
    assert len(gaps) <= max(1.0, pace) + pace * last + 1e-6 * len(gaps)


# Lifetimes


@pytest.mark.parametrize(
    ("life", "ahead"), [(900, 180), (3600, 600), (300, 60), (86400, 600), (60, 30)]
)
def test_renewed_ahead_of_the_end(life: int, ahead: int) -> None:
    end = lifetimes.ends(NOW, life)
    at = lifetimes.renew_at(NOW, end)
    assert end is not None
    assert at is not None
    assert (end - at).total_seconds() == ahead


@given(st.floats(0, 1e9))
def test_renewal_lies_between_half_life_and_end(life: float) -> None:
    end = lifetimes.ends(NOW, life)
    at = lifetimes.renew_at(NOW, end)
    assert end is not None
    assert at is not None
    assert NOW <= at <= end


def test_no_end_and_an_absurd_one() -> None:
    assert lifetimes.ends(NOW, None) is None
    assert lifetimes.ends(NOW, 1e18) is None
    assert lifetimes.renew_at(NOW, None) is None
    assert lifetimes.is_over(NOW + timedelta(seconds=4), NOW)


def test_an_end_told_in_seconds_since_1970() -> None:
    # RFC 7591 §3.2.1: the value of its example, and 0 for "does not expire"
    assert lifetimes.at_epoch(2893276800) == datetime(2061, 9, 7, tzinfo=UTC)
    assert lifetimes.at_epoch(0) is None
    for odd in (None, "2893276800", True, -1, 10**20, 1e300, float("nan"), float("inf"), [], {}):
        assert lifetimes.at_epoch(odd) is None


@pytest.mark.parametrize(
    ("seconds", "words"),
    [
        (0, "0 s"),
        (59, "59 s"),
        (60, "1 min"),
        (7199, "1 h"),
        (86400, "1 day"),
        (41 * 86400 + 5, "41 days"),
    ],
)
def test_in_words(seconds: int, words: str) -> None:
    assert lifetimes.in_words(timedelta(seconds=seconds)) == words


# What breaks next


def watched(**given: object) -> breaks.BreakFacts:
    base = breaks.BreakFacts(
        "c",
        State.LATCHED,
        (),
        has_access=True,
        access_ends=NOW + timedelta(minutes=38),
        can_renew=True,
    )
    return replace(base, **given)  # type: ignore[arg-type]


def _pin(label: str, fit: Fit = Fit.DIFFERS) -> Pin:
    return Pin(label, label, fit, "a", "b", f"{label} is off.")


def test_nothing_breaks() -> None:
    assert breaks.next_break(watched(), NOW) is None


def test_a_pin_that_differs_breaks_now() -> None:
    found = breaks.next_break(
        watched(
            state=State.UNLATCHED,
            pins=(_pin("redirect URI"), _pin("scopes"), _pin("grant", Fit.FITS)),
        ),
        NOW,
    )
    assert found is not None
    assert found.at is None
    assert found.why == "Redirect URI and scopes don't meet."


def test_what_nobody_has_noted_breaks_nothing() -> None:
    unwritten = replace(_pin("user name", Fit.MISSING), unwritten=True)
    found = breaks.next_break(
        watched(state=State.UNLATCHED, pins=(unwritten,), failing="It was refused."), NOW
    )
    assert found is not None
    assert found.why == "It was refused."
    found = breaks.next_break(
        watched(
            state=State.UNLATCHED, pins=(unwritten, _pin("password", Fit.MISSING)), failing="No."
        ),
        NOW,
    )
    assert found is not None
    assert found.why == "Password doesn't meet. password is off."


def test_a_token_that_renews_serves_on_whatever_signing_in_needs() -> None:
    uri = replace(_pin("redirect URI"), key="redirect_uri")
    scopes = replace(_pin("scopes"), stops=("Customs return",))
    workloads = ("Customs return", "Night run")
    found = breaks.next_break(
        watched(state=State.UNLATCHED, pins=(uri, scopes), workloads=workloads), NOW
    )
    assert found is not None
    assert (found.why, found.workloads) == (
        "Redirect URI and scopes don't meet. The token that is held serves on.",
        ("Customs return",),
    )
    for more in (
        {"can_renew": False},
        {"renewal_refused": "gone."},
        {"has_access": False},
        {"pins": (uri, _pin("client ID"))},
    ):
        found = breaks.next_break(
            watched(
                **{"state": State.UNLATCHED, "pins": (uri, scopes), "workloads": workloads, **more}
            ),
            NOW,
        )
        assert found is not None
        assert (found.workloads, "serves on" in found.why) == (workloads, False)


def test_the_last_token_of_an_ended_secret() -> None:
    """The example of LOOK's sketch: the secret ended 9 h ago, and the token lives 38
    minutes more.
    """
    found = breaks.next_break(watched(secret_ends=NOW - timedelta(hours=9), secret_hint="…x"), NOW)
    assert found is not None
    assert found.at == NOW + timedelta(minutes=38)
    assert "expired 9 h ago" in found.why


@pytest.mark.parametrize(
    ("given", "at", "act"),
    [
        ({"can_renew": False}, timedelta(minutes=38), "sign_in"),
        ({"renewal_refused": "gone."}, timedelta(minutes=38), "sign_in"),
        ({"refresh_ends": NOW + timedelta(days=3)}, timedelta(days=3), "sign_in"),
        ({"secret_ends": NOW + timedelta(days=12)}, timedelta(days=12), "put_secret"),
        ({"state": State.UNLATCHED, "failing": "No."}, None, "open"),
        ({"state": State.STICKING}, None, "open"),
    ],
)
def test_what_ends_first(given: dict[str, object], at: timedelta | None, act: str) -> None:
    found = breaks.next_break(watched(**given), NOW)
    assert found is not None
    assert found.at == (None if at is None else NOW + at)
    assert found.act.key == act


def test_far_ends_are_not_told_and_the_order_is_by_moment() -> None:
    assert breaks.next_break(watched(secret_ends=NOW + timedelta(days=91)), NOW) is None
    later, sooner = (
        breaks.Break(ref, NOW + timedelta(days=days), "", breaks.Act("open", "Open connection"), ())
        for ref, days in (("a", 3), ("b", 1))
    )
    now = breaks.Break("z", None, "", breaks.Act("open", "Open connection"), ())
    assert breaks.in_order([later, sooner, now]) == [now, sooner, later]


def test_a_workload_stops_with_the_last_of_its_own_keys() -> None:
    def own(*days: float | None) -> list[breaks.OwnKey]:
        return [
            breaks.OwnKey(
                "API key", f"…{place}", None if one is None else NOW + timedelta(days=one)
            )
            for place, one in enumerate(days)
        ]

    found = breaks.of_workload("Night run", own(3, 12, -1), NOW)
    assert found is not None
    assert (found.ref, found.at, found.workloads) == (
        "Night run",
        NOW + timedelta(days=12),
        ("Night run",),
    )
    assert found.why == "The API key …1 that it draws with expires."
    over = breaks.of_workload("Night run", own(-9, -2), NOW)
    assert over is not None
    assert (over.at, over.why) == (None, "The API key …1 that it draws with expired 2 days ago.")
    for never in ((), (None,), (3, None), (-1, None), (91,), (3, 91)):
        assert breaks.of_workload("Night run", own(*never), NOW) is None
