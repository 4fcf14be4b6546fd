"""``nlatch inventory``, asked of a desk."""

from __future__ import annotations

import argparse
import sys
import time
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


# Names of files, and their texts.
Files = list[tuple[str, str]]


def _body(files: Files, arguments: argparse.Namespace) -> dict[str, Any]:
    told = [{"name": name, "text": text} for name, text in files]
    return {"files": told, "prune": arguments.prune}


def preview(arguments: argparse.Namespace, files: Files) -> int:
    """Say what files would change."""
    desk = where.desk_of(arguments)
    try:
        shown = desk.post("/inventory/previews", _body(files, arguments))
    except LatchError as error:
        return _mistaken(arguments, error, files)
    return tell(shown, arguments, preview=True)


def apply(arguments: argparse.Namespace, files: Files) -> int:
    """Apply files, and wait until all of them are applied."""
    desk = where.desk_of(arguments)
    try:
        shown = desk.post("/inventory/previews", _body(files, arguments))
        body = {**_body(files, arguments), "standing": shown["standing"]}
        begun = desk.post("/inventory/imports", body, _permission(arguments))
    except LatchError as error:
        return _mistaken(arguments, error, files)
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


def _mistaken(arguments: argparse.Namespace, error: LatchError, files: Files) -> int:
    """Tell of each mistake in files by its line; anything else is raised again."""
    mistakes = error.problem.get("mistakes")
    if not mistakes:
        raise error
    if wants_json(arguments):
        output.as_json({"title": error.title, "code": error.code, "mistakes": mistakes})
        return ExitCode.NO
    output.complain(error.title)
    tell_mistakes(mistakes, files)
    return ExitCode.NO


def tell_mistakes(mistakes: list[Any], files: Files) -> None:
    """Print mistakes as compilers do: file, line, what is wrong."""
    for mistake in mistakes:
        at = f"{mistake['where']}: " if mistake["where"] else ""
        file = mistake["file"] or files[0][0]
        print(output.plain(f"{file}:{mistake['line']}: {at}{mistake['says']}"), file=sys.stderr)


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
