"""JSON Schemas of the files that people write, held to a validator by others (jsonschema) and to
what the readers take.
"""

from __future__ import annotations

import copy
import json
from typing import Any

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from referencing import Registry

from neatlatch.core import json_schemas, profile_keys, profiles
from neatlatch.core.inventory import reading, shape
from neatlatch.core.schemes import KINDS
from neatlatch.desk.estate.applications.shipped import shipped

# With an empty registry nothing is fetched.
INVENTORY = Draft202012Validator(json_schemas.inventory(), registry=Registry())
PROFILE = Draft202012Validator(json_schemas.profile(), registry=Registry())


@pytest.mark.parametrize("name", list(json_schemas.BY_FILE))
def test_a_schema_is_one_of_2020_12(name: str) -> None:
    schema = json_schemas.BY_FILE[name]()
    Draft202012Validator.check_schema(schema)
    assert schema["$schema"] == "https://json-schema.org/draft/2020-12/schema"
    assert json.loads(json.dumps(schema)) == schema


@pytest.mark.parametrize("key", list(shipped()))
def test_the_profiles_that_come_with_it_are_valid(key: str) -> None:
    profile = shipped()[key]["profile"]
    assert [error.message for error in PROFILE.iter_errors(profile)] == []
    # As it is exported, too.
    exported = profiles.brief(profiles.from_dict(profile))
    assert [error.message for error in PROFILE.iter_errors(json.loads(json.dumps(exported)))] == []


WRONG: dict[str, dict[str, Any]] = {
    "a key that is not known": {"scheems": []},
    "a scheme that is not known": {"schemes": [{"key": "oauth3"}]},
    "a value of another scheme": {"schemes": [{"key": "basic", "values": [{"key": "api_key"}]}]},
    "a choice that is none": {"schemes": [{"key": "api_key", "settings": {"placement": "body"}}]},
    "a setting of another scheme": {"schemes": [{"key": "basic", "settings": {"name": "X"}}]},
    "a field that is not known": {"scopes": [{"name": "read", "means": "Read"}]},
    "a kind of scope that is none": {"scopes": [{"name": "read", "kind": "reading"}]},
    "a limit that is not known": {"limits": {"secrets": 2}},
    "a further endpoint of no kind": {
        "schemes": [
            {"key": "stream", "endpoints": [{"key": "r", "label": "R", "kind": "oauth2_code"}]}
        ]
    },
}


@pytest.mark.parametrize("profile", list(WRONG.values()), ids=list(WRONG))
def test_what_the_reader_refuses_of_a_profile_the_schema_does(profile: dict[str, Any]) -> None:
    assert list(PROFILE.iter_errors(profile))
    refused = profile_keys.wrong_in(profile)
    if not refused:
        try:
            profiles.from_dict(profile)
        except profiles.BadProfile as error:
            refused = str(error)
    # A kind of scope is not looked at by the reader; the schema is stricter there.
    assert refused or "kind" in str(profile)


def test_every_scheme_and_value_is_known() -> None:
    for kind in KINDS.values():
        values = [{"key": value.key, "label": "Ours"} for value in kind.values]
        profile = {"schemes": [{"key": kind.key, "values": values}]}
        assert list(PROFILE.iter_errors(profile)) == []
        profiles.from_dict(profile)


SMALL = """
neat_latch_inventory: 3
environments:
  sandbox: {name: Sandbox, look: dashed}
applications:
  cargo: {name: Cargo, profile: {schemes: [{key: bearer}]}}
deployments:
  cargo/sandbox:
    application: cargo
    environment: sandbox
    addresses: {api_base: "https://cargo.example/api"}
connections:
  sandbox/cargo: {deployment: cargo/sandbox, scheme: bearer, pace: 4, tags: }
workloads:
  Night run/sandbox:
    name: Night run
    environment: sandbox
    uses: [{application: cargo, connection: sandbox/cargo, operations: [GET /manifests]}]
"""


def test_a_file_that_is_read_is_valid() -> None:
    plain = yaml.safe_load(SMALL)
    assert [error.message for error in INVENTORY.iter_errors(plain)] == []
    written = yaml.safe_load(reading.write(reading.read(SMALL).content))
    assert [error.message for error in INVENTORY.iter_errors(written)] == []


@given(st.data())
def test_what_the_reader_refuses_of_an_inventory_the_schema_does(data: st.DataObject) -> None:
    """A value of another type, or a field that no kind has, in a file that is right otherwise."""
    plain = copy.deepcopy(yaml.safe_load(SMALL))
    kind = data.draw(st.sampled_from([kind for kind in shape.KINDS if kind.name in plain]))
    objects = plain[kind.name]
    key = data.draw(st.sampled_from(sorted(objects)))
    field = data.draw(st.sampled_from([field.name for field in kind.fields] + ["nonsense"]))
    values = st.sampled_from([True, -1, 4, "text", ["a"], [[1]], {"a": "b"}, {"a": [1]}])
    objects[key] = {**objects[key], field: data.draw(values)}
    valid = not list(INVENTORY.iter_errors(plain))
    try:
        reading.read(yaml.safe_dump(plain))
    except reading.BadInventory:
        assert not valid
    else:
        # What depends on the reading of a profile or a moment is not the reader's of the file.
        assert valid or field in ("profile", "issued", "ends") or field.endswith(("_at", "seen"))
