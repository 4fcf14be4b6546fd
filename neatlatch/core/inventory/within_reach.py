"""What a file may say that is imported by somebody whose rights hold for some environments or
applications only.

Each object that it names must be within, and everything that the object takes from others; what
stands for several places (an application with its profile, an environment, people) is not.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from neatlatch.core.reach import Place, Reach

from .reading import Inventory

# By these a file takes something over from wherever it is, by an ID that tells no place.
_BY_ID = (("connections", "secrets"), ("clients", "id"))


def beyond(inventory: Inventory, reach: Reach) -> str:
    """Return what a file says that is beyond a reach, as “connections → staging/cargo”; empty:
    nothing.
    """
    if inventory.base:
        return "base"  # then what it does not name is compared, too
    for kind, objects in inventory.content.items():
        for key, fields in objects.items():
            if not reach.covers(places_of(kind, key, fields)):
                return f"{kind} → {key}"
            said = inventory.said.get((kind, key), frozenset(fields))
            for of, field in _BY_ID:
                if kind == of and field in said and fields.get(field):
                    return f"{kind} → {key} → {field}"
    return ""


def places_of(kind: str, key: str, fields: Mapping[str, Any]) -> list[Place]:
    """Return where an object of a file is, by its name and by its fields, and where the things are
    that it takes; empty: in no single place.
    """
    return list(_places(kind, key, fields))


def _places(kind: str, key: str, fields: Mapping[str, Any]) -> Iterator[Place]:
    """By fields, too, where they are said: one that is not stays as it is."""
    if kind == "deployments":
        named = _of_deployment(key)
        yield named
        yield Place(
            str(fields.get("environment") or named.environment),
            str(fields.get("application") or named.application),
        )
    elif kind == "clients":
        yield _of_deployment(key)
        if deployment := fields.get("deployment"):
            yield _of_deployment(str(deployment))
    elif kind == "connections":
        application = ""
        if deployment := fields.get("deployment"):
            application = _of_deployment(str(deployment)).application
            yield _of_deployment(str(deployment))
        yield Place(key.partition("/")[0], application)
        if client := fields.get("client"):
            yield _of_deployment(str(client))
    elif kind == "workloads":
        named_in = key.rpartition("/")[2]
        environment = str(fields.get("environment") or named_in)
        for use in fields.get("uses") or [{}]:
            application = str(use.get("application") or "")
            yield Place(environment, application)
            yield Place(named_in, application)
            if connection := use.get("connection"):
                yield Place(str(connection).partition("/")[0], application)


def _of_deployment(name: str) -> Place:
    """The place of what is named ``application/environment`` or has that before its own name."""
    application, _, rest = name.partition("/")
    return Place(rest.partition("/")[0], application)
