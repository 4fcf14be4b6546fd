"""How far rights reach."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.reach import Place, Reach

KEYS = st.sampled_from(["sandbox", "production", "cargo", ""])
SOME = st.none() | st.frozensets(KEYS.filter(bool))
PLACES = st.lists(st.builds(Place, KEYS, KEYS), max_size=4)


@given(SOME, SOME, PLACES)
def test_a_reach_covers_what_is_within_in_every_place(environments, applications, places):
    reach = Reach(environments, applications)
    if reach.is_everywhere:
        assert reach.covers(places)
        return
    within = bool(places)
    for place in places:
        if environments is not None and place.environment not in environments:
            within = False
        if applications is not None and place.application not in applications:
            within = False
    assert reach.covers(places) is within


@given(SOME, SOME, SOME, PLACES)
def test_to_be_held_to_less_never_reaches_more(environments, fewer, applications, places):
    wide = Reach(environments, applications)
    narrow = Reach(
        fewer if environments is None or fewer is None else environments & fewer, applications
    )
    if environments is None or fewer is not None:
        assert not narrow.covers(places) or wide.covers(places)


def test_what_is_of_no_single_place_is_out_of_every_limited_reach():
    assert Reach().covers([])
    assert not Reach(frozenset({"sandbox"})).covers([])
    assert not Reach(frozenset({"sandbox"})).covers([Place("", "cargo")])
    assert not Reach(None, frozenset()).covers([Place("sandbox", "cargo")])
    assert Reach(frozenset({"sandbox"}), None).in_words() == "sandbox"
    assert Reach(None, frozenset()).in_words() == "no application"
    assert Reach().in_words() == "everything"
