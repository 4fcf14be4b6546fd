"""``nlatch decommission``: take something down cleanly."""

from __future__ import annotations

import argparse
from typing import Any

from neatlatch.client import NotFound
from neatlatch.exit_codes import ExitCode

from . import commands, output, workloads
from .arguments import wants_json
from .desk import Desk, path_of

_KINDS = {
    "connection": "connections",
    "client": "clients",
    "workload": "workloads",
    "application": "deployments",
}


def _begin(desk: Desk, arguments: argparse.Namespace) -> int:
    key = arguments.key
    if arguments.kind == "workload":
        key = str(workloads.find(desk, key)["id"])
    elif arguments.kind == "application" and "/" not in key:
        raise NotFound(f"{key} names no environment.", "It is application/environment.")
    found = desk.post("/decommissionings", {"of": _KINDS[arguments.kind], "key": key})
    return _go_on(desk, found, arguments)


def _continue(desk: Desk, arguments: argparse.Namespace) -> int:
    return _go_on(desk, desk.get(path_of("decommissionings", arguments.id)), arguments)


def _go_on(desk: Desk, found: Any, arguments: argparse.Namespace) -> int:
    """Go on as far as it goes, once its name confirms it."""
    if arguments.confirm and arguments.confirm != found["name"]:
        output.complain(f"to confirm it, give its name: {found['name']}.")
        return ExitCode.WRONG
    before = None
    while arguments.confirm and found["step"] and not found["gone"] and found != before:
        before = found
        found = _step(desk, found, arguments)
    return _tell(found, arguments)


def _step(desk: Desk, found: Any, arguments: argparse.Namespace) -> Any:
    """Do the next step, if it can be done; else return what was found."""
    path = path_of("decommissionings", found["id"])
    step, reason = found["step"], {"reason": arguments.reason}
    if step == "uses":
        return desk.post(f"{path}/confirmations", reason)
    if step == "revoke":
        # What must be done manually is done once somebody says so.
        doing = [
            item
            for item in found["left"]
            if item["how"] != "kept" and (item["how"] != "manually" or arguments.done)
        ]
        if not doing:
            return found
        return desk.post(f"{path}/revocations", {"key": doing[0]["key"]})
    if step == "prove":
        if found["proof"] and arguments.reason:
            return desk.post(f"{path}/exceptions", reason)
        return found if found["proof"] else desk.post(f"{path}/proofs")
    body = {"confirm": arguments.confirm, "with_also": arguments.with_also}
    return desk.post(f"{path}/completions", body)


def _list(desk: Desk, arguments: argparse.Namespace) -> int:
    rows = list(desk.rows("/decommissionings", 50, words=" ".join(arguments.words)))
    if wants_json(arguments):
        output.as_json(rows)
        return ExitCode.DONE
    output.table(
        (
            row["id"],
            row["of"],
            row["name"],
            "cancelled" if row["cancelled"] else "over" if row["ended"] else "under way",
        )
        for row in rows
    )
    return ExitCode.DONE


def _cancel(desk: Desk, arguments: argparse.Namespace) -> int:
    path = path_of("decommissionings", arguments.id)
    desk.delete(path)
    return _tell(desk.get(path), arguments)


def _tell(found: Any, arguments: argparse.Namespace) -> int:
    over = found["ended"] is not None
    if wants_json(arguments):
        output.as_json(found)
    else:
        state = "is over" if over else f"next: {found['step']}"
        output.say(f"{found['id']}: {found['name']}, {state}")
        for usage in found["usages"]:
            blocks = " It must be decommissioned or moved first." if usage["blocks"] else ""
            output.say(f"  {usage['kind']} {usage['name']}: {usage['says']}{blocks}")
        if found["obstacle"]:
            output.say(f"  {found['obstacle']}")
        for item in found["left"]:
            output.say(f"  to revoke, {item['how']}: {item['what']}. {item['says']}")
            for at, act in enumerate(item["acts"], start=1):
                output.say(f"    {at}. {act}")
        for text in (found["proof"], found["also"]):
            if text:
                output.say(f"  {text}")
        if not over and not arguments.confirm:
            output.say(f"  To go on, add --confirm “{found['name']}”.")
    return ExitCode.DONE if over else ExitCode.LEFT


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the commands."""
    acts = commands.group(
        parsers, "decommission", "take connections, clients, workloads and applications down"
    )
    more = "Without --confirm it only says what uses it. Ends with 3 while it is not over."
    one = commands.add(acts, "begin", "begin to decommission something", _begin, more)
    one.add_argument("kind", choices=list(_KINDS))
    one.add_argument(
        "key",
        help="a connection's reference, a client's ID, environment/workload, or "
        "application/environment",
    )
    _add_how(one)
    one = commands.add(acts, "continue", "go on with one", _continue, more)
    one.add_argument("id")
    _add_how(one)
    one = commands.add(acts, "list", "list what is decommissioned", _list)
    one.add_argument("words", nargs="*", help="words to filter by, as over:no")
    one = commands.add(acts, "cancel", "cancel one; what was revoked stays revoked", _cancel)
    one.add_argument("id")
    one.set_defaults(confirm="")


def _add_how(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--confirm", default="", metavar="NAME", help="its name: go on as far as it goes"
    )
    parser.add_argument(
        "--reason", default="", metavar="TEXT", help="why, where something still uses it"
    )
    parser.add_argument(
        "--done", action="store_true", help="what must be revoked manually was revoked"
    )
    parser.add_argument(
        "--with-also", action="store_true", help="with what may go together with it"
    )
