"""Formats that go out, read back by what reads them; inventory files with their lines; merging that
overwrites nobody.
"""

from __future__ import annotations

import copy
import csv
import io
import shlex
import subprocess
from typing import Any

import javaproperties
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import openapi, profiles
from neatlatch.core.formats import openapi_out, settings_out, tables
from neatlatch.core.intake import properties
from neatlatch.core.inventory import columns, merging, reading, undoing
from neatlatch.core.inventory.shape import BY_NAME, KINDS, Content, full
from neatlatch.core.schemes import API_KEY, BASIC, BEARER, CERTIFICATE, CLIENT, CODE
from neatlatch.desk.estate.applications.shipped import shipped

TEXTS = st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=20)


@pytest.mark.parametrize("name", sorted(shipped()))
def test_a_profile_goes_out_as_openapi_and_comes_in_again(name: str) -> None:
    profile = profiles.from_dict(shipped()[name]["profile"])
    addresses = {
        "api_base": "https://a.example/v1",
        "authorization_endpoint": "https://a.example/auth",
        "token_endpoint": "https://a.example/token",
    }
    described = openapi.read_description(openapi_out.document("A", profile, addresses))
    standard = {CODE, CLIENT, API_KEY, BASIC, BEARER, CERTIFICATE}
    assert {scheme.key for scheme in described.schemes} == {
        scheme.key for scheme in profile.schemes if scheme.key in standard
    } | ({CLIENT} if any(scheme.key == "oauth2_jwt" for scheme in profile.schemes) else set())
    if all(scheme.key in standard for scheme in profile.schemes):
        assert {(operation.name, operation.alternatives) for operation in described.operations} == {
            (operation.name, operation.alternatives) for operation in profile.operations
        }
        assert {scope.name: scope.meaning for scope in described.scopes} == {
            scope.name: scope.meaning for scope in profile.scopes
        }
        assert described.servers == ("https://a.example/v1",)


@given(
    st.dictionaries(st.from_regex(r"[a-z_]{1,8}", fullmatch=True), TEXTS.filter(bool), max_size=5)
)
def test_properties_are_read_back_by_the_reference_library(values: dict[str, str]) -> None:
    text = settings_out.properties("cargo-manifests", values, ["client_secret"], ["b", "a"])
    read = javaproperties.loads(text)
    assert text.isascii()
    assert read == properties.parse(text)
    expected = {f"cargo.manifests.{key}": value for key, value in values.items()}
    assert {key: read[key] for key in expected} == expected
    assert read["cargo.manifests.client_secret"] == "neatlatch://cargo-manifests/client_secret"


@given(
    st.dictionaries(
        st.sampled_from(["api_base", "client_id", "account"]), TEXTS.filter(bool), max_size=3
    )
)
def test_env_lines_are_what_a_shell_reads(values: dict[str, str]) -> None:
    text = settings_out.env("cargo", values, [], [])
    for line, value in zip(text.splitlines(), values.values(), strict=True):
        name, _, quoted = line.partition("=")
        assert name.isupper()
        if not any(item in value for item in "$`\\"):
            assert shlex.split(quoted) == [value]


def test_env_lines_are_what_sh_reads() -> None:
    values = {"account": 'a b$HOME`id`"q"\\x\'', "api_base": "https://a.example/x?y=1&z=2"}
    text = settings_out.env("cargo-x", values, ["api_key"], ["b", "a"])
    script = text + (
        'printf "%s\\n" "$CARGO_X_ACCOUNT" "$CARGO_X_API_BASE" "$CARGO_X_SCOPES" "$CARGO_X_API_KEY"'
    )
    done = subprocess.run(["sh", "-c", script], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines() == [
        values["account"],
        values["api_base"],
        "a b",
        "neatlatch://cargo-x/api_key",
    ]


def test_references() -> None:
    assert settings_out.read_reference(settings_out.reference("cargo", "register.password")) == (
        "cargo",
        "register.password",
    )
    assert settings_out.read_reference("https://cargo/x") is None


@given(
    st.lists(st.tuples(TEXTS.map(str.strip), TEXTS.map(str.strip)), max_size=5),
    st.sampled_from([",", ";", "\t"]),
)
def test_tables_are_read_back(rows: list[tuple[str, str]], delimiter: str) -> None:
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter).writerows([("Name", "Owner"), *rows])
    text = tables.to_csv(("Name", "Owner"), rows) if delimiter == "," else out.getvalue()
    read = tables.mapped(tables.read(text), {"owner": "OWNER", "name": "name"})
    kept = [tuple(cell.removeprefix("'") for cell in row) for row in rows if any(row)]
    wanted = kept if delimiter != "," else [row for row in rows if any(row)]
    assert [(row["name"], row["owner"]) for _, row in read] == [row for row in wanted if any(row)]


def test_no_cell_begins_as_a_formula() -> None:
    assert tables.to_csv(("a",), [("=1+1",), ("-x",), ("fine",)]).splitlines() == [
        "a",
        "'=1+1",
        "'-x",
        "fine",
    ]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "line 1: nothing"),
        ("name,Name\n", "line 1: two columns are called 'Name'"),
        (",".join(f"c{number}" for number in range(201)), "line 1: more than 200 columns"),
        ("owner\n", "line 1: there is no column 'name'"),
        ("name\na,b\n", "line 2: there are 2"),
        ('name\n"a', "line 2: this is not CSV"),
    ],
)
def test_a_mistake_in_a_table_is_told_with_its_line(text: str, says: str) -> None:
    with pytest.raises(tables.BadTable, match=says):
        tables.mapped(tables.read(text), {"name": "name"})


def test_columns_are_suggested_by_what_people_call_them() -> None:
    heading = ("System", "Stage", "Responsible", "URL", "Purpos", "Password", "x" * 5000)
    found = columns.suggested(heading, columns.TABLES["applications"])
    assert found == {
        "name": "System",
        "environment": "Stage",
        "owner": "Responsible",
        "api_base": "URL",
        "purpose": "Purpos",
    }
    assert columns.suggested(("name", "app"), columns.TABLES["connections"]) == {
        "name": "name",
        "application": "app",
    }


def test_names_that_differ_only_in_how_they_are_written_are_found() -> None:
    new = {"Cargo-Manifests": 2, "cargo manifests": 3, "Fuel ledger": 4}
    assert columns.look_alikes(new, ["Cargo manifests", "Tide tables"]) == [
        ("Cargo-Manifests", 2, "Cargo manifests", 0),
        ("cargo manifests", 3, "Cargo manifests", 0),
    ]


# Inventory files

SMALL = """neat_latch_inventory: 3
base: abc
environments:
  sandbox: {name: Sandbox}
people:
  ewan: {name: Ewan Tait}
teams:
  Quays:
    people: [ewan]
applications:
  cargo:
    name: Cargo
deployments:
  cargo/sandbox:
    application: cargo
    environment: sandbox
connections:
  cargo:
    deployment: cargo/sandbox
    scheme: basic
    pace: 4
workloads:
  Night run/sandbox:
    name: Night run
    environment: sandbox
    uses:
      - {application: cargo, connection: cargo}
"""


def test_a_file_is_read_in_full() -> None:
    found = reading.read(SMALL)
    assert found.base == "abc"
    assert found.content["connections"]["cargo"]["pace"] == 4.0
    assert found.content["connections"]["cargo"]["individual"] is False
    assert found.lines["connections", "cargo"] == 18
    assert reading.read(reading.write(found.content)).content == found.content


@pytest.mark.parametrize(
    ("change", "line", "says"),
    [
        (("pace: 4", "pace: fast"), 21, "is a number"),
        (("pace: 4", "speed: 4"), 21, "no such field"),
        (("scheme: basic", "x: 1"), 18, "“scheme” is missing"),
        (
            ("deployment: cargo/sandbox", "deployment: cargo/staging"),
            19,
            "there is no deployment 'cargo/staging', in this file or here",
        ),
        (("people: [ewan]", "people: ewan"), 9, "is a list of texts"),
        (("people: [ewan]", "people: [isla]"), 9, "there is no person 'isla'"),
        (
            ("{application: cargo, connection: cargo}", "{application: cargo, connection: x}"),
            27,
            "there is no connection 'x'",
        ),
        (("applications:", "aplications:"), 10, "there is no such kind"),
        (("    name: Cargo\n", "    name: Cargo\n    name: Again\n"), 13, "occurs twice"),
        (("  ewan: {name", "  ewan: {role: chief, name"), 6, "is one of reader, operator"),
        (("    scheme: basic", "   scheme: basic"), 20, "It is not YAML"),
        (("neat_latch_inventory: 3", "neat_latch_inventory: 7"), 1, "version 7 is not known"),
        (
            ("scheme: basic", "scheme: basic\n    secrets: {password: hunter2}"),
            21,
            "is no reference to one of the credentials",
        ),
    ],
)
def test_a_mistake_is_told_with_its_line(change: tuple[str, str], line: int, says: str) -> None:
    try:
        found = reading.read(SMALL.replace(*change, 1))
        told = reading.missing(found.references, found.content)
    except reading.BadInventory as error:
        told = error.mistakes
    assert any(mistake.line == line and says in mistake.says for mistake in told), [
        str(mistake) for mistake in told
    ]


def test_a_file_may_name_what_stands_already() -> None:
    head, _, rest = SMALL.partition("environments:")
    small = head + "connections:" + rest.partition("connections:")[2]
    found = reading.read(small)
    assert [
        item.says.split("'")[1] for item in reading.missing(found.references, found.content)
    ] == [
        "cargo/sandbox",
        "sandbox",
        "cargo",
    ]
    stands = reading.read(SMALL).content
    outcome = merging.merge(stands, found.content, None, found.lines)
    assert reading.missing(found.references, outcome.content) == []
    assert {change.act for change in outcome.changes} == {"stay"}
    pruned = merging.merge(stands, found.content, None, found.lines, prune=True)
    assert (
        len(reading.missing(found.references, pruned.content)) == 3
    )  # it would take away what it names


def test_a_file_of_version_1_calls_workloads_users() -> None:
    before = SMALL.replace("neat_latch_inventory: 3", "neat_latch_inventory: 1")
    before = before.replace("workloads:", "users:").replace("deployment", "place")
    assert reading.read(before) == reading.read(SMALL)
    assert "\nworkloads:" in reading.write(reading.read(before).content)
    with pytest.raises(reading.BadInventory) as told:
        reading.read(before.replace("    name: Night run", "    called: Night run"))
    assert {mistake.line for mistake in told.value.mistakes} == {23, 24}
    with pytest.raises(reading.BadInventory, match="no such kind"):
        reading.read(SMALL.replace("workloads:", "users:"))


def test_a_file_of_version_2_calls_deployments_places() -> None:
    before = SMALL.replace("neat_latch_inventory: 3", "neat_latch_inventory: 2")
    before = before.replace("deployment", "place")
    assert reading.read(before) == reading.read(SMALL)
    with pytest.raises(reading.BadInventory) as told:
        reading.read(before.replace("pace: 4", "pace: fast"))
    assert [mistake.line for mistake in told.value.mistakes] == [21]
    with pytest.raises(reading.BadInventory) as told:
        reading.read(before.replace("place: cargo/sandbox", "place: []"))
    assert [mistake.line for mistake in told.value.mistakes] == [18, 19]
    with pytest.raises(reading.BadInventory, match="no such kind"):
        reading.read(SMALL.replace("deployments:", "places:"))


def test_several_mistakes_are_told_at_once() -> None:
    with pytest.raises(reading.BadInventory) as told:
        reading.read(SMALL.replace("pace: 4", "pace: fast").replace("people: [ewan]", "people: 1"))
    assert [mistake.line for mistake in told.value.mistakes] == [9, 21]


def test_a_file_full_of_mistakes_is_not_read_to_its_end() -> None:
    bare = "".join(f"  w{number}/sandbox: {{}}\n" for number in range(3_000))
    with pytest.raises(reading.BadInventory) as told:
        reading.read(f"neat_latch_inventory: 3\nbase: x\nworkloads:\n{bare}")
    assert len(told.value.mistakes) == reading.MOST_MISTAKES
    assert [told.value.mistakes[at].line for at in (0, -1)] == [
        4,
        reading.MOST_MISTAKES // 2 + 3,
    ]  # two of each


def test_a_file_of_too_many_objects_is_not_read(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(
        reading, "MOST_OBJECTS", sum(map(len, reading.read(SMALL).content.values()))
    )
    reading.read(SMALL)
    with pytest.raises(reading.BadInventory, match="objects"):
        reading.read(SMALL + "owners:\n  One more: {}\n")


@pytest.mark.parametrize("text", ["", "x", "[]", "a: &b 1\nc: *b", "{" * 100])
def test_what_is_no_inventory_is_refused(text: str) -> None:
    with pytest.raises(reading.BadInventory):
        reading.read(text)


# Merging


def teams(**people: list[str]) -> Content:
    """A content of teams only: each a name and its people."""
    return {
        kind.name: {name: {"people": some} for name, some in people.items()}
        if kind.name == "teams"
        else {}
        for kind in KINDS
    }


def acts(
    current: Content, wanted: Content, base: Content | None, prune: bool = False
) -> tuple[dict[str, str], dict[str, Any]]:
    """What happens to each team, and the teams that stand afterwards."""
    found = merging.merge(current, wanted, base, {}, prune)
    return {change.key: change.act for change in found.changes}, {
        key: one["people"] for key, one in found.content["teams"].items()
    }


def test_an_undo_leaves_what_something_that_stays_uses() -> None:
    """A chain of two: the place of an application. What nothing uses is removed."""
    bare = {kind.name: dict[str, Any]() for kind in KINDS}
    now: Content = {
        **bare,
        "environments": {
            "live": full(BY_NAME["environments"], {}),
            "trial": full(BY_NAME["environments"], {}),
        },
        "applications": {
            "tides": full(BY_NAME["applications"], {}),
            "buoys": full(BY_NAME["applications"], {}),
        },
        "deployments": {
            "tides/live": full(
                BY_NAME["deployments"], {"application": "tides", "environment": "live"}
            )
        },
        "connections": {
            "tides": full(
                BY_NAME["connections"], {"deployment": "tides/live", "client": "", "pace": 2.0}
            )
        },
    }
    added = {
        **now,
        "connections": {
            "tides": full(BY_NAME["connections"], {"deployment": "tides/live", "client": ""})
        },
    }
    found = merging.merge(now, bare, added, {}, prune=True)  # the connection was changed since
    undoing.keep_what_is_used(found, now)
    told = {(change.kind, change.key): (change.act, change.says[0]) for change in found.changes}
    assert told["connections", "tides"][0] == "kept"
    assert told["deployments", "tides/live"] == (
        "kept",
        "still used by connections → tides, which stays; it stays, too",
    )
    assert told["applications", "tides"] == (
        "kept",
        "still used by deployments → tides/live, which stays; it stays, too",
    )
    assert {key for key, (act, _) in told.items() if act == "remove"} == {
        ("environments", "trial"),
        ("applications", "buoys"),
    }
    assert found.content["deployments"] == now["deployments"]
    assert found.content["environments"].keys() == {"live"}


BASE = teams(a=["x"], b=["x"], c=["x"])


@pytest.mark.parametrize(
    ("current", "wanted", "prune", "told", "after"),
    [
        (BASE, BASE, False, {}, {"a": ["x"], "b": ["x"], "c": ["x"]}),
        (
            BASE,
            teams(a=["y"], b=["x"], c=["x"], d=["z"]),
            False,
            {"a": "change", "d": "add"},
            {"a": ["y"], "b": ["x"], "c": ["x"], "d": ["z"]},
        ),
        (BASE, teams(a=["x"], b=["x"]), False, {"c": "stay"}, {"a": ["x"], "b": ["x"], "c": ["x"]}),
        (BASE, teams(a=["x"], b=["x"]), True, {"c": "remove"}, {"a": ["x"], "b": ["x"]}),
        # By hand meanwhile: a changed, d added, c removed.
        (
            teams(a=["h"], b=["x"], d=["h"]),
            BASE,
            True,
            {"a": "kept", "d": "kept", "c": "kept"},
            {"a": ["h"], "b": ["x"], "d": ["h"]},
        ),
        (
            teams(a=["h"], b=["x"], c=["x"]),
            teams(a=["f"], b=["f"], c=["x"]),
            False,
            {"a": "conflict", "b": "change"},
            {"a": ["h"], "b": ["f"], "c": ["x"]},
        ),
        (
            teams(a=["f"], b=["x"], c=["x"]),
            teams(a=["f"], b=["x"], c=["x"]),
            False,
            {},
            {"a": ["f"], "b": ["x"], "c": ["x"]},
        ),
        (
            teams(b=["x"], c=["x"]),
            teams(a=["f"], b=["x"], c=["x"]),
            False,
            {"a": "conflict"},
            {"b": ["x"], "c": ["x"]},
        ),
        (
            teams(a=["h"], b=["x"], c=["x"]),
            teams(b=["x"], c=["x"]),
            True,
            {"a": "kept"},
            {"a": ["h"], "b": ["x"], "c": ["x"]},
        ),
        (
            teams(a=["x"], b=["x"], c=["x"], d=["h"]),
            teams(a=["x"], b=["x"], c=["x"], d=["f"]),
            False,
            {"d": "conflict"},
            None,
        ),
    ],
)
def test_what_was_changed_meanwhile_is_told_and_not_overwritten(
    current: Content, wanted: Content, prune: bool, told: dict[str, str], after: Any
) -> None:
    found, stands = acts(current, wanted, BASE, prune)
    assert found == told
    assert after is None or stands == after


def test_without_a_base_the_file_is_what_is_wanted() -> None:
    assert acts(BASE, teams(a=["y"]), None)[0] == {"a": "change", "b": "stay", "c": "stay"}


def test_fields_are_merged_one_by_one() -> None:
    def connection(**some: Any) -> Content:
        found = teams()
        found["connections"] = {
            "cargo": full(BY_NAME["connections"], {"deployment": "p", "scheme": "basic", **some})
        }
        return found

    found = merging.merge(connection(pace=5.0), connection(time_limit=9.0), connection(), {})
    assert found.content["connections"]["cargo"]["pace"] == 5.0
    assert found.content["connections"]["cargo"]["time_limit"] == 9.0
    assert found.changes[0].act == "change"
    assert any(
        "stays as changed here meanwhile: pace: 10.0 became 5.0" in say
        for say in found.changes[0].says
    )
    moved = merging.merge(connection(), connection(deployment="q"), None, {})
    assert moved.changes[0].act == "conflict"


PEOPLE = st.dictionaries(
    st.sampled_from("abcd"), st.lists(st.sampled_from("xyz"), max_size=2), max_size=4
)


@given(PEOPLE, PEOPLE, PEOPLE, st.booleans())
def test_applying_twice_changes_nothing_the_second_time(
    current: Any, wanted: Any, base: Any, prune: bool
) -> None:
    first = merging.merge(teams(**current), teams(**wanted), teams(**base), {}, prune)
    before = copy.deepcopy(first.content)
    second = merging.merge(first.content, teams(**wanted), first.base, {}, prune)
    assert second.nothing
    assert second.content == before


@given(PEOPLE, PEOPLE, PEOPLE, st.booleans())
def test_what_was_changed_by_hand_and_not_wanted_otherwise_stands_afterwards(
    current: Any, wanted: Any, base: Any, prune: bool
) -> None:
    found = merging.merge(teams(**current), teams(**wanted), teams(**base), {}, prune).content[
        "teams"
    ]
    for key in "abcd":
        mine, theirs, origin = wanted.get(key), current.get(key), base.get(key)
        if theirs != origin:  # somebody was there meanwhile
            assert found.get(key) == ({"people": theirs} if theirs is not None else None)
        elif mine is not None:
            assert found[key] == {"people": mine}
