"""Every operation of the API, out of its own OpenAPI document, with a body that it takes."""

from __future__ import annotations

import functools
import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from neatlatch.desk.pages.api import api

UNSAFE = ("post", "put", "patch", "delete")
NOBODYS_ID = "00000000-0000-0000-0000-000000000000"
# Values that the schema alone does not tell.
VALUES: dict[str, Any] = {
    "environment": "sandbox",
    "ref": "sandbox/nothing",
    "role": "reader",
    "kind": "job",
    "uri": "https://a.example/back",
    "key_kind": "ec",
    "words": "a",
}
IN_PATH = {
    "identity": NOBODYS_ID,
    "number": "1",
    "right": NOBODYS_ID,
    "root": NOBODYS_ID,
    "environment": "sandbox",
    "ref": "sandbox/nothing",
    "of": "connections",
    "what": "workloads",
    "key": "nothing",
}


@functools.cache
def document() -> dict[str, Any]:
    """The OpenAPI document, as plain JSON."""
    found: dict[str, Any] = json.loads(json.dumps(api.get_openapi_schema(), default=str))
    return found


@dataclass(frozen=True)
class Operation:
    """A method at a path."""

    method: str
    path: str
    told: dict[str, Any]

    @property
    def name(self) -> str:
        return f"{self.method.upper()} {self.path}"

    @property
    def address(self) -> str:
        """The path with values that name nothing, and the queries that are required."""
        address = self.path
        for parameter in self.told.get("parameters", []):
            if parameter["in"] == "path":
                format_ = parameter["schema"].get("format")
                value = (
                    NOBODYS_ID
                    if format_ == "uuid"
                    else "1"
                    if parameter["schema"].get("type") == "integer"
                    else IN_PATH.get(parameter["name"], "nothing")
                )
                address = address.replace(f"{{{parameter['name']}}}", value)
        wanted = [
            f"{parameter['name']}={sample(parameter['schema'], parameter['name'])}"
            for parameter in self.told.get("parameters", [])
            if parameter["in"] == "query" and parameter.get("required")
        ]
        return address + (f"?{'&'.join(wanted)}" if wanted else "")

    @property
    def schema(self) -> dict[str, Any] | None:
        """The schema of its body; ``None``: it takes none."""
        content = self.told.get("requestBody", {}).get("content", {})
        return content["application/json"]["schema"] if content else None

    def body(self, whole: bool = False) -> Any:
        """A body of its schema; ``whole``: with everything that may be in it."""
        return sample(self.schema, "", whole) if self.schema else {}


def operations() -> list[Operation]:
    """All of them."""
    return [
        Operation(method, path, told)
        for path, item in document()["paths"].items()
        for method, told in item.items()
    ]


def resolved(schema: dict[str, Any]) -> dict[str, Any]:
    """A schema without a reference and without “or null” at its top."""
    if "$ref" in schema:
        return resolved(document()["components"]["schemas"][schema["$ref"].rpartition("/")[2]])
    for key in ("anyOf", "oneOf", "allOf"):
        if key in schema:
            return resolved(next(choice for choice in schema[key] if choice.get("type") != "null"))
    return schema


def sample(schema: dict[str, Any], name: str, whole: bool = False) -> Any:
    """A value that a schema takes."""
    schema = resolved(schema)
    if "enum" in schema:
        return schema["enum"][0]
    kind = schema.get("type")
    if kind == "object":
        properties = schema.get("properties", {})
        names = list(properties) if whole else schema.get("required", [])
        found = {name: sample(properties[name], name, whole) for name in names}
        more = schema.get("additionalProperties")
        return found | (
            {"a": sample(more, name, whole)} if whole and isinstance(more, dict) and more else {}
        )
    if kind == "array":
        return [sample(schema["items"], name, whole)] if whole else []
    if kind == "boolean":
        return True
    if kind in ("integer", "number"):
        return schema.get("minimum", schema.get("exclusiveMinimum", 0) + 1)
    if schema.get("format") == "uuid":
        return NOBODYS_ID
    if schema.get("format") == "date-time":
        return "2027-06-01T12:00:00Z"
    return VALUES.get(name, "a")


def texts(schema: dict[str, Any] | None, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Where texts stand in a body with everything in it: the keys and places that lead there.

    Texts of a format, or of a list, are left out: they are refused for that.
    """
    if schema is None:
        return
    schema = resolved(schema)
    kind = schema.get("type")
    if kind == "object":
        for name, one in schema.get("properties", {}).items():
            yield from texts(one, (*path, name))
        if isinstance(more := schema.get("additionalProperties"), dict) and more:
            yield from texts(more, (*path, "a"))
    elif kind == "array":
        yield from texts(schema["items"], (*path, 0))
    elif kind == "string" and "enum" not in schema and "format" not in schema:
        yield path


def put(body: Any, path: tuple[Any, ...], value: Any) -> Any:
    """A copy of a body with another value at a place."""
    copy = json.loads(json.dumps(body))
    at = copy
    for step in path[:-1]:
        at = at[step]
    at[path[-1]] = value
    return copy


def who_may() -> dict[str, str]:
    """The table of who may do what, by the operation's name: the first word of each line, with a
    star where no program may.
    """
    found = {}
    for line in (Path(__file__).parent / "who_may.txt").read_text().splitlines():
        if line and not line.startswith("#"):
            read = re.fullmatch(r"(\w+\*?)\s+(\w+ \S+)", line)
            assert read is not None, line
            who, name = read.groups()
            assert name not in found, f"{name} stands twice"
            found[name] = who
    return found
