"""``nlatch replace``: one credential by another, in the usual order."""

from __future__ import annotations

import argparse
from typing import Any

from neatlatch.client import NotFound
from neatlatch.exit_codes import ExitCode

from . import commands, output
from .arguments import wants_json
from .connections import ref_in
from .desk import Desk, path_of
from .inputs import secret_from

# The acts of a replacement, by the step that they do; what is watched does itself.
_STEPS = {
    "make": "new-credentials",
    "prove": "proofs",
    "switch": "switches",
    "retire": "retirements",
    "refuse": "refusal-proofs",
}


def _credential(desk: Desk, reference: str, key: str) -> str:
    """Return the ID of the credential that a connection holds; without a key, of the one that its
    requests are made with. Raises :class:`~neatlatch.client.NotFound`.
    """
    secrets = [
        secret
        for secret in ref_in(desk, reference)["secrets"]
        if secret["held"] and (secret["key"] == key if key else secret["sent"])
    ]
    if len(secrets) != 1:
        keys = ", ".join(secret["key"] for secret in secrets)
        raise NotFound(
            f"{reference} holds {'no such secret' if not secrets else f'several: {keys}'}.",
            "Name it with --key." if secrets else "“nlatch connection status” says what it holds.",
        )
    return str(secrets[0]["held"])


def _preview(desk: Desk, arguments: argparse.Namespace) -> int:
    identity = _credential(desk, arguments.ref, arguments.key)
    found = desk.get(path_of("credentials", identity, "replacement-previews"))
    if wants_json(arguments):
        output.as_json(found)
        return ExitCode.DONE
    for way in found["ways"]:
        output.say(f"{way['way']}: {'side by side' if way['overlaps'] else 'one after the other'}")
        for sentence in way["says"]:
            output.say(f"  {sentence}")
    if not found["ways"]:
        output.say("It cannot be replaced: it is no longer in use.")
    return ExitCode.DONE if found["ways"] else ExitCode.LEFT


def _run(desk: Desk, arguments: argparse.Namespace) -> int:
    """Go on as far as it can go by itself."""
    identity = _credential(desk, arguments.ref, arguments.key)
    previews = desk.get(path_of("credentials", identity, "replacement-previews"))
    if previews["open"]:
        found = desk.get(path_of("replacements", previews["open"]))
    else:
        ways = [way["way"] for way in previews["ways"]]
        way = arguments.way or (ways[0] if len(ways) == 1 else "")
        if not way:
            output.complain(f"say with --way which: {', '.join(ways) or 'there is none'}.")
            return ExitCode.WRONG
        begun = path_of("credentials", identity, "replacements")
        found = desk.post(begun, {"way": way})
    return _go_on(desk, found, arguments)


def _continue(desk: Desk, arguments: argparse.Namespace) -> int:
    return _go_on(desk, desk.get(path_of("replacements", arguments.id)), arguments)


def _go_on(desk: Desk, found: Any, arguments: argparse.Namespace) -> int:
    done = ""
    while found["outcome"] == "open":
        step = next((step for step in found["steps"] if step["state"] == "now"), None)
        if step is None or step["key"] == done:
            break
        # It is watched for a while whether anybody uses the old one, unless that does not matter.
        doing = "retire" if step["key"] == "watch" and arguments.anyway else step["key"]
        if doing not in _STEPS or (doing == "retire" and not arguments.retire):
            break
        body: dict[str, Any] | None = None
        if doing == "make":
            if found["way"] == "hand" and not arguments.new:
                break
            body = {"value": secret_from(arguments.new) if found["way"] == "hand" else ""}
        elif doing == "retire":
            body = {"anyway": arguments.anyway}
        done = step["key"]
        found = desk.post(path_of("replacements", found["id"], _STEPS[doing]), body)
    return _tell(found, arguments)


def _status(desk: Desk, arguments: argparse.Namespace) -> int:
    return _tell(desk.get(path_of("replacements", arguments.id)), arguments)


def _moved(desk: Desk, arguments: argparse.Namespace) -> int:
    path = path_of("replacements", arguments.id, "workload-changes")
    return _tell(desk.post(path, {"name": arguments.workload, "moved": True}), arguments)


def _roll_back(desk: Desk, arguments: argparse.Namespace) -> int:
    return _tell(desk.post(path_of("replacements", arguments.id, "rollbacks")), arguments)


def _tell(found: Any, arguments: argparse.Namespace) -> int:
    if wants_json(arguments):
        output.as_json(found)
    else:
        output.say(f"{found['id']}: {found['outcome']}. {found['said']}".rstrip())
        marks = {"done": "done", "now": "next", "waits": ""}
        output.table(
            (f"  {marks[step['state']]}", step["title"], step["says"]) for step in found["steps"]
        )
        for at, act in enumerate(found["acts"], start=1):
            output.say(f"  {at}. {act}")
        if found["acts"]:
            output.say(f"  Then: nlatch replace continue {found['id']} --new FILE")
        for workload in found["workloads"]:
            if not workload["moved"]:
                output.say(f"  {workload['name']} still has the old one.")
    return ExitCode.LEFT if found["outcome"] == "open" else ExitCode.DONE


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the commands."""
    acts = commands.group(parsers, "replace", "replace credentials, old and new side by side")
    for name, says, run in (
        ("preview", "say what replacing a credential would do, by each way", _preview),
        ("begin", "begin to replace a credential, and go on as far as it goes by itself", _run),
    ):
        one = commands.add(acts, name, says, run, "Ends with 3 while it is not finished.")
        one.add_argument("ref", help="the connection that holds it, as production/cargo-manifests")
        one.add_argument("--key", default="", help="which of its secrets, where it holds several")
        if name == "begin":
            one.add_argument("--way", default="", help="house, protocol or hand; see “preview”")
            _add_retiring(one)
    one = commands.add(
        acts,
        "continue",
        "go on with a replacement",
        _continue,
        "Ends with 3 while it is not finished.",
    )
    one.add_argument("id")
    _add_retiring(one)
    one = commands.add(acts, "status", "say how far a replacement is", _status)
    one.add_argument("id")
    one = commands.add(acts, "moved", "record that a workload has the new one", _moved)
    one.add_argument("id")
    one.add_argument("workload", help="its name")
    one = commands.add(acts, "roll-back", "put the old one back", _roll_back)
    one.add_argument("id")


def _add_retiring(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--new",
        default="",
        metavar="FILE",
        help="a file with the new one, where it is made manually; - is standard input",
    )
    parser.add_argument(
        "--retire", action="store_true", help="retire the old one, too, as soon as nobody uses it"
    )
    parser.add_argument(
        "--anyway",
        action="store_true",
        help="retire it at once, without waiting whether somebody still uses it",
    )
