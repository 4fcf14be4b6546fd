"""Stored contents and plans name connections by their references, as inventory files do now:
``production/cargo-manifests``.
"""

import json
import zlib
from typing import Any

from django.db import migrations

_Names = dict[str, str]


def _packed(plain: Any) -> bytes:
    return zlib.compress(json.dumps(plain, ensure_ascii=False, separators=(",", ":")).encode(), 6)


def _of_uses(workload: Any, names: _Names) -> None:
    for use in (workload or {}).get("uses", ()):
        if named := use.get("connection"):
            use["connection"] = names.get(named, named)


def _reference(name: str, connection: Any) -> str:
    """The reference of a connection, whose place is named ``application/environment``."""
    return f"{connection['place'].rpartition('/')[2]}/{name}"


def _content(stored: Any, names: _Names) -> Any:
    if stored is None:
        return None
    content = json.loads(zlib.decompress(stored))
    connections = content.get("connections", {})
    references = {name: _reference(name, one) for name, one in connections.items()}
    content["connections"] = {references[name]: one for name, one in connections.items()}
    for workload in content.get("workloads", {}).values():
        _of_uses(workload, {**names, **references})
    return _packed(content)


def to_references(apps: Any, editor: Any) -> None:
    names = dict(apps.get_model("connections", "Connection").objects.values_list("name", "ref"))
    steps = apps.get_model("inventory", "ImportStep").objects
    for step in steps.filter(kind="connections").iterator(chunk_size=500):
        content = json.loads(zlib.decompress(step.packed))
        if (connection := content["after"] or content["before"]) and "place" in connection:
            names[step.key] = step.key = _reference(step.key, connection)
            step.save(update_fields=["key"])
    for step in steps.filter(kind="workloads").iterator(chunk_size=500):
        content = json.loads(zlib.decompress(step.packed))
        _of_uses(content["before"], names)
        _of_uses(content["after"], names)
        step.packed = _packed(content)
        step.save(update_fields=["packed"])
    for origin in apps.get_model("inventory", "Origin").objects.iterator(chunk_size=1):
        origin.packed = _content(origin.packed, names)
        origin.save(update_fields=["packed"])
    for plan in apps.get_model("inventory", "ImportPlan").objects.iterator(chunk_size=1):
        plan.base_before = _content(plan.base_before, names)
        plan.base_after = _content(plan.base_after, names)
        plan.save(update_fields=["base_before", "base_after"])


class Migration(migrations.Migration):
    dependencies = [("inventory", "0004_workloads"), ("connections", "0018_references")]
    operations = [migrations.RunPython(to_references, migrations.RunPython.noop)]
