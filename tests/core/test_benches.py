"""Redirect URIs of a client against all callers, scopes against all workloads, changes and filters
in words, windows, logs of calls, warnings.
"""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import (
    changes,
    filter_words,
    redirect_bench,
    redirects,
    scope_matrix,
    seen_calls,
    uses,
    windows,
)
from neatlatch.core.health import State
from neatlatch.core.profiles import Operation, ScopeInfo
from neatlatch.core.redirect_bench import SentUri
from neatlatch.core.scope_matrix import Cell, Holder, WorkloadOf
from neatlatch.core.scopes import allows, closure

DESK, OLD = "https://desk.gannet.example/return", "https://old.gannet.example/return"
CALLERS = (
    SentUri("good", DESK, ("Night run",), True, True),
    SentUri("slash", DESK + "/", ("Report",)),
    SentUri("none", ""),
)


def test_every_uri_against_every_caller() -> None:
    bench = redirect_bench.work_out((DESK, OLD), CALLERS)
    assert [(item.uri, item.used_by) for item in bench.registered] == [(DESK, ("good",)), (OLD, ())]
    good, slash, none = bench.callers
    assert (good.match.match, good.marked) == (True, None)
    assert (slash.match.match, slash.match.nearest, slash.match.reason_code) == (
        False,
        DESK,
        "path",
    )
    assert slash.marked is not None
    assert [piece.text for piece in slash.marked.caller if not piece.same] == ["/"]
    assert none.match.reason_code == "omitted_multiple"  # RFC 6749 §3.1.2.3


def test_lint_stands_beside_each_registered_uri() -> None:
    bench = redirect_bench.work_out(("http://desk.gannet.example/return",), ())
    assert [item.code for item in bench.registered[0].lint] == ["not_https"]


def test_a_change_says_who_stops_and_when() -> None:
    told = redirect_bench.effects((DESK, DESK + "/"), (OLD,), CALLERS)
    assert [(effect.ref, effect.stops) for effect in told] == [
        ("good", True),
        ("slash", True),
        ("none", False),
    ]
    assert "at its next sign-in" in told[0].says  # it holds tokens that renew themselves
    assert "at once" in told[1].says
    assert told[0].workloads == ("Night run",)


@given(
    st.lists(st.sampled_from([DESK, OLD, DESK + "/"]), unique=True),
    st.lists(st.sampled_from([DESK, OLD, DESK + "/"]), unique=True),
)
def test_effects_are_the_difference_of_two_benches(before: list[str], after: list[str]) -> None:
    told = {
        effect.ref: effect.stops
        for effect in redirect_bench.effects(tuple(before), tuple(after), CALLERS)
    }
    for caller in CALLERS:
        was, will = (
            redirects.match(tuple(some), caller.uri or None).match for some in (before, after)
        )
        assert told.get(caller.ref) == (None if was == will else was)


def test_a_change_by_hand_adds_before_it_takes_away() -> None:
    keys = [act.key for act in redirect_bench.acts("Cargo manifests", "Ferries", (OLD,), (DESK,))]
    assert keys == ["planned:open", f"planned:add:{DESK}", f"planned:drop:{OLD}", "planned:save"]


KNOWN = (
    ScopeInfo("read"),
    ScopeInfo("write", kind="write", implies=("read",)),
    ScopeInfo("berths"),
    ScopeInfo("admin", kind="admin"),
)
IMPLIES = {"write": ("read",)}
READ, WRITE, BERTHS = ((frozenset({name}),) for name in ("read", "write", "berths"))
BOTH = (frozenset({"read"}), frozenset({"write"}))
WHEN = datetime(2026, 6, 1, tzinfo=UTC)


def test_the_matrix_says_what_each_scope_is_to_each_workload() -> None:
    holder = Holder(
        "cargo",
        frozenset({"read", "admin", "odd"}),
        frozenset({"read"}),
        WHEN,
        WHEN + timedelta(days=1),
    )
    workloads = (
        WorkloadOf("Report", "cargo", (("GET /m", BOTH),)),
        WorkloadOf("Customs", "cargo", (("PUT /m", WRITE),)),
        WorkloadOf("Board", "cargo", (("GET /b", BERTHS),)),
    )
    found = scope_matrix.work_out(KNOWN, frozenset({"read", "admin"}), (holder,), workloads)
    cells = {row.scope.name: row.cells for row in found.rows}
    # write brings read, so the trim is write and berths; the report lives of read today, and write
    # would serve it too.
    assert found.trim.scopes == {"write", "berths"}
    assert cells["write"][1] is Cell.LACKS
    assert cells["berths"] == (Cell.NONE, Cell.NONE, Cell.LACKS)
    assert cells["read"][0] is Cell.NEEDED
    assert cells["write"][0] is Cell.SERVES
    assert cells["admin"] == (Cell.NONE, Cell.NONE, Cell.NONE)
    assert (found.trim.missing, found.trim.can_go) == (("berths", "write"), ("admin", "read"))
    assert found.rows[-1].scope.name == "odd"
    assert not found.rows[-1].known
    assert found.holders[0].stale
    assert found.by_connection["cargo"].can_go == ("admin", "odd", "read")


@given(
    st.lists(
        st.sampled_from([("a", READ), ("b", BOTH), ("c", WRITE), ("d", BERTHS)]),
        min_size=1,
        max_size=4,
        unique=True,
    ),
    st.frozensets(st.sampled_from(["read", "write", "berths", "admin"])),
)
def test_a_workload_lacks_something_exactly_when_it_is_blocked(
    operations: list[tuple[str, tuple[frozenset[str], ...]]], held: frozenset[str]
) -> None:
    workloads = tuple(
        WorkloadOf(name, "one", ((f"{name}", alternatives),)) for name, alternatives in operations
    )
    found = scope_matrix.work_out(KNOWN, held, (Holder("one", held, held),), workloads)
    for place, (_, alternatives) in enumerate(operations):
        lacks = any(row.cells[place] is Cell.LACKS for row in found.rows)
        assert lacks == (not allows(held, alternatives, IMPLIES))
        assert all(
            row.scope.name in closure(held, IMPLIES)
            for row in found.rows
            if row.cells[place] is Cell.NEEDED
        )


def test_a_token_from_before_the_change_is_marked() -> None:
    assert Holder("a", frozenset(), frozenset(), WHEN, WHEN + timedelta(seconds=1)).stale
    assert not Holder("a", frozenset(), frozenset(), WHEN, WHEN - timedelta(seconds=1)).stale
    assert not Holder("a", frozenset(), None, None, WHEN).stale


@pytest.mark.parametrize(
    ("before", "after", "said"),
    [
        ({"uris": ["a", "b"]}, {"uris": ["b", "c"]}, ["uris: c added, a taken away"]),
        ({"uris": ["a", "b"]}, {"uris": ["b", "a"]}, ["uris: put in another order"]),
        ({"pace": 10.0}, {"pace": 9.0}, ["pace: 10.0 became 9.0"]),
        ({"owner": ""}, {"owner": "Quays"}, ["owner: now Quays"]),
        ({"owner": "Quays"}, {}, ["owner: no longer Quays"]),
        (
            {"facts": {"a": "1", "b": "2"}},
            {"facts": {"a": "1", "b": "3"}},
            ["facts: b: 2 became 3"],
        ),
        ({"draws": False}, {"draws": True}, ["draws: no became yes"]),
        ({"same": 1}, {"same": 1}, []),
    ],
)
def test_changes_are_told_in_words(
    before: dict[str, object], after: dict[str, object], said: list[str]
) -> None:
    assert changes.in_words(before, after) == said


FIELDS = {"env": "environment", "environment": "environment", "state": "state"}


@pytest.mark.parametrize(
    ("text", "read"),
    [
        ("night env:production", [("night", "", False), ("production", "environment", False)]),
        (
            'owner:x -state:latched "freight desk"',
            [("owner:x", "", False), ("latched", "state", True), ("freight desk", "", False)],
        ),
        ('env:"north pier" -night', [("north pier", "environment", False), ("night", "", True)]),
        ("https://desk.gannet.example/return", [("https://desk.gannet.example/return", "", False)]),
        ("env: -", []),
        (
            'state:"Not proven" -state:not-proven state:" "',
            [("not_proven", "state", False), ("not_proven", "state", True)],
        ),
        ("02:10", [("02:10", "", False)]),
    ],
)
def test_filters_as_people_type_them(text: str, read: list[tuple[str, str, bool]]) -> None:
    assert [
        (word.text, word.field, word.without) for word in filter_words.read(text, FIELDS)
    ] == read


@given(st.text(max_size=200))
def test_no_filter_is_refused(text: str) -> None:
    assert all(word.text for word in filter_words.read(text, FIELDS))


@pytest.mark.parametrize(
    ("text", "says"),
    [("yes", True), ("Y", True), ("tru", True), ("1", True), ("no", False), ("f", False)]
    + [("0", False), ("", None), ("yess", None), ("99999", None), ("nonsense", None)],
)
def test_a_value_of_yes_or_no_is_read_while_it_is_typed(text: str, says: bool | None) -> None:
    assert filter_words.truth(text) is says


MONDAY = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "start", "end"),
    [
        ("Mon-Fri 20:00-23:00", MONDAY.replace(hour=20), MONDAY.replace(hour=23)),
        (
            "daily 02:00-04:00",
            MONDAY.replace(hour=2) + timedelta(days=1),
            MONDAY.replace(hour=4) + timedelta(days=1),
        ),
        ("Mon 11:00-13:00", MONDAY, MONDAY.replace(hour=13)),  # it is open already
        ("Sun 22:00-14:00", MONDAY, MONDAY.replace(hour=14)),  # past midnight
        (
            "Sat,Sun 06:00-07:30",
            MONDAY.replace(hour=6) + timedelta(days=5),
            MONDAY.replace(hour=7, minute=30) + timedelta(days=5),
        ),
        (
            "mon 10:00-12:00",
            MONDAY.replace(hour=10) + timedelta(days=7),
            MONDAY.replace(hour=12) + timedelta(days=7),
        ),
    ],
)
def test_when_a_window_opens_next(text: str, start: datetime, end: datetime) -> None:
    assert windows.next_open([windows.read(text)], MONDAY) == (start, end)


@pytest.mark.parametrize(
    "text", ["", "nightly", "Mon 25:00-26:00", "Mon-Xyz 10:00-11:00", "Mon 10-11"]
)
def test_what_is_no_window_is_refused(text: str) -> None:
    with pytest.raises(windows.BadWindow):
        windows.read(text)


@given(
    st.sets(st.integers(0, 6), min_size=1),
    st.integers(0, 1439),
    st.integers(0, 1439),
    st.integers(0, 20000),
)
def test_a_window_opens_on_its_days(days: set[int], start: int, end: int, minutes: int) -> None:
    after = MONDAY + timedelta(minutes=minutes)
    opened = windows.next_open([windows.Window(frozenset(days), start, end)], after)
    assert opened is not None
    assert after <= opened[0] < opened[1]
    assert (opened[1] - windows.Window(frozenset(days), start, end).length).weekday() in days


OPERATIONS = (
    Operation("GET", "/manifests"),
    Operation("PUT", "/manifests/{number}"),
    Operation("GET", "/berths"),
)
LOG = """203.0.113.7 - svc [24/Nov/2026:02:10:01 +0000] "GET /api/manifests?at=1 HTTP/1.1" 200 512
203.0.113.7 - svc [24/Nov/2026:02:10:02 +0000] "PUT /api/manifests/7 HTTP/1.1" 201 80
203.0.113.7 - svc [24/Nov/2026:02:10:03 +0000] "PUT /api/manifests/8 HTTP/1.1" 201 80
203.0.113.7 - svc [24/Nov/2026:02:10:04 +0000] "DELETE /api/manifests/8 HTTP/1.1" 403 10
something else
"""


def test_operations_out_of_an_access_log() -> None:
    """Common Log Format, with the request line of RFC 9112 §3 in quotes."""
    found = seen_calls.read(LOG, OPERATIONS, "https://cargo.example/api")
    assert found.operations == (("GET /manifests", 1), ("PUT /manifests/{number}", 2))
    assert found.others == (("DELETE /manifests/8", 1),)
    assert (found.lines, found.unread) == (5, 1)


def test_operations_out_of_a_har_file() -> None:
    entries = [
        {"request": {"method": method, "url": f"https://cargo.example/api{path}"}}
        for method, path in (("GET", "/berths"), ("PUT", "/manifests/1"))
    ]
    found = seen_calls.read(
        json.dumps({"log": {"version": "1.2", "entries": entries}}),
        OPERATIONS,
        "https://cargo.example/api/",
    )
    assert [name for name, _ in found.operations] == ["PUT /manifests/{number}", "GET /berths"]


@given(st.text(max_size=300))
def test_any_text_is_read_as_a_log(text: str) -> None:
    found = seen_calls.read(text, OPERATIONS)
    assert (
        sum(count for _, count in found.operations + found.others) + found.unread
        <= found.lines + 50
    )


def test_warnings_of_an_environment_that_is_not_set_up() -> None:
    def only(used: uses.UsedConnection) -> tuple[str, str, str]:
        one = uses.warn("Night run", "Staging", [used])[0]
        return one.act, one.ref, one.says

    assert only(uses.UsedConnection("Fares", elsewhere=("fares",))) == (
        "set_up",
        "",
        "Night run runs in Staging, where Fares is not set up. It is set up only as fares.",
    )
    assert only(uses.UsedConnection("Fares", choices=("fares-staging",)))[:2] == (
        "choose",
        "fares-staging",
    )
    assert only(uses.UsedConnection("Fares", "fares", "Production", choices=("fares-staging",)))[
        :2
    ] == (
        "move",
        "fares-staging",
    )
    assert only(uses.UsedConnection("Fares", "fares", "Production"))[0] == "set_up"
    assert (
        only(uses.UsedConnection("Fares", "fares-staging", "Staging", missing=("API key",)))[2]
        == "fares-staging is not set up yet: API key is missing."
    )
    assert (
        only(uses.UsedConnection("Fares", "fares-staging", "Staging", State.UNLATCHED))[0] == "look"
    )
    assert (
        uses.warn(
            "Night run",
            "Staging",
            [uses.UsedConnection("Fares", "fares-staging", "Staging", State.LATCHED)],
        )
        == ()
    )
