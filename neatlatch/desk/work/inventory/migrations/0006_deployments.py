"""Stored contents and plans say what files of version 3 say: places are called deployments."""

import json
import zlib
from typing import Any

from django.db import migrations

_HAVE_ONE = ("clients", "connections")


def _packed(plain: Any) -> bytes:
    return zlib.compress(json.dumps(plain, ensure_ascii=False, separators=(",", ":")).encode(), 6)


def _rename_field(fields: Any) -> None:
    if fields and "place" in fields:
        fields["deployment"] = fields.pop("place")


def _content(stored: bytes | memoryview | None) -> bytes | None:
    """A packed content with the names of version 3."""
    if stored is None:
        return None
    content = json.loads(zlib.decompress(stored))
    if "places" in content:
        content["deployments"] = content.pop("places")
    for kind in _HAVE_ONE:
        for fields in content.get(kind, {}).values():
            _rename_field(fields)
    return _packed(content)


def to_deployments(apps: Any, editor: Any) -> None:
    for origin in apps.get_model("inventory", "Origin").objects.iterator(chunk_size=1):
        origin.packed = _content(origin.packed)
        origin.save(update_fields=["packed"])
    for plan in apps.get_model("inventory", "ImportPlan").objects.iterator(chunk_size=1):
        plan.base_before = _content(plan.base_before)
        plan.base_after = _content(plan.base_after)
        plan.save(update_fields=["base_before", "base_after"])
    steps = apps.get_model("inventory", "ImportStep").objects
    steps.filter(kind="places").update(kind="deployments")
    for step in steps.filter(kind__in=_HAVE_ONE).iterator(chunk_size=500):
        change = json.loads(zlib.decompress(step.packed))
        _rename_field(change["before"])
        _rename_field(change["after"])
        step.packed = _packed(change)
        step.save(update_fields=["packed"])


class Migration(migrations.Migration):
    dependencies = [("inventory", "0005_references")]
    operations = [migrations.RunPython(to_deployments, migrations.RunPython.noop)]
