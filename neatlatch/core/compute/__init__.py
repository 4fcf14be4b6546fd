"""Computations by JSON: one object in, one object out, so that a pipeline can check what it ships.

Each room of operations is a module that names its operations in a table ``OPS``; this module puts the tables together.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any

from . import pkce_ops, redirect_ops, reply_ops
from .op import BadInput, Op

OPS: dict[str, Op] = {op.name: op for room in (pkce_ops, redirect_ops, reply_ops) for op in room.OPS}


def answer(line: str) -> dict[str, Any]:
    """Answer one JSON line: ``{"answer": ...}`` or ``{"error": "what is wrong"}``. Never raises."""
    try:
        given = json.loads(line)
    except (ValueError, RecursionError) as error:
        return {"error": f"not a JSON value: {error}"}
    if not isinstance(given, dict):
        return {"error": 'not a JSON object; one like {"op": "pkce_challenge", ...} is wanted'}
    name = given.get("op")
    op = OPS.get(name) if isinstance(name, str) else None
    if op is None:
        return {"error": f"op {name!r} is not known; --list names those that are"}
    try:
        return {"answer": op.run(given)}
    except (BadInput, ValueError) as error:
        return {"error": f"{name}: {error}"}


def answers(lines: Iterable[str]) -> Iterator[str]:
    """One answer a line, in order. Blank lines are passed over."""
    for line in lines:
        if line.strip():
            yield json.dumps(answer(line), ensure_ascii=False)


__all__ = ["OPS", "BadInput", "Op", "answer", "answers"]
