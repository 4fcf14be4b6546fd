"""Arguments that every command has that asks a desk."""

from __future__ import annotations

import argparse
from pathlib import Path


def add_where(parser: argparse.ArgumentParser) -> None:
    """Add the arguments that say where and who."""
    group = parser.add_argument_group("where")
    group.add_argument(
        "--url",
        dest="desk_url",
        default=argparse.SUPPRESS,
        metavar="ADDRESS",
        help="the desk's address (NLATCH_URL; or where you are logged in; or port 8600 of this "
        "machine)",
    )
    group.add_argument(
        "--token-file",
        type=Path,
        default=argparse.SUPPRESS,
        metavar="FILE",
        help="a file with a program's token (NLATCH_TOKEN_FILE, or the token in NLATCH_TOKEN)",
    )
    group.add_argument(
        "--ca",
        default=argparse.SUPPRESS,
        metavar="FILE",
        help="certificate authorities of your own, in PEM (NLATCH_CA)",
    )
    group.add_argument(
        "--json",
        action="store_true",
        default=argparse.SUPPRESS,
        help="answer in JSON, for programs",
    )


def wants_json(arguments: argparse.Namespace) -> bool:
    """Whether the answer is for a program."""
    return bool(getattr(arguments, "json", False))
