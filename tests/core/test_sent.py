"""What a test would send, without sending: the same requests as the ladder's, and every setting
that changes one.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import profile_keys, profiles, sent
from neatlatch.core.pins import Need
from neatlatch.core.profiles import Profile
from neatlatch.core.schemes import KINDS
from neatlatch.core.scope_effects import stopped_by
from neatlatch.core.sent import Sender
from neatlatch.desk.estate.applications.shipped import shipped

BASE = "https://kiosks.example/api"
KIOSKS: dict[str, Any] = {
    "schemes": [{"key": "api_key", "settings": {"placement": "header", "name": "X-Kiosk-Key"}}],
    "operations": [
        {"method": "GET", "path": "/fares"},
        {"method": "PUT", "path": "/fares/{number}"},
    ],
    "harmless": "GET /fares",
    "probe": {
        "make_method": "PUT",
        "make_path": "/fares/{test}",
        "make_body": {"price": "{test}"},
        "look_path": "/fares",
        "clear_method": "DELETE",
        "clear_path": "/fares/{test}",
    },
}
SENDER = Sender("api_key", {"api_base": BASE}, frozenset({"api_key"}))


def requests(sender: Sender = SENDER, **changed: Any) -> dict[str, sent.SentRequest]:
    return sent.requests(profiles.from_dict({**KIOSKS, **changed}), sender)


def scheme(**settings: str) -> dict[str, Any]:
    return {"schemes": [{"key": "api_key", "settings": settings}]}


def test_the_requests_in_their_order() -> None:
    found = requests()
    assert list(found) == ["harmless call", "making", "look at what was made", "clearing away"]
    assert [(request.method, request.address) for request in found.values()] == [
        ("GET", f"{BASE}/fares"),
        ("PUT", f"{BASE}/fares/TEST"),
        ("GET", f"{BASE}/fares"),
        ("DELETE", f"{BASE}/fares/TEST"),
    ]
    assert all(request.headers["X-Kiosk-Key"] == "API-KEY" for request in found.values())
    assert found["making"].body == '{"price": "TEST"}'


@pytest.mark.parametrize(
    "changed",
    [
        scheme(placement="header", name="X-Other-Key"),
        scheme(placement="query", name="key"),
        scheme(placement="cookie", name="key"),
        {"harmless": "", "operations": []},
        {"harmless": "", "operations": [{"method": "GET", "path": "/prices"}]},
        {"probe": None},
        {"probe": {**KIOSKS["probe"], "make_body": {"price": "1"}}},
        {"probe": {**KIOSKS["probe"], "clear_path": "/fares/{test}/gone"}},
        {"probe": {**KIOSKS["probe"], "look_path": ""}},
        {"probe": {**KIOSKS["probe"], "clear_path": "/fares/{id}", "id_at": "/number"}},
    ],
)
def test_whatever_changes_a_request_shows(changed: dict[str, Any]) -> None:
    """F4: only pins were compared, and these change none."""
    assert requests(**changed) != requests()


def test_where_the_id_stands_is_part_of_it() -> None:
    at = [
        requests(probe={**KIOSKS["probe"], "clear_path": "/fares/{id}", "id_at": place})
        for place in ("/number", "/id", "Location")
    ]
    assert at[0] != at[1] != at[2]


def test_what_no_test_sends_does_not_show() -> None:
    assert (
        requests(
            scopes=[{"name": "x", "meaning": "new"}], limits={"spread": 5}, roles_label="permission"
        )
        == requests()
    )


@pytest.mark.parametrize(("setting", "shows"), [({}, False), ({"renews_with": "access"}, True)])
def test_how_a_token_is_renewed(setting: dict[str, str], shows: bool) -> None:
    sender = Sender(
        "oauth2_code",
        {"token_endpoint": f"{BASE}/token", "client_id": "x"},
        frozenset({"client_secret"}),
    )
    found = sent.requests(
        profiles.from_dict({"schemes": [{"key": "oauth2_code", "settings": setting}]}), sender
    )
    assert ("access_token=ACCESS-TOKEN" in found["sign-in"].body) is shows


@pytest.mark.parametrize("key", KINDS)
def test_every_kind_whole_and_half_finished(key: str) -> None:
    kind = KINDS[key]
    values = {
        value.key: f"https://x.example/{value.key}" if value.type == "address" else "x"
        for value in kind.values
        if not value.secret
    }
    whole = Sender(key, values, frozenset(secret.key for secret in kind.secrets()))
    profile = Profile(schemes=(kind,), operations=profiles.from_dict(KIOSKS).operations)
    assert not any(request.missing for request in sent.requests(profile, whole).values())
    half = sent.requests(profile, replace(whole, values={}, secrets=frozenset()))
    assert set(half) == set(sent.requests(profile, whole))
    assert sent.requests(Profile(), whole) == {}


def test_without_the_right_the_work_is_not_sent() -> None:
    operations = [
        {"method": "GET", "path": "/fares"},
        {"method": "PUT", "path": "/fares/{number}", "alternatives": [["clerk"]]},
    ]
    found = requests(replace(SENDER, held=frozenset({"reader"})), operations=operations)
    assert list(found) == ["harmless call", "reading /fares"]


# Keys of a profile


@pytest.mark.parametrize(
    ("kept", "says"),
    [
        (
            {**KIOSKS, "harmles": "GET /fares"},
            "“harmles” is not known in a profile. Do you mean “harmless”?",
        ),
        (scheme(placment="header"), "Do you mean “placement”?"),
        (
            scheme(renews_with="access"),
            "“renews_with” is not known in settings of api_key. Known are name, placement.",
        ),
        ({"schemes": [{"key": "basic", "settings": {"x": "y"}}]}, "it takes none"),
        (
            scheme(placement="body"),
            "placement in settings of api_key is header or query or cookie, not “body”.",
        ),
        ({"probe": {**KIOSKS["probe"], "clear_pth": "/x"}}, "Do you mean “clear_path”?"),
        ({"limits": {"live_secret": 2}}, "Do you mean “live_secrets”?"),
        ({"operations": [{"method": "GET", "path": "/x", "sumary": ""}]}, "operations, entry 1,"),
        ({"scopes": [{"name": "x", "implied": []}]}, "Do you mean “implies”?"),
        (
            {
                "schemes": [
                    {"key": "stream", "endpoints": [{"key": "r", "kind": "basic", "setings": {}}]}
                ]
            },
            "Do you mean “settings”?",
        ),
        (
            {"schemes": [{"key": "api_key", "acts": [{"says": "x", "coppy": "y"}]}]},
            "Do you mean “copy”?",
        ),
        ({1: 2}, "“1” is not known in a profile"),
    ],
)
def test_an_unknown_key_is_named_with_the_nearest(kept: dict[str, Any], says: str) -> None:
    assert says in profile_keys.wrong_in(kept)


@pytest.mark.parametrize("key", shipped())
def test_what_comes_with_the_product_is_known(key: str) -> None:
    kept = shipped()[key]["profile"]
    read = profiles.from_dict(kept)
    assert [
        profile_keys.wrong_in(item) for item in (kept, profiles.to_dict(read), profiles.brief(read))
    ] == ["", "", ""]


_plain = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(
            st.sampled_from(["key", "schemes", "settings", "probe", "x"]), inner, max_size=3
        )
    ),
    max_leaves=20,
)


@given(
    st.dictionaries(
        st.sampled_from(["schemes", "probe", "limits", "scopes", "operations", "zz"]), _plain
    )
)
def test_any_shape_is_looked_at_without_failing(kept: dict[str, Any]) -> None:
    assert isinstance(profile_keys.wrong_in(kept), str)


# Whom a narrowing stops


def test_who_stops_and_what_they_lack() -> None:
    read, write = frozenset({"read"}), frozenset({"write"})
    needs = [
        Need("report", "GET /x", (read,)),
        Need("night run", "PUT /x", (write,)),
        Need("night run", "GET /x", (read,)),
        Need("all", "GET /open", ()),
    ]
    implies = {"write": ("read",)}
    found = stopped_by({"write"}, {"read"}, needs, implies)
    assert [(stopped.workload, stopped.operations, stopped.lacks) for stopped in found] == [
        ("night run", ("PUT /x",), write)
    ]
    assert [stopped.workload for stopped in stopped_by({"write"}, set(), needs, implies)] == [
        "report",
        "night run",
    ]
    assert (
        stopped_by({"read"}, {"read"}, needs, implies) == ()
    )  # who could not before is not stopped by it


@given(
    st.sets(st.sampled_from("abcd")),
    st.sets(st.sampled_from("abcd")),
    st.lists(st.sets(st.sampled_from("abcd")), max_size=4),
)
def test_widening_stops_nobody(held: set[str], more: set[str], wanted: list[set[str]]) -> None:
    needs = [Need(str(at), "GET /x", (frozenset(one),)) for at, one in enumerate(wanted)]
    assert stopped_by(held, held | more, needs, {"a": ("b",)}) == ()
