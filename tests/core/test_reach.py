"""How far rights reach."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.inventory import within_reach
from neatlatch.core.inventory.reading import Inventory
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


NIGHT = {"name": "Night", "environment": "sandbox"}
FILES = [
    ("connections", "sandbox/cargo", {"deployment": "cargo/sandbox"}, True),
    ("connections", "staging/cargo", {"deployment": "cargo/sandbox"}, False),
    ("connections", "sandbox/cargo", {"deployment": "cargo/staging"}, False),
    ("connections", "sandbox/cargo", {"deployment": "berths/sandbox"}, False),
    ("connections", "sandbox/cargo", {"deployment": "cargo/sandbox", "client": "cargo/x/y"}, False),
    ("clients", "cargo/sandbox/A", {"deployment": "cargo/sandbox"}, True),
    ("clients", "cargo/sandbox/A", {"deployment": "cargo/staging"}, False),
    ("deployments", "cargo/sandbox", {"application": "cargo", "environment": "sandbox"}, True),
    ("deployments", "cargo/sandbox", {"application": "cargo", "environment": "staging"}, False),
    ("workloads", "Night/sandbox", {**NIGHT, "uses": [{"application": "cargo"}]}, True),
    ("workloads", "Night/sandbox", {**NIGHT, "uses": [{"application": "berths"}]}, False),
    ("workloads", "Night/sandbox", NIGHT, False),
    (
        "workloads",
        "Night/sandbox",
        {**NIGHT, "uses": [{"application": "cargo", "connection": "staging/cargo"}]},
        False,
    ),
    ("applications", "cargo", {}, False),
    ("environments", "sandbox", {}, False),
    ("people", "morag", {}, False),
    ("credentials", "1", {"client": "cargo/sandbox/A"}, False),
]


@pytest.mark.parametrize(("kind", "key", "fields", "within"), FILES)
def test_what_a_file_says_is_within_by_its_name_and_by_its_fields(kind, key, fields, within):
    reach = Reach(frozenset({"sandbox"}), frozenset({"cargo"}))
    inventory = Inventory({kind: {key: fields}}, "", {})
    assert within_reach.beyond(inventory, reach) == ("" if within else f"{kind} → {key}")
    assert within_reach.beyond(Inventory({kind: {key: fields}}, "abc", {}), reach) == "base"


def test_what_is_taken_over_by_an_id_is_of_no_place():
    reach = Reach(frozenset({"sandbox"}))
    for kind, key, field in [
        ("connections", "sandbox/cargo", "secrets"),
        ("clients", "cargo/sandbox/A", "id"),
    ]:
        fields = {"deployment": "cargo/sandbox", field: "x"}
        said = {(kind, key): frozenset({field})}
        inventory = Inventory({kind: {key: fields}}, "", {}, said=said)
        assert within_reach.beyond(inventory, reach) == f"{kind} → {key} → {field}"
