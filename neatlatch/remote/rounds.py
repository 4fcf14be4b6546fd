"""``nlatch round``."""

from __future__ import annotations

import argparse
import time
from typing import Any

from neatlatch.exit_codes import ExitCode

from . import commands, output
from .arguments import wants_json
from .desk import Desk, path_of

_LOOKS = 1.0


def _begin(desk: Desk, arguments: argparse.Namespace) -> int:
    found = desk.post("/rounds")
    if not arguments.wait:
        return _tell(found, arguments)
    return _wait(desk, found, arguments)


def _wait(desk: Desk, found: Any, arguments: argparse.Namespace) -> int:
    until = time.monotonic() + arguments.timeout
    while found["ended"] is None:
        if time.monotonic() >= until:
            _tell(found, arguments)
            return ExitCode.TIMED_OUT
        time.sleep(_LOOKS)
        found = desk.get(path_of("rounds", str(found["number"])))
    _tell(found, arguments)
    return ExitCode.NO if found["failed"] or found["stopped"] else ExitCode.DONE


def _status(desk: Desk, arguments: argparse.Namespace) -> int:
    path = path_of("rounds", str(arguments.number))
    found = desk.get(path)
    failed = list(desk.rows(f"{path}/tests", words="state:failed"))
    if wants_json(arguments):
        output.as_json({**found, "failures": failed})
    else:
        _tell(found, arguments)
        output.table((f"  {row['connection']}", row["says"]) for row in failed)
    return ExitCode.NO if found["failed"] else ExitCode.DONE


def _list(desk: Desk, arguments: argparse.Namespace) -> int:
    rows = list(desk.rows("/rounds", arguments.most))
    if wants_json(arguments):
        output.as_json(rows)
    else:
        output.table(_row(row) for row in rows)
    return ExitCode.DONE


def _stop(desk: Desk, arguments: argparse.Namespace) -> int:
    return _tell(desk.post(path_of("rounds", str(arguments.number), "stops")), arguments)


def _row(row: Any) -> tuple[object, ...]:
    state = "stopped" if row["stopped"] else "ended" if row["ended"] else "runs"
    tests = f"{row['done']} of {row['total']} tested, {row['failed']} failed"
    return row["number"], row["begun"], state, tests, row["begun_by"]


def _tell(found: Any, arguments: argparse.Namespace) -> int:
    if wants_json(arguments):
        output.as_json(found)
    else:
        output.table([_row(found)])
    return ExitCode.DONE


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the commands."""
    acts = commands.group(parsers, "round", "rounds of tests over all connections")
    one = commands.add(
        acts,
        "begin",
        "begin a round now",
        _begin,
        "With --wait it ends with 1 where a test failed.",
    )
    one.add_argument("--wait", action="store_true", help="wait until it has ended")
    one.add_argument(
        "--timeout", type=float, default=3600.0, metavar="SECONDS", help="at most (3600)"
    )
    one = commands.add(acts, "list", "list rounds, newest first", _list)
    one.add_argument("--most", type=int, default=20, metavar="N", help="at most so many (20)")
    for name, says, run in (
        ("status", "say how a round is, and what failed in it", _status),
        ("stop", "stop a round", _stop),
    ):
        one = commands.add(acts, name, says, run)
        one.add_argument("number", type=int)
