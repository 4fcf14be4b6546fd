"""What an inventory holds: kinds of objects, their fields, and what each field may be."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

# Version 1 called workloads “users”, and a prepared credential “staged”; it is still read.
VERSION = 3


@dataclass(frozen=True)
class Field:
    """A field of an object.

    ``type``: text, flag, number, count, texts, strings (text by text), moment, table (anything
    nested), or the name of a kind (a reference to an object of it, empty: none). ``default`` is
    what a field that is left out means. ``fixed``: it cannot be changed afterwards.
    """

    name: str
    type: str = "text"
    default: Any = ""
    required: bool = False
    choices: tuple[str, ...] = ()
    fixed: bool = False


@dataclass(frozen=True)
class Kind:
    """A kind of object, in the plural as it stands in the file, with a word for one of them."""

    name: str
    word: str
    fields: tuple[Field, ...]

    def field(self, name: str) -> Field | None:
        """A field by its name."""
        return next((field for field in self.fields if field.name == name), None)


def _texts(name: str) -> Field:
    return Field(name, "texts", [])


def _table(name: str) -> Field:
    return Field(name, "table", {})


# What people put on an object; nothing that the object does follows from it.
ANNOTATIONS = ("tags", "notes", "links")
_ANNOTATED = (_texts("tags"), Field("notes"), Field("links", "strings", {}))


# In the order in which they must be there: later ones refer to earlier ones.
KINDS = (
    Kind(
        "environments",
        "environment",
        (
            Field("name", required=True),
            Field("order", "count", 0),
            Field("look", default="flat", choices=("dashed", "flat", "striped")),
            Field("production", "flag", False),
            Field("wants_service_account", "flag", False),
            *_ANNOTATED,
        ),
    ),
    Kind(
        "people",
        "person",
        (
            Field("name"),
            Field(
                "role", default="reader", choices=("reader", "operator", "administrator", "auditor")
            ),
            Field("active", "flag", True),
            Field("email"),
            # What their rights hold for; empty: not limited by that.
            _texts("environments"),
            _texts("applications"),
            _texts("teams"),
            *_ANNOTATED,
        ),
    ),
    Kind("teams", "team", (Field("people", "texts", []),)),
    Kind("owners", "owner", (Field("mail"), Field("zone"), Field("deputy"), *_ANNOTATED)),
    Kind(
        "applications",
        "application",
        (
            Field("name", required=True),
            Field("purpose"),
            Field("owner"),
            Field("documentation"),
            _table("profile"),
            *_ANNOTATED,
        ),
    ),
    Kind(
        "deployments",
        "deployment",
        (
            Field("application", "applications", required=True, fixed=True),
            Field("environment", "environments", required=True, fixed=True),
            Field("addresses", "strings", {}),
            Field("metadata_address"),
            _table("metadata"),
            _table("access_rules"),
        ),
    ),
    Kind(
        "credentials",
        "credential",
        (
            Field("kind", required=True, fixed=True),
            Field("client", "clients_later", fixed=True),
            Field("hint"),
            Field("secret_id"),
            Field("issued", "moment"),
            Field("ends", "moment"),
            Field("state", default="active"),
            Field("source", default="registered"),
            Field("put_in_by"),
            Field("public_key"),
            *_ANNOTATED,
        ),
    ),
    Kind(
        "clients",
        "client",
        (
            Field("id", required=True, fixed=True),
            Field("deployment", "deployments", required=True, fixed=True),
            Field("name", required=True),
            _texts("contacts"),
            Field("public", "flag", False),
            Field("client_id"),
            _texts("redirect_uris"),
            _texts("grants"),
            _texts("scopes"),
            Field("sign_in_method", default="client_secret_basic"),
            _table("consents"),
            Field("vendor_shared", "flag", False),
            Field("managed", "flag", False, fixed=True),
            Field("state", default="live"),
            Field("management_address", fixed=True),
            Field("management_token", fixed=True),
            Field("scheme", default="oauth2_code", fixed=True),
            _table("facts"),
            Field("account"),
            Field("account_kind", choices=("", "service", "person")),
            _texts("rights"),
            Field("rights_changed_at", "moment"),
            Field("scopes_changed_at", "moment"),
            _texts("switches"),
            _texts("allow_list"),
            _texts("ticks"),
            *_ANNOTATED,
        ),
    ),
    Kind(
        "connections",
        "connection",
        (
            Field("deployment", "deployments", required=True, fixed=True),
            Field("client", "clients"),
            Field("scheme", required=True),
            _table("values"),
            _table("slots"),
            _texts("scopes"),
            Field("secrets", "strings", {}),
            Field("individual", "flag", False),
            Field("tests_as"),
            Field("team", "teams"),
            Field("pace", "number", 10.0),
            Field("time_limit", "number", 30.0),
            Field("left_out_of_rounds", "flag", False),
            Field("test_interval", "count", 0),
            Field("work_in_rounds", "flag", False),
            Field("accounts", "strings", {}),
            Field("scopes_changed_at", "moment"),
            *_ANNOTATED,
        ),
    ),
    Kind(
        "workloads",
        "workload",
        (
            Field("name", required=True),
            Field("environment", "environments", required=True),
            Field("kind", default="job", choices=("job", "report", "script", "agent")),
            Field("owner"),
            Field("runs"),
            _texts("windows"),
            Field("notice_days", "count", 0),
            Field("draws", "flag", False),
            Field("uses", "uses", []),
            *_ANNOTATED,
        ),
    ),
)
BY_NAME = {kind.name: kind for kind in KINDS}
USE_FIELDS = ("application", "connection", "operations", "seen", "seen_at")

Content = dict[str, dict[str, dict[str, Any]]]


def full(kind: Kind, brief: Mapping[str, Any]) -> dict[str, Any]:
    """An object with every field, those left out as what they mean."""
    return {
        field.name: brief[field.name] if brief.get(field.name) is not None else field.default
        for field in kind.fields
    }


def brief(kind: Kind, fields: Mapping[str, Any]) -> dict[str, Any]:
    """An object without the fields that say nothing more than being left out does, in the order of
    the kind.
    """
    return {
        field.name: fields[field.name]
        for field in kind.fields
        if fields.get(field.name) not in (None, field.default)
    }
