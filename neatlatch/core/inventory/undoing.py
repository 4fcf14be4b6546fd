"""What the undo of an import leaves in place, because something that stays uses it."""

from __future__ import annotations

from dataclasses import replace

from .merging import Outcome
from .reading import names_in
from .shape import Content


def keep_what_is_used(outcome: Outcome, current: Content) -> None:
    """Change each removal of an outcome into *kept* where an object that stays names the removed
    one.

    ``current`` is everything as it is now. What a kept object names is kept, too.
    """
    removed = {(change.kind, change.key) for change in outcome.changes if change.act == "remove"}
    used_by: dict[tuple[str, str], tuple[str, str]] = {}
    while removed:
        used = {
            (kind, key): path
            for kind, key, path in names_in(outcome.content)
            if (kind, key) in removed
        }
        if not used:
            break
        for (kind, key), path in used.items():
            outcome.content[kind][key] = current[kind][key]
            used_by[kind, key] = (str(path[0]), str(path[1]))
        removed -= used.keys()
    for at, change in enumerate(outcome.changes):
        if user := used_by.get((change.kind, change.key)):
            says = f"still used by {user[0]} → {user[1]}, which stays; it stays, too"
            outcome.changes[at] = replace(change, act="kept", says=(says,))
