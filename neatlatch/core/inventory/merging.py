"""What applying a file would do: the file against what stands, and against what it was made from,
so that nothing made meanwhile is overwritten.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from .. import changes
from .shape import KINDS, Content, Kind, full


@dataclass(frozen=True)
class Change:
    """What would happen to one object.

    ``act``: add, change, remove, stay (the file lacks it), kept (changed meanwhile, and the file
    did not want it otherwise) or conflict (changed meanwhile and wanted otherwise: it stays as it
    stands). ``says`` tells in words.
    """

    kind: str
    key: str
    act: str
    says: tuple[str, ...]
    line: int = 0

    @property
    def does(self) -> bool:
        """Whether anything is changed by it."""
        return self.act in ("add", "change", "remove")


@dataclass
class Outcome:
    """All changes, the content after them, and the base from which the file counts as made from
    then on.
    """

    changes: list[Change] = field(default_factory=list)
    content: Content = field(default_factory=dict)
    base: Content = field(default_factory=dict)

    @property
    def nothing(self) -> bool:
        """Whether applying changes nothing."""
        return not any(change.does for change in self.changes)


def merge(
    current: Content,
    wanted: Content,
    base: Content | None,
    lines: Mapping[tuple[str, str], int],
    prune: bool = False,
) -> Outcome:
    """What applying would do.

    ``base``: what the file was made from (``None``: not known, so the file is simply what is
    wanted). ``prune``: what the file no longer has is removed.
    """
    found = Outcome()
    for kind in KINDS:
        stands, asked = current.get(kind.name, {}), wanted.get(kind.name, {})
        before = base.get(kind.name, {}) if base is not None else None
        after, kept = found.content.setdefault(kind.name, {}), found.base.setdefault(kind.name, {})
        for key in dict.fromkeys((*asked, *stands, *(before or {}))):
            line = lines.get((kind.name, key), 0)
            change, result = _one(
                kind,
                key,
                stands.get(key),
                asked.get(key),
                None if before is None else before.get(key, _NEVER),
                line,
                prune,
            )
            if change is not None:
                found.changes.append(change)
            if result is not None:
                after[key] = result
            if key in asked:
                kept[key] = copy.deepcopy(asked[key])
            elif (
                before is not None
                and key in before
                and not (change is not None and change.act == "remove")
            ):
                kept[key] = before[key]
    return found


def client_renames(wanted: Content, current: Content) -> dict[str, str]:
    """The clients that ``current`` has under another name than ``wanted``, by the name in
    ``wanted``.

    A client is the same by its ``id``; its name in a file is made of what it is called, which may
    change.
    """
    names = {client["id"]: key for key, client in current.get("clients", {}).items()}
    return {
        key: names[client["id"]]
        for key, client in wanted.get("clients", {}).items()
        if names.get(client["id"], key) != key
    }


def with_renamed_clients(content: Content, renames: Mapping[str, str]) -> Content:
    """A content with other names of clients, and of them where they are named."""
    if not renames:
        return content
    renamed = dict(content)
    renamed["clients"] = {
        renames.get(key, key): client for key, client in content.get("clients", {}).items()
    }
    for kind in ("credentials", "connections"):
        renamed[kind] = {
            key: {**fields, "client": renames.get(fields["client"], fields["client"])}
            for key, fields in content.get(kind, {}).items()
        }
    return renamed


Result = tuple[Change | None, dict[str, Any] | None]
Making = Callable[..., Change]
_NEVER: dict[str, Any] = {}


def _one(
    kind: Kind,
    key: str,
    stands: dict[str, Any] | None,
    asked: dict[str, Any] | None,
    before: dict[str, Any] | None,
    line: int,
    prune: bool,
) -> Result:
    """One object: the change, and what stands after it.

    ``before`` is ``None`` where the base is not known, and empty where it was not in the base.
    """

    def change(act: str, *says: str) -> Change:
        return Change(kind.name, key, act, says, line)

    known = before is not None
    was = before or None
    if asked is None:
        return _left_out(kind, stands, was, known, prune, change)
    if stands is None:
        if was is not None and asked == was:
            return change(
                "kept",
                "it was removed meanwhile, and the file does not change it: it stays removed",
            ), None
        if was is not None:
            return change(
                "conflict", "it was removed meanwhile, and the file changes it: it stays removed"
            ), None
        return change("add", *_fields(kind, {}, asked)), asked
    if stands == asked:
        return None, stands
    if not known:
        return _changed(kind, stands, asked, change)
    old = was or full(kind, {})
    result, conflicts, kept = dict(stands), [], []
    for known_field in kind.fields:
        mine, theirs, origin = (
            asked[known_field.name],
            stands[known_field.name],
            old[known_field.name] if was is not None else None,
        )
        if mine == theirs:
            continue
        if was is not None and mine == origin:
            kept.append(known_field.name)
        elif was is None or theirs == origin:
            result[known_field.name] = mine
        else:
            conflicts.append(known_field.name)
    if was is None or conflicts:
        # Made anew meanwhile under the same name, or changed in the same place: nobody is
        # overwritten.
        names = conflicts or [
            known_field.name
            for known_field in kind.fields
            if stands[known_field.name] != asked[known_field.name]
        ]
        told = changes.in_words(
            {name: stands[name] for name in names}, {name: asked[name] for name in names}
        )
        return change(
            "conflict",
            "changed here meanwhile, and the file says otherwise; it stays as it is",
            *told,
        ), stands
    meanwhile = changes.in_words(
        {name: old[name] for name in kept}, {name: stands[name] for name in kept}
    )
    if result == stands:
        return (
            change("kept", "changed here meanwhile; stays", *meanwhile) if kept else None
        ), stands
    made, outcome = _changed(kind, stands, result, change)
    if kept and made is not None and made.act == "change":
        made = Change(
            made.kind,
            made.key,
            made.act,
            (*made.says, *(f"stays as changed here meanwhile: {in_word}" for in_word in meanwhile)),
            made.line,
        )
    return made, outcome


def _left_out(
    kind: Kind,
    stands: dict[str, Any] | None,
    was: dict[str, Any] | None,
    known: bool,
    prune: bool,
    change: Making,
) -> Result:
    if stands is None:
        return None, None
    if known and was is None:
        return change("kept", "it was added here meanwhile; it stays"), stands
    if known and stands != was:
        return change(
            "kept", "it is no longer in the file, but was changed here meanwhile; it stays"
        ), stands
    if prune:
        return change("remove", f"the {kind.word} is no longer in the file"), None
    return change("stay", "it is not in the file; it stays"), stands


def _changed(kind: Kind, stands: dict[str, Any], asked: dict[str, Any], change: Making) -> Result:
    fixed = [
        known_field.name
        for known_field in kind.fields
        if known_field.fixed and stands[known_field.name] != asked[known_field.name]
    ]
    if fixed:
        return change(
            "conflict",
            f"{', '.join(fixed)} of a {kind.word} cannot be changed; remove it and add another",
        ), stands
    return change("change", *_fields(kind, stands, asked)), asked


def _fields(kind: Kind, before: Mapping[str, Any], after: Mapping[str, Any]) -> list[str]:
    return changes.in_words(
        {
            known_field.name: before.get(known_field.name, known_field.default)
            for known_field in kind.fields
        },
        {known_field.name: after[known_field.name] for known_field in kind.fields},
    )
