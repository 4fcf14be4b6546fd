"""Writes docs/roles.md: who may do what, from the table that the tests hold every operation to.

``bin/types`` runs it; a test compares the page with the table. Run by hand: ``python -m
docs.roles``.
"""

from __future__ import annotations

import re
from pathlib import Path

ROOT = Path(__file__).parents[1]
PAGE = ROOT / "docs/roles.md"
TABLE = ROOT / "tests/desk/who_may.txt"
# What the table's words mean: how it is called, who may by role, and by which right a program may.
_KINDS = {
    "look": ("look", ("reader", "operator", "administrator", "auditor"), "read"),
    "test": ("test", ("operator", "administrator"), "test"),
    "change": ("change", ("administrator",), "change"),
    "secrets": ("put secrets in", ("administrator",), "put-secrets"),
    "both": ("paste into intake", ("administrator",), "change and put-secrets"),
    "people": ("people", ("administrator",), "people"),
    "journal": ("journal", ("administrator", "auditor"), "read"),
    "own": ("one's own log-in", ("reader", "operator", "administrator", "auditor"), ""),
    "anybody": ("without logging in", ("reader", "operator", "administrator", "auditor"), ""),
}
_ROLES = ("reader", "operator", "administrator", "auditor")
_BEGINNING = """# Who may do what

Written by `bin/types`, from the table that a test holds every operation of the API to: each as each
role, as a program with each right, and as nobody. What needs several rights is named so.

"""
_END = """
Programs have further rights for what is no operation of the API: *draw*, to draw and relay for the
workloads that they name, and *metrics*, for `/metrics`. *test*, *change* and *put-secrets* include
*read*. A program may be held to environments, and then sees and changes only what is in them.

A person who works at the command line ([The command line](commands.md)) may what their role allows,
and the rights that they gave it allow, too.

## Operations
"""


def operations() -> dict[str, list[tuple[str, bool]]]:
    """Return the operations of each kind, and whether only a person may."""
    found: dict[str, list[tuple[str, bool]]] = {kind: [] for kind in _KINDS}
    for line in TABLE.read_text(encoding="utf-8").splitlines():
        if read := re.fullmatch(r"(\w+)(\*?)\s+(\w+ \S+)", line):
            found[read[1]].append((read[3], bool(read[2])))
    return found


def page() -> str:
    """Return the page as it should be."""
    known = {kind: names for kind, names in operations().items() if names}
    head = " | ".join(_KINDS[kind][0] for kind in known)
    lines = [f"| | {head} |", f"| --- |{' --- |' * len(known)}"]
    for role in _ROLES:
        may = " | ".join("yes" if role in _KINDS[kind][1] else "" for kind in known)
        lines.append(f"| {role} | {may} |")
    rights = " | ".join(
        f"*{_KINDS[kind][2]}*" if _KINDS[kind][2] else "yes" if kind == "anybody" else ""
        for kind in known
    )
    lines.append(f"| a program, with the right | {rights} |")
    text = _BEGINNING + "\n".join(lines) + "\n" + _END
    for kind, names in known.items():
        word = _KINDS[kind][0]
        text += f"\n### {word[:1].upper()}{word[1:]}\n\n"
        for name, person in names:
            text += f"- `{name}`{' (a person only)' if person else ''}\n"
    return text


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
