"""Several inventory files that are one import."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from . import reading
from .reading import MOST_MISTAKES, BadInventory, Inventory, Mistake, where_of
from .shape import KINDS, Content


@dataclass(frozen=True)
class InventoryFile:
    """One of the files of an import; its name is for mistakes."""

    name: str
    text: str


def read(files: Sequence[InventoryFile]) -> Inventory:
    """Read several files as one. Raises :class:`BadInventory` with the mistakes of all."""
    found: list[Inventory] = []
    mistakes: list[Mistake] = []
    for file in files:
        try:
            found.append(_of_file(reading.read(file.text), file.name if len(files) > 1 else ""))
        except BadInventory as error:
            mistakes += [replace(mistake, file=file.name) for mistake in error.mistakes]
    if not found and not mistakes:
        mistakes = [Mistake(1, "", "there is no file")]
    bases = {inventory.base for inventory in found}
    if len(bases) > 1:
        says = "files of one import are all made from the same export, or none of them is"
        mistakes.append(Mistake(1, "base", says))
    content: Content = {kind.name: {} for kind in KINDS}
    lines: dict[tuple[str, str], int] = {}
    named: dict[tuple[str, str], str] = {}
    for inventory in found:
        for kind, objects in inventory.content.items():
            for key in objects.keys() & content[kind].keys():
                says = f"it is in {named[kind, key]} already, line {lines[kind, key]}"
                at = inventory.lines[kind, key]
                mistakes.append(
                    Mistake(at, where_of((kind, key)), says, inventory.files[kind, key])
                )
            content[kind] |= objects
        lines |= inventory.lines
        named |= inventory.files
    if mistakes:
        raise BadInventory(mistakes[:MOST_MISTAKES])
    return Inventory(
        content,
        bases.pop(),
        lines,
        tuple(reference for inventory in found for reference in inventory.references),
        named,
        {key: names for inventory in found for key, names in inventory.said.items()},
        tuple(lacks for inventory in found for lacks in inventory.lacking),
    )


def _of_file(inventory: Inventory, name: str) -> Inventory:
    """An inventory whose objects are known to be in a file (empty: the only one)."""
    if not name:
        return inventory
    files = dict.fromkeys(inventory.lines, name)
    lacking = tuple(replace(lacks, file=name) for lacks in inventory.lacking)
    return replace(inventory, files=files, lacking=lacking)
