"""``nlatch inventory``, asked of a desk."""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path
from typing import Any
from urllib.parse import quote

from neatlatch.client import LatchError
from neatlatch.exit_codes import ExitCode

from . import output, where
from .arguments import wants_json
from .desk import Desk, path_of

_LOOKS = 0.5


def export(arguments: argparse.Namespace) -> int:
    """Write the whole inventory."""
    text = where.desk_of(arguments).text("/inventory")
    if arguments.file is None:
        sys.stdout.write(text)
    else:
        arguments.file.write_text(text, encoding="utf-8")
    return ExitCode.DONE


def preview(arguments: argparse.Namespace, text: str) -> int:
    """Say what a file would change."""
    desk = where.desk_of(arguments)
    try:
        shown = desk.post("/inventory/previews", {"text": text, "prune": arguments.prune})
    except LatchError as error:
        return _mistaken(arguments, error)
    return tell(shown, arguments, preview=True)


def apply(arguments: argparse.Namespace, text: str) -> int:
    """Apply a file, and wait until all of it is applied."""
    desk = where.desk_of(arguments)
    try:
        shown = desk.post("/inventory/previews", {"text": text, "prune": arguments.prune})
        body = {"text": text, "prune": arguments.prune, "standing": shown["standing"]}
        begun = desk.post("/inventory/imports", body, _permission(arguments))
    except LatchError as error:
        return _mistaken(arguments, error)
    return _to_its_end(desk, begun["plan"], shown, arguments, ("conflict",))


def imports(arguments: argparse.Namespace) -> int:
    """List what was applied."""
    desk = where.desk_of(arguments)
    rows = list(desk.rows("/inventory/imports", 20))
    if wants_json(arguments):
        output.as_json(rows)
        return ExitCode.DONE
    if not rows:
        output.say("Nothing was applied yet.")
    for row in rows:
        undone = ", undone" if row["undone"] else ""
        undoes = f", undoes {row['undoes']}" if row["undoes"] else ""
        output.say(
            f"{row['id']}  {row['begun'][:16]}  {row['by']}: {row['state']}, "
            f"{row['done']:,} of {row['total']:,} applied{undone}{undoes}"
        )
        if row["problem"]:
            output.say(f"  {row['problem']}")
    return ExitCode.DONE


def undo(arguments: argparse.Namespace) -> int:
    """Undo an import, or say what that would change."""
    desk = where.desk_of(arguments)
    plan = path_of("inventory", "imports", str(arguments.plan))
    shown = desk.post(f"{plan}/undo-previews")
    if arguments.preview:
        return tell(shown, arguments, preview=True, left=("conflict", "kept"))
    body = {"standing": shown["standing"]}
    begun = desk.post(f"{plan}/undos", body, _permission(arguments))
    return _to_its_end(desk, begun["plan"], shown, arguments, ("conflict", "kept"))


def _permission(arguments: argparse.Namespace) -> dict[str, str]:
    """What is said with a change that sends what is held elsewhere."""
    if arguments.let_go:
        return {"Neatlatch-Held": "let-go"}
    if not arguments.reason:
        return {}
    return {"Neatlatch-Code": arguments.code(), "Neatlatch-Reason": quote(arguments.reason)}


def _to_its_end(
    desk: Desk, plan: Any, shown: Any, arguments: argparse.Namespace, left: tuple[str, ...]
) -> int:
    while plan is not None and plan["ended"] is None:
        time.sleep(_LOOKS)
        plan = desk.get(path_of("inventory", "imports", plan["id"]))
        print(f"{plan['done']:,} of {plan['total']:,} applied", file=sys.stderr)
    if plan is not None and plan["state"] == "stopped":
        output.complain(f"applying stopped. {plan['problem']}")
        return ExitCode.NO
    return tell(shown, arguments, preview=False, left=left, plan=plan)


def _mistaken(arguments: argparse.Namespace, error: LatchError) -> int:
    """Tell of each mistake in a file by its line; anything else is raised again."""
    mistakes = error.problem.get("mistakes")
    if not mistakes:
        raise error
    if wants_json(arguments):
        output.as_json({"title": error.title, "code": error.code, "mistakes": mistakes})
        return ExitCode.NO
    output.complain(error.title)
    for mistake in mistakes:
        at = f"{mistake['where']}: " if mistake["where"] else ""
        says = output.plain(f"{at}{mistake['says']}")
        print(f"{_names(arguments)}:{mistake['line']}: {says}", file=sys.stderr)
    return ExitCode.NO


def _names(arguments: argparse.Namespace) -> str:
    files: list[Path] = arguments.files
    return str(files[0]) if len(files) == 1 else "-"


def tell(
    shown: Any,
    arguments: argparse.Namespace,
    *,
    preview: bool,
    left: tuple[str, ...] = ("conflict",),
    plan: Any = None,
) -> int:
    """Print what is changed, or would be; return what the command ends with. ``left``: what is told
    of as left alone.
    """
    count = shown["adds"] + shown["changes_count"] + shown["removes"]
    stays = any(shown["conflicts" if act == "conflict" else act] for act in left)
    if wants_json(arguments):
        output.as_json({"preview": shown, "plan": plan})
        return ExitCode.LEFT if stays else ExitCode.DONE
    for change in shown["changes"]:
        output.say(f"{change['act']:<9} {change['kind']:<13} {change['key']}")
        for sentence in change["says"]:
            output.say(f"{'':<9} {'':<13}   {sentence}")
    if shown["more"]:
        output.say(f"and {shown['more']:,} more")
    output.say(
        f"{count} {'change' if count == 1 else 'changes'}{' would be made' if preview else ''}."
        if count
        else "Nothing to change."
    )
    return ExitCode.LEFT if stays else ExitCode.DONE
