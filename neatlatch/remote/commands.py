"""How a command that asks a desk is added to the command line."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import Any

from . import where
from .arguments import add_where
from .desk import Desk

# Carries a command out; returns what it ends with.
Run = Callable[[Desk, argparse.Namespace], int]


def group(commands: Any, name: str, says: str) -> Any:
    """Add a noun, below which acts are added."""
    parser = commands.add_parser(name, help=says, description=f"{says[:1].upper()}{says[1:]}.")
    return parser.add_subparsers(dest="act", required=True, metavar="ACT")


def add(commands: Any, name: str, says: str, run: Run, more: str = "") -> argparse.ArgumentParser:
    """Add a command that asks a desk; ``more`` is said in its own help only."""
    description = f"{says[:1].upper()}{says[1:]}. {more}".strip()
    parser: argparse.ArgumentParser = commands.add_parser(name, help=says, description=description)
    add_where(parser)

    def carry_out(arguments: argparse.Namespace) -> int:
        return run(where.desk_of(arguments), arguments)

    parser.set_defaults(run=carry_out)
    return parser
