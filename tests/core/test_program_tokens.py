"""Rights of programs: common practice, no source, where no other is named."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.program_tokens import (
    MEANINGS,
    BadRights,
    ProgramGrant,
    ProgramRight,
    rights_of,
)

HERE = "10.1.2.3"
RIGHTS = st.sampled_from(list(ProgramRight))


def test_each_right_is_explained() -> None:
    assert set(MEANINGS) == set(ProgramRight)


def test_names_are_read_and_repeated_ones_count_once() -> None:
    rights = rights_of(["read", "draw", "read"], draws_for=1)
    assert rights == {ProgramRight.READ, ProgramRight.DRAW}


@pytest.mark.parametrize(
    ("names", "environments", "says"),
    [
        (["reveal"], (), "There is no right “reveal”"),
        ([], (), "at least one"),
        (["people"], ("sandbox",), "“people” is for all environments"),
        (["read", "metrics"], ("sandbox",), "“metrics” is for all environments"),
    ],
)
def test_rights_that_cannot_be_given(
    names: list[str], environments: tuple[str, ...], says: str
) -> None:
    with pytest.raises(BadRights, match=says):
        rights_of(names, environments)


def test_the_right_to_draw_and_workloads_go_together() -> None:
    with pytest.raises(BadRights, match="Name the workloads"):
        rights_of(["draw"])
    with pytest.raises(BadRights, match="only with the right “draw”"):
        rights_of(["read"], draws_for=2)


@pytest.mark.parametrize(
    ("allow_list", "expected"),
    [
        ((), True),
        (("10.1.0.0/16",), True),
        (("10.2.0.0/16",), False),
        (("::1/128",), False),
        (("::1/128", "10.1.2.3"), True),
    ],
)
def test_where_a_token_may_come_from(allow_list: tuple[str, ...], expected: bool) -> None:
    assert ProgramGrant(frozenset(), allow_list=allow_list).comes_from(HERE) is expected


def test_three_rights_include_reading_and_nothing_includes_secrets() -> None:
    for right in ProgramRight:
        reads = ProgramGrant(frozenset({right})).holds(ProgramRight.READ)
        assert reads is (right.value in ("read", "test", "change", "put-secrets"))
    everything_else = frozenset(ProgramRight) - {ProgramRight.PUT_SECRETS}
    assert not ProgramGrant(everything_else).holds(ProgramRight.PUT_SECRETS)
    assert not ProgramGrant(frozenset({ProgramRight.CHANGE})).holds(ProgramRight.TEST)


@given(st.frozensets(RIGHTS), RIGHTS, RIGHTS)
def test_one_right_more_takes_none_away(
    rights: frozenset[ProgramRight], more: ProgramRight, right: ProgramRight
) -> None:
    if ProgramGrant(rights).holds(right):
        assert ProgramGrant(rights | {more}).holds(right)
