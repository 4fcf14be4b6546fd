"""Writes docs/problems.md and what ``nlatch message`` reads: the codes of all problems, as they
are in the source.

``bin/types`` runs it; a test compares the page with the source. Run by hand:
``python -m docs.problem_codes``.
"""

from __future__ import annotations

import ast
import json
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

ROOT = Path(__file__).parents[1]
PAGE = ROOT / "docs/problems.md"
MESSAGES = ROOT / "neatlatch/remote/problems.json"
_BEGINNING = """# Problems and their codes

Every refusal of the API is a problem (RFC 9457): `status`, `title`, `detail`, and a `code`.
Programs go by the code: it stays when the words change. This page is written by `bin/types`, from
the source; “…” stands for a name or a number.

| code | status | what it says |
| --- | --- | --- |
"""


class Coded(NamedTuple):
    """One place where a problem is raised."""

    code: str
    status: int
    says: str
    detail: str


@cache
def found() -> list[Coded]:
    """Return all problems of the source, by code, each sentence once."""
    files = sorted((ROOT / "neatlatch").rglob("*.py"))
    places = (place for file in files for place in _in_source(file.read_text()))
    return sorted(set(places))


def page() -> str:
    """Return the page as it should be."""
    escaped, unknown = "\\|", "It depends on what was asked."
    rows: dict[str, list[Coded]] = {}
    for place in found():
        rows.setdefault(place.code, []).append(place)
    return _BEGINNING + "".join(
        f"| `{code}` | {_listed(str(place.status or '') for place in places)} "
        f"| {_listed(place.says.replace('|', escaped) for place in places) or unknown} |\n"
        for code, places in rows.items()
    )


def _listed(texts: Iterator[str]) -> str:
    return " / ".join(dict.fromkeys(text for text in texts if text))


def _in_source(text: str) -> Iterator[Coded]:
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Dict):
            keys = (key.value if isinstance(key, ast.Constant) else "" for key in node.keys)
            parts = dict(zip(keys, node.values, strict=True))
            if {"code", "status", "title"} <= set(parts):
                yield from _coded(
                    parts["code"], parts["status"], parts["title"], parts.get("detail")
                )
        elif isinstance(node, ast.Call):
            words = {word.arg: word.value for word in node.keywords}
            if "code" in words and len(node.args) > 1:
                detail = node.args[2] if len(node.args) > 2 else words.get("detail")
                yield from _coded(words["code"], node.args[0], node.args[1], detail)


def _coded(
    code: ast.expr, status: ast.expr, title: ast.expr, detail: ast.expr | None
) -> Iterator[Coded]:
    """What a place raises; nothing for a code that is passed on from elsewhere."""
    if isinstance(code, ast.Constant):
        number = status.value if isinstance(status, ast.Constant) else 0
        assert isinstance(number, int)
        yield Coded(str(code.value), number, _words(title), _words(detail))


def _words(node: ast.expr | None) -> str:
    """What a literal or an f-string says; what is filled in is “…”."""
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.JoinedStr):
        return "".join(
            str(part.value) if isinstance(part, ast.Constant) else "…" for part in node.values
        )
    return ""


def messages() -> str:
    """Return what ``nlatch message`` reads, as JSON."""
    told: dict[str, dict[str, Any]] = {}
    for place in found():
        entry = told.setdefault(place.code, {"status": place.status, "messages": []})
        message = {"title": place.says, "detail": place.detail}
        if message not in entry["messages"]:
            entry["messages"].append(message)
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
    MESSAGES.write_text(messages(), encoding="utf-8")
