"""Rights of programs: common practice, no source, where no other is named."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.program_tokens import (
    MEANINGS,
    BadRights,
    ProgramGrant,
    ProgramRight,
    TokenRefusal,
    rights_of,
)

NOW = datetime(2026, 12, 1, 12, tzinfo=UTC)
HERE = "10.1.2.3"
RIGHTS = st.sampled_from(list(ProgramRight))
ENVIRONMENTS = st.sampled_from(["sandbox", "staging", "production"])


def test_each_right_is_explained() -> None:
    assert set(MEANINGS) == set(ProgramRight)


def test_names_are_read_and_repeated_ones_count_once() -> None:
    assert rights_of(["read", "draw", "read"]) == {ProgramRight.READ, ProgramRight.DRAW}


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


@pytest.mark.parametrize(
    ("grant", "address", "refusal"),
    [
        (ProgramGrant(frozenset()), HERE, None),
        (ProgramGrant(frozenset(), expires=NOW + timedelta(seconds=1)), HERE, None),
        # An end is the first moment at which it is refused (RFC 7519 §4.1.4).
        (ProgramGrant(frozenset(), expires=NOW), HERE, TokenRefusal.EXPIRED),
        (ProgramGrant(frozenset(), revoked=NOW), HERE, TokenRefusal.REVOKED),
        # Of several reasons the log has the gravest.
        (ProgramGrant(frozenset(), expires=NOW, revoked=NOW), HERE, TokenRefusal.REVOKED),
        (ProgramGrant(frozenset(), allow_list=("10.1.0.0/16",)), HERE, None),
        (ProgramGrant(frozenset(), allow_list=("10.2.0.0/16",)), HERE, TokenRefusal.ADDRESS),
        (ProgramGrant(frozenset(), allow_list=("::1/128",)), HERE, TokenRefusal.ADDRESS),
    ],
)
def test_when_a_token_is_refused(
    grant: ProgramGrant, address: str, refusal: TokenRefusal | None
) -> None:
    assert grant.refusal(NOW, address) is refusal


def test_a_test_and_a_change_include_reading_and_nothing_includes_secrets() -> None:
    changes = ProgramGrant(frozenset({ProgramRight.CHANGE}))
    assert changes.permits(ProgramRight.READ, "production")
    assert not changes.permits(ProgramRight.PUT_SECRETS, "production")
    assert not changes.permits(ProgramRight.TEST, "production")
    everything_else = frozenset(ProgramRight) - {ProgramRight.PUT_SECRETS}
    assert not ProgramGrant(everything_else).permits(ProgramRight.PUT_SECRETS, "sandbox")


def test_what_belongs_to_no_environment_is_read_and_not_changed() -> None:
    some = ProgramGrant(frozenset({ProgramRight.CHANGE, ProgramRight.READ}), frozenset({"sandbox"}))
    assert some.permits(ProgramRight.READ, None)
    assert not some.permits(ProgramRight.CHANGE, None)
    assert ProgramGrant(frozenset({ProgramRight.CHANGE})).permits(ProgramRight.CHANGE, None)


def test_a_token_whose_environments_are_gone_holds_nowhere() -> None:
    nowhere = ProgramGrant(frozenset(ProgramRight), frozenset())
    assert nowhere.holds(ProgramRight.CHANGE)
    assert not nowhere.permits(ProgramRight.CHANGE, "sandbox")


@given(st.frozensets(RIGHTS), st.frozensets(ENVIRONMENTS, min_size=1), RIGHTS, ENVIRONMENTS)
def test_narrowing_to_environments_only_takes_away(
    rights: frozenset[ProgramRight], environments: frozenset[str], right: ProgramRight, where: str
) -> None:
    everywhere, some = ProgramGrant(rights), ProgramGrant(rights, environments)
    assert some.permits(right, where) == (
        everywhere.permits(right, where) and where in environments
    )
    assert not some.permits(right, None) or everywhere.permits(right, None)


@given(st.frozensets(RIGHTS), RIGHTS, RIGHTS, ENVIRONMENTS)
def test_one_right_more_takes_none_away(
    rights: frozenset[ProgramRight], more: ProgramRight, right: ProgramRight, where: str
) -> None:
    if ProgramGrant(rights).permits(right, where):
        assert ProgramGrant(rights | {more}).permits(right, where)
