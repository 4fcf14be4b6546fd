"""Stored plans and origins say what files say now: workloads were called users, and a prepared
credential staged.
"""

import json
import zlib
from collections.abc import Callable
from typing import Any

from django.db import migrations

_KINDS, _STATES = ("users", "workloads"), ("staged", "prepared")
_Words = Callable[[tuple[str, str]], tuple[str, str]]


def _unpacked(stored: bytes | memoryview) -> Any:
    return json.loads(zlib.decompress(stored))


def _packed(plain: Any) -> bytes:
    return zlib.compress(json.dumps(plain, ensure_ascii=False, separators=(",", ":")).encode(), 6)


def _set_state(credential: Any, words: _Words) -> None:
    before, after = words(_STATES)
    if credential and credential.get("state") == before:
        credential["state"] = after


def _content(stored: bytes | memoryview | None, words: _Words) -> bytes | None:
    """A packed content by other words."""
    if stored is None:
        return None
    content, (before, after) = _unpacked(stored), words(_KINDS)
    if before in content:
        content[after] = content.pop(before)
    for credential in content.get("credentials", {}).values():
        _set_state(credential, words)
    return _packed(content)


def _rename(apps: Any, words: _Words) -> None:
    for one in apps.get_model("inventory", "Origin").objects.iterator(chunk_size=1):
        one.packed = _content(one.packed, words)
        one.save(update_fields=["packed"])
    for one in apps.get_model("inventory", "ImportPlan").objects.iterator(chunk_size=1):
        one.base_before = _content(one.base_before, words)
        one.base_after = _content(one.base_after, words)
        one.save(update_fields=["base_before", "base_after"])
    steps, (before, after) = apps.get_model("inventory", "ImportStep").objects, words(_KINDS)
    steps.filter(kind=before).update(kind=after)
    for one in steps.filter(kind="credentials").iterator(chunk_size=500):
        step = _unpacked(one.packed)
        _set_state(step["before"], words)
        _set_state(step["after"], words)
        one.packed = _packed(step)
        one.save(update_fields=["packed"])


def to_words_of_now(apps: Any, editor: Any) -> None:
    _rename(apps, lambda pair: pair)


def to_words_of_before(apps: Any, editor: Any) -> None:
    _rename(apps, lambda pair: (pair[1], pair[0]))


class Migration(migrations.Migration):
    dependencies = [("inventory", "0003_imports")]
    operations = [migrations.RunPython(to_words_of_now, to_words_of_before)]
