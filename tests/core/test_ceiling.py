"""How far a client may change itself by protocol."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.authority import ceiling
from neatlatch.core.authority.ceiling import Ceiling
from neatlatch.core.registration import ClientMetadata

SOME = st.frozensets(st.sampled_from("abc"))
FIELDS = st.builds(
    lambda scopes, grants, uris: ClientMetadata(
        "x", scopes=scopes, grants=tuple(grants), redirect_uris=tuple(uris)
    ),
    SOME,
    SOME,
    SOME,
)
CEILINGS = st.builds(Ceiling, *[st.none() | SOME] * 3)


@given(CEILINGS)
def test_it_is_kept_as_it_is(most: Ceiling) -> None:
    assert ceiling.read(most.as_plain()) == most


@given(CEILINGS, st.lists(st.tuples(st.booleans(), FIELDS), max_size=6))
def test_what_an_administrator_took_away_never_comes_back_by_protocol(
    most: Ceiling, acts: list[tuple[bool, ClientMetadata]]
) -> None:
    has = ClientMetadata("x", grants=())
    gone: dict[str, set[str]] = {name: set() for name in ceiling.FIELDS}
    for by_administrator, wanted in acts:
        if by_administrator:
            most = most.after_edit(has, wanted)
        elif most.beyond(wanted) is not None:
            continue
        for name in ceiling.FIELDS:
            before, after = set(getattr(has, name)), set(getattr(wanted, name))
            if by_administrator:
                gone[name] = (gone[name] | (before - after)) - after
            else:
                assert not after & gone[name]
        has = wanted
        assert most.beyond(has) is None


def test_the_lists_that_it_leaves() -> None:
    most = Ceiling(scopes=frozenset({"read"}))
    assert most.scopes_of(["read", "write"]) == {"read"}
    assert Ceiling().scopes_of(["read", "write"]) == {"read", "write"}
    assert Ceiling(grants=frozenset({"x"})).grants_of(["x", "y"]) == {"x"}
    fields: dict[str, Any] = {"scopes": frozenset({"write"})}
    assert most.beyond(ClientMetadata("x", **fields)) == "scopes"
