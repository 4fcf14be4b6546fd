"""``nlatch message``: what a problem's code means."""

from __future__ import annotations

import argparse
import difflib
import json
from pathlib import Path
from typing import Any

from neatlatch.exit_codes import ExitCode

from . import output

# Written by bin/types, from the source.
FILE = Path(__file__).with_name("problems.json")


def _problems() -> dict[str, Any]:
    found: dict[str, Any] = json.loads(FILE.read_text(encoding="utf-8"))
    return found


def _message(arguments: argparse.Namespace) -> int:
    problems = _problems()
    if not arguments.code:
        for code in problems:
            output.say(code)
        return ExitCode.DONE
    found = problems.get(arguments.code)
    if found is None:
        near = difflib.get_close_matches(arguments.code, problems, 3)
        also = f" Is it {' or '.join(near)}?" if near else " “nlatch message” lists them."
        output.complain(f"there is no code {arguments.code[:60]}.{also}")
        return ExitCode.NOT_FOUND
    if arguments.json:
        output.as_json({"code": arguments.code, **found})
        return ExitCode.DONE
    output.say(f"{arguments.code} (status {found['status'] or 'as it fits'})")
    for message in found["messages"]:
        output.say(f"  {message['title'] or 'What it says depends on what was asked.'}")
        if message["detail"]:
            output.say(f"    {message['detail']}")
    return ExitCode.DONE


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the command."""
    one = parsers.add_parser(
        "message",
        help="say what a problem's code means, and what to do",
        description="Say what a problem's code means, and what to do. Without a code, list them.",
    )
    one.add_argument("code", nargs="?", default="", help="as token-forbids")
    one.add_argument("--json", action="store_true", help="answer in JSON, for programs")
    one.set_defaults(run=_message)
