"""Stored plans and origins name workloads as files do now; they were called users."""

import json
import zlib
from typing import Any

from django.db import migrations


def _renamed(stored: bytes | memoryview | None, before: str, after: str) -> bytes | None:
    """A packed content with one of its kinds under another name."""
    if stored is None:
        return None
    content = json.loads(zlib.decompress(stored))
    if before in content:
        content[after] = content.pop(before)
    plain = json.dumps(content, ensure_ascii=False, separators=(",", ":"))
    return zlib.compress(plain.encode(), 6)


def _rename(apps: Any, before: str, after: str) -> None:
    for one in apps.get_model("inventory", "Origin").objects.iterator(chunk_size=1):
        one.packed = _renamed(one.packed, before, after)
        one.save(update_fields=["packed"])
    for one in apps.get_model("inventory", "ImportPlan").objects.iterator(chunk_size=1):
        one.base_before = _renamed(one.base_before, before, after)
        one.base_after = _renamed(one.base_after, before, after)
        one.save(update_fields=["base_before", "base_after"])
    apps.get_model("inventory", "ImportStep").objects.filter(kind=before).update(kind=after)


def to_workloads(apps: Any, editor: Any) -> None:
    _rename(apps, "users", "workloads")


def to_users(apps: Any, editor: Any) -> None:
    _rename(apps, "workloads", "users")


class Migration(migrations.Migration):
    dependencies = [("inventory", "0003_imports")]
    operations = [migrations.RunPython(to_workloads, to_users)]
