"""Files that were not exported but written: they say some things of some objects, and the rest
stays as it is.

A file that names the export it was made from (“base”) says all of each object; one without says
what it says. So a pipeline can import its file again and again: a secret that was put in since
stays put in.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from typing import Any
from uuid import UUID, uuid5

from neatlatch.core import profile_keys, profiles

from .reading import Lacking, Mistake
from .shape import BY_NAME, Content

# Names the clients of files that give no ID, so that preview and import mean the same one.
_CLIENTS = UUID("6f0f6c3e-6a3e-5d0b-9a55-4b5f9a4a8c10")


def with_client_ids(content: Content, current: Content) -> Content:
    """Return a content in which each client has an ID: that of the client of the same name, or one
    that follows from the name.
    """
    known = {key: fields["id"] for key, fields in current.get("clients", {}).items()}
    clients = {
        key: {**fields, "id": fields["id"] or known.get(key) or str(uuid5(_CLIENTS, key))}
        for key, fields in content.get("clients", {}).items()
    }
    return {**content, "clients": clients}


def completed(
    content: Content, said: Mapping[tuple[str, str], frozenset[str]], current: Content
) -> Content:
    """Return a content whose objects have, in the fields that the file does not name, what they
    have now.
    """
    return {
        kind: {
            key: {
                **fields,
                **{
                    name: value
                    for name, value in current.get(kind, {}).get(key, {}).items()
                    if name not in said.get((kind, key), frozenset(fields))
                },
            }
            for key, fields in objects.items()
        }
        for kind, objects in content.items()
    }


def with_whole_profiles(content: Content) -> Content:
    """Return a content whose profiles are written as they are exported, so that what a file leaves
    out because it is usual is no change. A profile that cannot be read stays as it is.
    """
    return {
        **content,
        "applications": {
            key: {**fields, "profile": _as_exported(fields["profile"])}
            for key, fields in content.get("applications", {}).items()
        },
    }


def _as_exported(profile: dict[str, Any]) -> dict[str, Any]:
    if not profile or profile_keys.wrong_in(profile):
        return profile
    try:
        exported = profiles.brief(profiles.from_dict(profile))
    except profiles.BadProfile:
        return profile
    plain: dict[str, Any] = json.loads(json.dumps(exported))
    return plain


def lacking(found: Iterable[Lacking], current: Content) -> Iterator[Mistake]:
    """Yield what is missing of objects that are not there yet."""
    for one in found:
        if one.key not in current.get(one.kind, {}):
            word = BY_NAME[one.kind].word
            says = f"“{one.field}” is missing, and there is no {word} {one.key[:120]!r} yet"
            yield Mistake(one.line, f"{one.kind} → {one.key}", says, one.file)
