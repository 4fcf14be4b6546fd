"""The order in which something is decommissioned (common practice, no source)."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from neatlatch.core.decommissioning import (
    QUIET,
    STEPS,
    DecommissioningFacts,
    Revocation,
    Usage,
    in_use,
    obstacle,
)

NOW = datetime(2026, 12, 1, 9, tzinfo=UTC)
SECRET = Revocation("credential:1", "API key …54oR", "manually")
KEPT = Revocation("credential:2", "password …9Qw2", "kept")


@pytest.mark.parametrize(
    ("facts", "step"),
    [
        (DecommissioningFacts(False, (SECRET,), False, False), "uses"),
        (DecommissioningFacts(True, (SECRET, KEPT), False, False), "revoke"),
        (DecommissioningFacts(True, (KEPT,), True, False), "prove"),
        (DecommissioningFacts(True, (KEPT,), True, True), "end"),
        (DecommissioningFacts(True, (KEPT,), False, False), "end"),
        (DecommissioningFacts(True, (), False, False), "end"),
    ],
)
def test_each_step_waits_for_the_one_before(facts: DecommissioningFacts, step: str) -> None:
    assert facts.step == step
    assert step in STEPS


def test_what_would_have_been_seen_and_was_not_is_quiet() -> None:
    drew = Usage("workload", "Night run", "", last=NOW - QUIET, seen=True)
    draws = Usage("workload", "Day run", "", last=NOW - QUIET + timedelta(seconds=1), seen=True)
    never = Usage("workload", "Dawn run", "", seen=True)
    unseen = Usage("workload", "Noon run", "")
    assert in_use([drew, draws, never, unseen], NOW) == [draws, unseen]


def test_what_still_uses_it_needs_a_reason_and_what_blocks_it_has_to_go() -> None:
    unseen = [Usage("workload", name, "") for name in ("A", "B", "C", "D")]
    blocking = Usage("connection", "production/cargo", "", blocks=True)
    assert obstacle([], "", NOW) == ""
    assert obstacle(unseen[:1], "", NOW) == "A still uses it. Say why that may stop."
    assert obstacle(unseen[:2], "", NOW) == "A and B still use it. Say why that may stop."
    assert obstacle(unseen, "", NOW) == "A, B, C and 1 more still use it. Say why that may stop."
    assert obstacle(unseen, "The vendor closes.", NOW) == ""
    assert obstacle([*unseen, blocking], "The vendor closes.", NOW) == (
        "production/cargo must be decommissioned or moved first."
    )
