"""How far tests go: every combination of what is permitted. Common practice, no source."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.depth import Depth, DepthLimits
from neatlatch.core.evidence import Rung


@pytest.mark.parametrize(
    ("personal", "environment", "connection", "depth", "by_hand"),
    [
        (False, False, False, Depth.HARMLESS, Depth.WORK),
        (False, True, False, Depth.HARMLESS, Depth.WORK),
        (False, False, True, Depth.HARMLESS, Depth.WORK),
        (False, True, True, Depth.WORK, Depth.WORK),
        (True, True, True, Depth.SIGN_IN, Depth.SIGN_IN),
        (True, False, False, Depth.SIGN_IN, Depth.SIGN_IN),
    ],
)
def test_how_far(
    personal: bool, environment: bool, connection: bool, depth: Depth, by_hand: Depth
) -> None:
    limits = DepthLimits(personal, "Production", environment, connection)
    assert (limits.of_round(), limits.manual()) == (depth, by_hand)


def test_what_forbids_it_is_named() -> None:
    assert (
        "neither Production nor this connection"
        in DepthLimits(False, "Production", False, False).says()
    )
    assert "this connection does not" in DepthLimits(False, "Production", True, False).says()
    assert "Production does not" in DepthLimits(False, "Production", False, True).says()


@pytest.mark.parametrize(
    ("depth", "tried"),
    [
        (Depth.SIGN_IN, {Rung.FIND, Rung.REACH, Rung.SECURE, Rung.SIGN_IN}),
        (Depth.HARMLESS, set(Rung) - {Rung.WORK}),
        (Depth.WORK, set(Rung)),
    ],
)
def test_which_rungs_are_tried(depth: Depth, tried: set[Rung]) -> None:
    assert {rung for rung in Rung if depth.tries(rung)} == tried
    assert depth.tries("")  # nothing failed


@given(st.booleans(), st.booleans(), st.booleans())
def test_a_round_never_goes_further_than_a_test_by_hand(
    personal: bool, environment: bool, connection: bool
) -> None:
    limits = DepthLimits(personal, "Staging", environment, connection)
    assert all(limits.manual().tries(rung) for rung in Rung if limits.of_round().tries(rung))
