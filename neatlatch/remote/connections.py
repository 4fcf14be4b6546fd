"""``nlatch connection`` and ``nlatch secret``."""

from __future__ import annotations

import argparse
import time
from typing import Any

from neatlatch.client import NotFound
from neatlatch.exit_codes import ExitCode

from . import commands, output
from .arguments import wants_json
from .desk import Desk, path_of
from .inputs import secret_from_pipe

# Seconds between two looks at what is waited for.
_LOOKS = 1.0


def _list(desk: Desk, arguments: argparse.Namespace) -> int:
    rows = list(desk.rows("/connections", arguments.most, words=" ".join(arguments.words)))
    if wants_json(arguments):
        output.as_json(rows)
        return ExitCode.DONE
    output.table(
        (row["ref"], row["state"].replace("_", " "), row["application_name"], row["glyph"]["says"])
        for row in rows
    )
    if not rows:
        output.say("No connection fits.")
    return ExitCode.DONE


def _status(desk: Desk, arguments: argparse.Namespace) -> int:
    path = path_of("connections", arguments.ref)
    found = desk.get(path)
    if arguments.until:
        found = _wait_until(desk, path, arguments.until, arguments.timeout, found)
    shown = _shown(found)
    if wants_json(arguments):
        output.as_json(shown)
    else:
        _tell(shown)
    if arguments.until:
        return ExitCode.DONE if found["state"] == arguments.until else ExitCode.TIMED_OUT
    return ExitCode.DONE if found["state"] == "latched" else ExitCode.NO


def _wait_until(desk: Desk, path: str, state: str, timeout: float, found: Any) -> Any:
    """Look again and again until a connection is in a state, or the time is over."""
    until = time.monotonic() + timeout
    while found["state"] != state and time.monotonic() < until:
        time.sleep(min(_LOOKS, max(until - time.monotonic(), 0)))
        found = desk.get(path)
    return found


def _shown(found: Any) -> dict[str, Any]:
    """What of a connection answers “how is it?”."""
    return {
        "ref": found["ref"],
        "state": found["state"],
        "latches": found["latches"],
        "tested_at": found["tested_at"],
        "next_break": found["next_break"],
        "missing": [secret["key"] for secret in found["secrets"] if not secret["hint"]],
        "pins": [
            {name: pin[name] for name in ("key", "label", "fit", "provider", "caller", "why")}
            for pin in found["pins"]
        ],
    }


def _tell(shown: dict[str, Any]) -> None:
    tested = f", tested {shown['tested_at']}" if shown["tested_at"] else ""
    output.say(f"{shown['ref']}: {shown['state'].replace('_', ' ')}{tested}")
    output.table((f"  {pin['label']}", pin["fit"], pin["why"]) for pin in shown["pins"])
    for key in shown["missing"]:
        output.say(f"  The value “{key}” is not put in: nlatch secret put {shown['ref']} {key}")
    if shown["next_break"]:
        output.say(f"  {shown['next_break']}")


def _test(desk: Desk, arguments: argparse.Namespace) -> int:
    path = path_of("connections", arguments.ref, "tests")
    found = desk.post(path, last=arguments.last)
    until = time.monotonic() + arguments.timeout
    while found["state"] in ("waiting", "running"):
        if time.monotonic() >= until:
            output.complain(f"the test {found['id']} goes on; it was waited for in vain.")
            return ExitCode.TIMED_OUT
        time.sleep(0.2)
        found = desk.get(path_of("tests", found["id"]))
    if wants_json(arguments):
        output.as_json(found)
    else:
        output.ladder(
            (
                (rung["rung"], rung["passed"], rung["skipped"], rung["says"])
                for rung in found["rungs"]
            ),
            (cause["says"] for cause in (found["diagnosis"] or {}).get("causes", [])),
        )
    return ExitCode.DONE if found["passed"] else ExitCode.NO


def _put(desk: Desk, arguments: argparse.Namespace) -> int:
    text = secret_from_pipe()
    if not text:
        output.complain("the secret is read from standard input: nlatch secret put REF KEY < file")
        return ExitCode.WRONG
    body = {"key": arguments.key, "secret": text, "ends": arguments.expires or None}
    found = desk.post(path_of("connections", arguments.ref, "secrets"), body)
    held = next((secret for secret in found["secrets"] if secret["key"] == arguments.key), None)
    notes = found.get("notes", {}).get(arguments.key, [])
    if wants_json(arguments):
        output.as_json({"ref": found["ref"], "secret": held, "notes": notes})
        return ExitCode.DONE
    output.say(f"{found['ref']}: {arguments.key} {held['hint'] if held else ''} is put in.")
    for note in notes:
        output.say(f"  {note}")
    return ExitCode.DONE


def ref_in(desk: Desk, reference: str) -> Any:
    """Return a connection by its reference. Raises :class:`~neatlatch.client.NotFound`."""
    if "/" not in reference:
        raise NotFound(
            f"{reference} is no reference.", f"It is environment/name, as production/{reference}."
        )
    return desk.get(path_of("connections", reference))


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the commands."""
    acts = commands.group(parsers, "connection", "look at connections, and test them")
    one = commands.add(acts, "list", "list connections", _list)
    one.add_argument(
        "words", nargs="*", help="words to filter by, as state:unlatched env:production cargo"
    )
    one.add_argument("--most", type=int, default=0, metavar="N", help="at most so many (all)")

    one = commands.add(
        acts,
        "status",
        "say how a connection is, pin by pin",
        _status,
        "Ends with 0 if it is latched, else with 1; with --until with 7 if it did not become so in "
        "time.",
    )
    one.add_argument("ref", help="the reference, as production/cargo-manifests")
    one.add_argument(
        "--until",
        choices=["latched", "sticking", "unlatched", "not_proven"],
        help="wait until it is in this state",
    )
    _add_timeout(one)

    one = commands.add(
        acts,
        "test",
        "test a connection, and wait for the result",
        _test,
        "Ends with 0 if it works, 1 if it does not.",
    )
    one.add_argument("ref", help="the reference, as production/cargo-manifests")
    one.add_argument("--last", default="", metavar="RUNG", help="stop after this rung")
    _add_timeout(one)

    acts = commands.group(parsers, "secret", "put secrets in")
    one = commands.add(
        acts, "put", "put a secret in, read from standard input", _put, "It is never an argument."
    )
    one.add_argument("ref", help="the connection, as production/cargo-manifests")
    one.add_argument("key", help="which secret, as client_secret; “connection status” names them")
    one.add_argument("--expires", metavar="DATE", help="when it ends, as 2027-03-31T00:00:00Z")


def _add_timeout(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--timeout",
        type=float,
        default=300.0,
        metavar="SECONDS",
        help="how long to wait at most (300)",
    )
