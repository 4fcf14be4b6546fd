"""JSON Schemas (2020-12) of the files that people write: an inventory, and a profile.

They are made from what reads the files, so that an editor that checks a file knows the same kinds,
fields and choices. What depends on other objects (a name that must be there) is left to the
reading. Source: JSON Schema draft 2020-12, core and validation.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, fields
from types import UnionType
from typing import Any, Literal, get_args, get_origin, get_type_hints

from .inventory.shape import BY_NAME, KINDS, USE_FIELDS, VERSION, Field, Kind
from .profile_keys import CHOICES, SETTINGS
from .profiles import (
    OF_ENDPOINT,
    OF_SCHEME,
    ApplicationLimits,
    Operation,
    Probe,
    Profile,
    RulesAt,
    ScopeInfo,
)
from .schemes import ENDPOINT_KINDS, ManualAct, Value
from .schemes import KINDS as SCHEMES
from .signed_calls import ENCODINGS, HASHES, SignedCalls

Schema = dict[str, Any]
DIALECT = "https://json-schema.org/draft/2020-12/schema"
_TEXT: Schema = {"type": "string"}
# YAML reads 12 as a number; such a text is taken as it is written.
_WRITTEN: Schema = {"type": ["string", "number"]}
_TEXTS: Schema = {"type": "array", "items": _WRITTEN}
_TABLE: Schema = {"type": "object"}


def _closed(properties: Mapping[str, Schema], required: tuple[str, ...] = ()) -> Schema:
    """An object that has these properties and no others."""
    closed: Schema = {
        "type": "object",
        "properties": dict(properties),
        "additionalProperties": False,
    }
    return closed | ({"required": list(required)} if required else {})


def _or_nothing(schema: Schema) -> Schema:
    """A value that may be left empty (null): it then means what leaving it out means."""
    if "enum" in schema:
        return {**schema, "enum": [*schema["enum"], None]}
    kinds = schema.get("type")
    if kinds is None:
        return {"anyOf": [schema, {"type": "null"}]}
    return {**schema, "type": [*([kinds] if isinstance(kinds, str) else kinds), "null"]}


# An inventory


def inventory() -> Schema:
    """The schema of an inventory file."""
    properties: dict[str, Schema] = {
        "neat_latch_inventory": {"const": VERSION, "description": "The version of the format."},
        "base": {
            "type": ["string", "null"],
            "description": "What the file was exported from. Without it, a file says some things "
            "of some objects, and the rest stays as it is.",
        },
    }
    for kind in KINDS:
        properties[kind.name] = _or_nothing(
            {
                "type": "object",
                "description": f"Each {kind.word} by its name.",
                "additionalProperties": _or_nothing(_of_kind(kind)),
            }
        )
    return {
        "$schema": DIALECT,
        "title": "Inventory of Neat Latch",
        "$defs": {"profile": _profile()},
        **_closed(properties, ("neat_latch_inventory",)),
    }


def _of_kind(kind: Kind) -> Schema:
    return _closed({field.name: _or_nothing(_of_field(kind, field)) for field in kind.fields})


_BY_TYPE: dict[str, Schema] = {
    "flag": {"type": "boolean"},
    "number": {"type": "number", "minimum": 0},
    "count": {"type": "integer", "minimum": 0},
    "texts": _TEXTS,
    "strings": {"type": "object", "additionalProperties": _WRITTEN},
    "table": _TABLE,
    # RFC 3339; an editor may show it, and YAML may have made a moment of it already.
    "moment": {"type": "string", "format": "date-time"},
}


def _of_field(kind: Kind, field: Field) -> Schema:
    if (kind.name, field.name) == ("applications", "profile"):
        return {"$ref": "#/$defs/profile"}
    if field.type == "uses":
        return {"type": "array", "items": _use()}
    if field.choices:
        return {"enum": list(field.choices)}
    target = "clients" if field.type == "clients_later" else field.type
    if target in BY_NAME:
        return {**_WRITTEN, "description": f"The name of one of the {target}."}
    return _BY_TYPE.get(field.type, _WRITTEN)


def _use() -> Schema:
    known: dict[str, Schema] = {
        "application": {**_TEXT, "description": "The name of one of the applications."},
        "connection": {**_TEXT, "description": "The name of one of the connections."},
        "operations": _TEXTS,
        "seen": {"type": "object", "additionalProperties": {"type": "integer"}},
        "seen_at": _BY_TYPE["moment"],
    }
    return _closed({name: _or_nothing(known[name]) for name in USE_FIELDS}, ("application",))


# A profile


def profile() -> Schema:
    """The schema of a profile."""
    return {"$schema": DIALECT, "title": "Profile of an application", **_profile()}


def _profile() -> Schema:
    parts: dict[str, Schema] = {
        "schemes": {"type": "array", "items": {"oneOf": [_scheme(key) for key in SCHEMES]}},
        "slots": {"type": "array", "items": _of_class(Value)},
        "roles": {"type": "array", "items": _of_class(ScopeInfo)},
        "scopes": {"type": "array", "items": _of_class(ScopeInfo)},
        "operations": {"type": "array", "items": _of_class(Operation)},
        "probe": _or_nothing(_of_class(Probe)),
        "limits": _of_class(ApplicationLimits),
        "rules": _or_nothing(_of_class(RulesAt)),
        "relays": _TEXTS,
        "signed_calls": _or_nothing(_signed_calls()),
    }
    return _closed({field.name: parts.get(field.name, _TEXT) for field in fields(Profile)})


def _signed_calls() -> Schema:
    schema = _of_class(SignedCalls)
    schema["properties"] |= {
        "hash": {"enum": list(HASHES)},
        "encoding": {"enum": list(ENCODINGS)},
        "tolerance": {"type": "integer", "minimum": 1, "maximum": 3600},
    }
    return schema


def _scheme(key: str) -> Schema:
    kind = SCHEMES[key]
    values = _of_class(Value, ("key",))
    values["properties"]["key"] = {"enum": [value.key for value in kind.values]}
    parts: dict[str, Schema] = {
        "key": {"const": key, "description": kind.label},
        "values": {"type": "array", "items": values},
        "where": {"type": "object", "additionalProperties": _TEXT},
        "settings": _settings(key),
        "switches": _TEXTS,
        "acts": {"type": "array", "items": _of_class(ManualAct)},
        "endpoints": {
            "type": "array",
            "items": {"oneOf": [_endpoint(endpoint) for endpoint in ENDPOINT_KINDS]},
        },
    }
    return _closed({name: parts.get(name, _TEXT) for name in sorted(OF_SCHEME)}, ("key",))


def _endpoint(kind: str) -> Schema:
    parts: dict[str, Schema] = {
        "kind": {"const": kind},
        "values": {"type": "array", "items": _of_class(Value, ("key",))},
        "where": {"type": "object", "additionalProperties": _TEXT},
        "settings": _settings(kind),
    }
    required = ("key", "kind", "label")
    return _closed({name: parts.get(name, _TEXT) for name in sorted(OF_ENDPOINT)}, required)


def _settings(kind: str) -> Schema:
    known = SETTINGS.get(kind, ())
    return _closed(
        {name: {"enum": list(CHOICES[name])} if name in CHOICES else _TEXT for name in known}
    )


def _of_class(cls: type, required: tuple[str, ...] | None = None) -> Schema:
    """An object with the fields of a dataclass; those without a default are required."""
    hints = get_type_hints(cls)
    known = {field.name: _of_hint(hints[field.name]) for field in fields(cls)}
    if required is None:
        required = tuple(
            field.name
            for field in fields(cls)
            if field.default is MISSING and field.default_factory is MISSING
        )
    return _closed(known, required)


_PLAIN: dict[Any, Schema] = {
    str: _TEXT,
    bool: {"type": "boolean"},
    int: {"type": "integer"},
    float: {"type": "number"},
}


def _of_hint(hint: Any) -> Schema:
    """What a field of this type is written as. Raises ``KeyError`` for one that none has."""
    origin, arguments = get_origin(hint), get_args(hint)
    if hint in _PLAIN:
        return dict(_PLAIN[hint])
    if origin is Literal:
        return {"enum": list(arguments)}
    if origin in (tuple, list, frozenset):
        return {"type": "array", "items": _of_hint(arguments[0])}
    if origin is UnionType:
        return {"anyOf": [_of_hint(argument) for argument in arguments]}
    if origin is not None and issubclass(origin, Mapping):
        return dict(_TABLE)
    raise KeyError(hint)


BY_FILE = {"inventory": inventory, "profile": profile}
