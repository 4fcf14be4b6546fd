"""Computations by JSON: one object in, one object out, so that a pipeline can check what it ships.

Each room of operations is a module that names its operations in a table ``OPS``; this module puts the tables together.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any

from . import (
    certificate_ops,
    header_ops,
    jose_ops,
    lifetime_ops,
    oauth1_ops,
    otp_ops,
    pkce_ops,
    planning_ops,
    properties_ops,
    redirect_ops,
    reply_ops,
    strength_ops,
)
from .op import BadInput, Op, Reader

_ROOMS = (
    pkce_ops, jose_ops, oauth1_ops, header_ops, redirect_ops, reply_ops, certificate_ops, properties_ops, planning_ops, otp_ops, strength_ops,
    lifetime_ops,
)  # fmt: skip
OPS: dict[str, Op] = {op.name: op for room in _ROOMS for op in room.OPS}


def no_files(name: str) -> bytes:
    """The reader while no folder was named."""
    raise BadInput(f"the input names a file ({name}); say with --files which folder it is in")


def answer(line: str, read: Reader = no_files) -> dict[str, Any]:
    """Answer one JSON line: ``{"answer": ...}`` or ``{"error": "what is wrong"}``. Never raises. ``read`` gives the content of a file by its name."""
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
    if wrong := op.wrong_name_in(given):
        return {"error": f"{name}: {wrong}"}
    try:
        return {"answer": op.run(given, read) if op.reads_files else op.run(given)}
    except (BadInput, ValueError) as error:
        return {"error": f"{name}: {error}"}
    except Exception as error:  # a fault of ours; the lines that follow are answered all the same
        return {"error": f"{name}: this input was not foreseen ({type(error).__name__}). Please report it."}


def answers(lines: Iterable[str], read: Reader = no_files) -> Iterator[str]:
    """One answer a line, in order. Blank lines are passed over."""
    for line in lines:
        if line.strip():
            yield _written(answer(line, read))


def _written(told: dict[str, Any]) -> str:
    """An answer as one line of JSON that UTF-8 can carry (RFC 8259 §8.1): a lone surrogate is escaped, and a number is finite (§6)."""
    try:
        line = json.dumps(told, ensure_ascii=False, allow_nan=False)
        line.encode()
    except UnicodeEncodeError:
        return json.dumps(told, allow_nan=False)
    except (ValueError, RecursionError) as error:
        return json.dumps({"error": f"the answer cannot be written as JSON: {error}"})
    return line


__all__ = ["OPS", "BadInput", "Op", "Reader", "answer", "answers", "no_files"]
