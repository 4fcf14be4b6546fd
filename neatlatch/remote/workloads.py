"""``nlatch workload``: jobs, reports, scripts and agents, and what they draw with."""

from __future__ import annotations

import argparse
import re
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from neatlatch.client import NotFound
from neatlatch.exit_codes import ExitCode

from . import commands, output
from .arguments import wants_json
from .desk import Desk, path_of
from .inputs import new_private_file


def _list(desk: Desk, arguments: argparse.Namespace) -> int:
    rows = list(desk.rows("/workloads", words=" ".join(arguments.words)))
    if wants_json(arguments):
        output.as_json(rows)
        return ExitCode.DONE
    output.table(
        (f"{row['environment']['key']}/{row['name']}", row["kind"], row["owner"], row["warning"])
        for row in rows
    )
    if not rows:
        output.say("No workload fits.")
    return ExitCode.DONE


def _add(desk: Desk, arguments: argparse.Namespace) -> int:
    environment, name = split(arguments.workload)
    body = {
        "name": name,
        "environment": environment,
        "kind": arguments.kind,
        "owner": arguments.owner,
        "runs": arguments.runs,
    }
    found = desk.post("/workloads", body)
    for use in arguments.uses:
        ref, _, operations = use.partition("=")
        sent = {"connection": ref, "operations": [one for one in operations.split(",") if one]}
        found = desk.post(path_of("workloads", found["id"], "uses"), sent)
    if wants_json(arguments):
        output.as_json(found)
        return ExitCode.DONE
    output.say(f"{environment}/{name} is added.")
    for warning in found["warnings"]:
        output.say(f"  {warning['says']}")
    return ExitCode.DONE


def _remove(desk: Desk, arguments: argparse.Namespace) -> int:
    desk.delete(path_of("workloads", find(desk, arguments.workload)["id"]))
    output.say(f"{arguments.workload} is removed.")
    return ExitCode.DONE


def _key(desk: Desk, arguments: argparse.Namespace) -> int:
    found = find(desk, arguments.workload)
    file: Path | None = arguments.key_file
    try:
        # Opened first, so that no key is made that has nowhere to go.
        out = new_private_file(file) if file is not None else sys.stdout
    except OSError as error:
        output.complain(f"{file}: {error.strerror}. Name another file.")
        return ExitCode.WRONG
    body: dict[str, Any] = {"right": arguments.right, "addresses": arguments.come_from}
    if arguments.days:
        body["ends"] = (datetime.now(UTC) + timedelta(days=arguments.days)).isoformat()
    try:
        made = desk.post(path_of("workloads", found["id"], "keys"), body)
        handover = path_of("handovers", made["handover"])
        shown = desk.post(f"{handover}/revelations")
    except BaseException:
        if file is not None:
            out.close()
            file.unlink()
        raise
    if wants_json(arguments) and file is None:
        output.as_json({"workload": arguments.workload, "key": shown["value"]})
    else:
        print(shown["value"], file=out, flush=True)
    if file is not None:
        out.close()
        output.say(f"The key of {arguments.workload} is in {file}.")
    desk.post(f"{handover}/confirmations")
    return ExitCode.DONE


def split(workload: str) -> tuple[str, str]:
    """Return environment and name of a workload. Raises :class:`~neatlatch.client.NotFound`."""
    environment, slash, name = workload.partition("/")
    if not slash or not name:
        raise NotFound(f"{workload} names no workload.", "It is environment/name.")
    return environment, name


def find(desk: Desk, workload: str) -> Any:
    """Return the row of a workload. Raises :class:`~neatlatch.client.NotFound`."""
    environment, name = split(workload)
    found = desk.the_one(
        "/workloads",
        f"the workload {workload}",
        lambda row: row["name"] == name,
        words=f"env:{environment} {_longest_word(name)}",
    )
    if found is None:
        raise NotFound(f"There is no workload {workload}.", "“nlatch workload list” lists them.")
    return found


def _longest_word(name: str) -> str:
    """A word that a list can be filtered by, whatever signs the name holds."""
    return max(re.findall(r"\w+", name), key=len, default="")


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the commands."""
    acts = commands.group(parsers, "workload", "workloads, and the keys that they draw with")
    one = commands.add(acts, "list", "list workloads", _list)
    one.add_argument("words", nargs="*", help="words to filter by, as env:production kind:job")

    one = commands.add(acts, "add", "add a workload", _add)
    one.add_argument("workload", help="environment/name, as “production/Nightly export”")
    one.add_argument("--kind", default="job", help="job, report, script or agent (job)")
    one.add_argument("--owner", default="", metavar="NAME")
    one.add_argument("--runs", default="", metavar="WHEN", help="as “daily 02:00”")
    one.add_argument(
        "--uses",
        action="append",
        default=[],
        metavar="REF=OPERATION,…",
        help="a connection that it calls, as “production/cargo-manifests=GET /manifests”",
    )

    one = commands.add(acts, "key", "give a workload a key of its own, and print it once", _key)
    one.add_argument("workload", help="environment/name")
    one.add_argument(
        "--right",
        choices=["relay", "draw"],
        default="relay",
        help="relay: requests through the relay only; draw: take headers, too (relay)",
    )
    one.add_argument(
        "--from",
        dest="come_from",
        action="append",
        default=[],
        metavar="NETWORK",
        help="an address or a network that it may come from; unless given: any",
    )
    one.add_argument("--days", type=int, default=0, help="days until it expires; unless given: 180")
    one.add_argument(
        "--key-file",
        type=Path,
        metavar="FILE",
        help="write the key there, for its owner only, in place of printing it",
    )

    one = commands.add(acts, "remove", "remove a workload", _remove)
    one.add_argument("workload", help="environment/name")
