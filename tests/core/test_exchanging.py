"""Replacing one credential by another: what it costs, the order, and when the old one may go
(common practice, no source, but for what RFC 7592 §2.2 says).
"""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import exchanging
from neatlatch.core.exchanging import HoldingWorkload, ReplacementProgress
from neatlatch.core.schemes import API_KEY, CLIENT

NOW = datetime(2026, 6, 1, 12, tzinfo=UTC)
HOUR = timedelta(hours=1)
DRAWS, HOLDS = (
    HoldingWorkload("Night run", True, "02:10 daily"),
    HoldingWorkload("Old script", False),
)


def preview(
    way: exchanging.Way, live: int, scheme: str = API_KEY, token_ends: datetime | None = None
) -> exchanging.Preview:
    return exchanging.preview(
        way, scheme, live, timedelta(seconds=5), [DRAWS, HOLDS], token_ends, NOW
    )


def test_what_is_said_before_starting() -> None:
    both = preview("hand", 2)
    assert (both.overlaps, both.gap) == (True, None)
    assert "Old script" in both.says[-1]
    assert "Night run" not in both.says[-1]
    one = preview("hand", 1)
    assert not one.overlaps
    assert one.gap == timedelta(minutes=2)
    assert "Night run (02:10 daily), Old script" in " ".join(one.says)
    protocol = preview("protocol", 2, CLIENT, NOW + timedelta(minutes=14))
    assert (protocol.overlaps, protocol.gap) == (False, timedelta(seconds=5))
    assert "remains valid for 14 min" in " ".join(protocol.says)
    assert preview("house", 1).overlaps


def test_the_old_one_may_go_when_nobody_uses_it() -> None:
    switched = NOW - HOUR
    at = ReplacementProgress(
        True, made=switched, proven=switched, switched=switched, last_use=switched - HOUR
    )
    assert exchanging.quiet(at, NOW)[0]
    for wrong, words in (
        (ReplacementProgress(True), "still use it"),
        (
            ReplacementProgress(True, switched=switched, last_use=NOW - timedelta(minutes=3)),
            "3 min ago",
        ),
        (ReplacementProgress(True, switched=switched, to_move=("Old script",)), "Old script"),
        (
            ReplacementProgress(True, switched=switched, tokens_until=NOW + timedelta(minutes=9)),
            "9 min more",
        ),
        # F19: it was called done “0 s ago”.
        (ReplacementProgress(True, switched=NOW), "only 0 s ago; 15 min are waited"),
        (
            ReplacementProgress(
                True, switched=NOW - timedelta(minutes=14), not_seen=("Night run",)
            ),
            "Not come since: Night run",
        ),
    ):
        still, said = exchanging.quiet(wrong, NOW)
        assert not still
        assert words in said


def watch(at: ReplacementProgress) -> exchanging.ExchangeStep:
    return next(step for step in exchanging.steps(at, NOW) if step.key == "watch")


def test_watching_takes_its_time_unless_all_were_seen() -> None:
    switched = NOW - timedelta(minutes=3)
    at = ReplacementProgress(True, made=switched, proven=switched, switched=switched)
    assert (watch(at).state, watch(at).done_at) == ("now", None)
    seen = replace(at, seen_at=NOW - timedelta(minutes=1))
    assert (watch(seen).state, watch(seen).done_at) == ("done", NOW - timedelta(minutes=1))
    long_ago = replace(at, switched=NOW - HOUR, not_seen=("Night run",))
    assert (watch(long_ago).state, watch(long_ago).done_at) == (
        "done",
        NOW - HOUR + exchanging.WATCHED,
    )
    assert "Not come since: Night run" in watch(long_ago).says
    retired = replace(at, retired=NOW)
    assert (watch(retired).state, watch(retired).done_at) == ("done", NOW)


_MOMENT = st.none() | st.integers(-100, 100).map(lambda minutes: NOW + timedelta(minutes=minutes))


@given(
    at=st.builds(
        ReplacementProgress,
        overlaps=st.booleans(),
        made=_MOMENT,
        proven=_MOMENT,
        switched=_MOMENT,
        retired=_MOMENT,
        refused=_MOMENT,
        last_use=_MOMENT,
    )
)
def test_at_most_one_step_is_next(at: ReplacementProgress) -> None:
    found = exchanging.steps(at, NOW)
    assert [step.state for step in found] == sorted(
        (step.state for step in found), key=["done", "now", "waits"].index
    )
    assert sum(step.state == "now" for step in found) <= 1
    assert {step.key for step in found} == {"make", "prove", "switch", "watch", "retire", "refuse"}
    order = [step.key for step in found]
    assert (
        order.index("prove") < order.index("switch")
    ) == at.overlaps  # where only one lives, it is in use before it can be proven
    assert order[-2:] == ["retire", "refuse"]
    if exchanging.may_roll_back(at):
        assert at.retired is None
