"""``nlatch journal``, asked of a desk."""

from __future__ import annotations

import argparse
from typing import Any

from neatlatch.exit_codes import ExitCode

from . import output, where
from .arguments import wants_json


def entries(arguments: argparse.Namespace) -> int:
    """List entries, newest first."""
    desk = where.desk_of(arguments)
    rows = list(desk.rows("/journal", arguments.most, words=" ".join(arguments.words)))
    if wants_json(arguments):
        output.as_json(rows)
        return ExitCode.DONE
    output.table(
        (row["number"], row["at"][:19], row["who"], f"{row['did']} {row['noun']}", row["ref"])
        for row in rows
    )
    return ExitCode.DONE


def check(arguments: argparse.Namespace) -> int:
    """Have the newest entries, the anchor and the triggers checked."""
    found: Any = where.desk_of(arguments).get("/journal/chain")
    if wants_json(arguments):
        output.as_json(found)
    elif found["holds"]:
        output.say(
            f"The journal holds: {found['entries']} entries, looked at from "
            f"{found['looked_from']} on."
        )
    else:
        output.say(f"The journal does not hold. {found['fault']}")
    return ExitCode.DONE if found["holds"] else ExitCode.NO
