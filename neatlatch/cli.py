"""The ``nlatch`` command line."""

from __future__ import annotations

import argparse
import os
import sys
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any

from neatlatch import (
    __version__,
    cli_names,
    cli_people,
    cli_programs,
    cli_safe,
    cli_serve,
)
from neatlatch.core import compute
from neatlatch.exit_codes import ExitCode
from neatlatch.local_desk import NoDesk, set_up
from neatlatch.remote import completion, messages, output
from neatlatch.remote.arguments import add_where

_LARGEST_FILE = 5 * 2**20
_MOST_SHOWN = 50


def _compute(arguments: argparse.Namespace) -> int:
    if arguments.list:
        for op in sorted(compute.all_ops().values(), key=lambda op: op.name):
            print(f"{op.name}\n    takes   {op.takes}\n    source  {op.source}")
        return 0
    if arguments.files is not None and not arguments.files.is_dir():
        print(f"nlatch: {arguments.files} is not a folder.", file=sys.stderr)
        return 2
    sys.stdin.reconfigure(encoding="utf-8", errors="replace")  # type: ignore[union-attr]
    for line in compute.answers(
        sys.stdin, _reader(arguments.files.resolve()) if arguments.files else compute.no_files
    ):
        print(line, flush=True)
    return 0


def _reader(folder: Path) -> Callable[[str], bytes]:
    """Reads the files that an input names, from one folder and nowhere else."""

    def read(name: str) -> bytes:
        file = (folder / name).resolve()
        if not file.is_relative_to(folder):
            raise compute.BadInput(f"{name} is not in the folder that --files names")
        try:
            if file.stat().st_size > _LARGEST_FILE:
                raise compute.BadInput(f"{name} is larger than {_LARGEST_FILE // 2**20} MiB")
            return file.read_bytes()
        except OSError as error:
            raise compute.BadInput(f"{name}: {error.strerror}") from error

    return read


def _schema(arguments: argparse.Namespace) -> int:
    from neatlatch.core import json_schemas

    output.as_json(json_schemas.BY_FILE[arguments.file]())
    return ExitCode.DONE


def _summaries(arguments: argparse.Namespace) -> int:
    set_up()
    from itertools import chain

    from neatlatch.desk.estate.connections import summaries
    from neatlatch.desk.ground.common import settling
    from neatlatch.desk.work.credentials import standing_out

    if arguments.act == "anew":
        settling.mark_all()
        print(f"{settling.catch_up():,} summaries were calculated again.")
        return 0
    settling.catch_up()
    count = 0
    for count, said in enumerate(
        chain(summaries.differences(), standing_out.differences()), start=1
    ):
        if count <= _MOST_SHOWN:
            print(said)
    print(
        f"{count:,} {'difference' if count == 1 else 'differences'}."
        if count
        else "Every summary is up to date."
    )
    return 1 if count else 0


def _demo_fill(arguments: argparse.Namespace) -> int:
    set_up(makes=True)
    from django.core.management import call_command

    from neatlatch.demo import fill

    call_command("migrate", verbosity=0)
    try:
        stand = fill.fill(
            arguments.count,
            lambda stand: print(f"{stand:,} of {arguments.count:,} connections", flush=True),
        )
    except fill.FillRefused as refused:
        print(f"nlatch: {refused}", file=sys.stderr)
        return 1
    print(f"{stand:,} connections stand.")
    return 0


def _serve_desk(arguments: argparse.Namespace) -> int:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
    import uvicorn

    from neatlatch.desk.ground import serving

    config = serving.config(arguments.host, arguments.port)
    config.load()  # before any loop runs: the desk looks into its database as it starts
    if arguments.processes > 1:
        return serving.run_several(arguments.host, arguments.port, arguments.processes)
    server = uvicorn.Server(config)
    server.run()
    return 0 if server.started else 3


def _serve_tls_listener(arguments: argparse.Namespace) -> int:
    set_up(serves=True)
    from neatlatch.desk.estate.records.applications.models import Environment
    from neatlatch.desk.ground.common.problems import Problem
    from neatlatch.desk.pages.drawing.tls_listener import TlsListener

    environment = Environment.objects.filter(key=arguments.environment).first()
    if environment is None:
        print(f"nlatch: there is no environment “{arguments.environment}”.", file=sys.stderr)
        return 2
    try:
        listener = TlsListener(environment, tuple(arguments.name or ["localhost", "127.0.0.1"]))
    except Problem as problem:
        print(f"nlatch: {' '.join(problem.errors.values()) or problem.title}", file=sys.stderr)
        return 2
    listener.run(arguments.host, arguments.port)
    return 0


def parser(first: str = "") -> argparse.ArgumentParser:
    """The command line. ``first``: the first word, where no more of it is needed than for that."""
    root = argparse.ArgumentParser(prog="nlatch", description="Neat Latch on the command line.")
    root.add_argument("--version", action="version", version=f"nlatch {__version__}")
    add_where(root)
    commands = root.add_subparsers(dest="command", required=True)

    one = commands.add_parser(
        "compute",
        help="answer computations given as JSON lines on standard input",
        description=(
            'Reads one JSON object a line, {"op": ..., ...}, and writes one answer a line. A '
            'bad line answers {"error": ...}.'
        ),
    )
    one.add_argument(
        "--files",
        type=Path,
        metavar="DIR",
        help="the folder that file names in the input are relative to",
    )
    one.add_argument(
        "--list", action="store_true", help="name each operation with its input and source"
    )
    one.set_defaults(run=_compute)

    one = commands.add_parser(
        "desk",
        help="serve the pages and the API alone; “serve” starts all that is needed",
        description=(
            "Plain HTTP, for a loopback address or behind a proxy that ends TLS "
            "(NEATLATCH_PROXY). Ctrl-C stops it."
        ),
    )
    one.add_argument("--port", type=int, default=8600)
    one.add_argument("--host", default="127.0.0.1", help="the address it listens on (127.0.0.1)")
    one.add_argument(
        "--processes",
        type=_processes,
        default=1,
        metavar="N",
        help="how many processes serve it, for more draws a second than one can answer (1)",
    )
    one.set_defaults(run=_serve_desk)

    one = commands.add_parser(
        "tls-listener",
        help="serve the desk over TLS, where workloads may draw with a certificate of the house",
        description=(
            "Its own certificate is one of the house's, renewed by itself. Ctrl-C stops it."
        ),
    )
    one.add_argument("--port", type=int, default=8601)
    one.add_argument("--host", default="127.0.0.1", help="the address it listens on (127.0.0.1)")
    one.add_argument(
        "--name",
        action="append",
        help="a name or address that it is called by; may be repeated (localhost, 127.0.0.1)",
    )
    one.add_argument(
        "--environment",
        default="production",
        help="whose authority issues its certificate (production)",
    )
    one.set_defaults(run=_serve_tls_listener)

    one = commands.add_parser(
        "schema",
        help="print the JSON Schema of an inventory file or a profile, for editors",
        description="Print the JSON Schema (2020-12) of a file. A desk serves the same at "
        "/schemas/inventory.json and /schemas/profile.json.",
    )
    one.add_argument("file", choices=["inventory", "profile"])
    one.set_defaults(run=_schema)

    messages.add_to(commands)
    completion.add_to(commands, parser)
    cli_names.add_to(commands)
    cli_safe.add_to(commands)

    one = commands.add_parser(
        "summaries",
        help="compare what lists show with a fresh calculation, or calculate all again",
        description=(
            "check: ends with 1 where a connection's summary is not what would be worked out "
            "now. anew: the desk goes on serving."
        ),
    )
    one.add_argument("act", choices=["check", "anew"])
    one.set_defaults(run=_summaries)

    one = commands.add_parser(
        "demo-fill",
        help="fill a desk with thousands of made-up connections",
        description="The same ones for the same number, with two "
        "credentials each, and three workloads "
        "and two applications for ten. Going on where it was "
        "stopped. Serve such a desk with NEATLATCH_ROUND_MINUTES=0: nobody listens at their "
        "addresses. Ends with 1 where the desk holds other things.",
    )
    one.add_argument(
        "count", type=_count, metavar="N", help="how many connections there are to be in the end"
    )
    one.set_defaults(run=_demo_fill)

    cli_people.add_to(commands)
    cli_programs.add_to(commands)
    cli_serve.add_to(commands)
    if first not in commands.choices and first != "--version":
        _add_those_that_ask(commands)
    return root


def _add_those_that_ask(commands: Any) -> None:
    """Add the commands that may ask a desk over the network. What they import takes longer than
    most other commands do.
    """
    from neatlatch import cli_inventory
    from neatlatch.remote import (
        connections,
        decommissioning,
        draws,
        login,
        replacing,
        rounds,
        workloads,
    )

    for module in (
        cli_inventory,
        draws,
        connections,
        workloads,
        replacing,
        decommissioning,
        rounds,
        login,
    ):
        module.add_to(commands)


def _processes(text: str) -> int:
    """A number of processes. Raises ``ValueError``, which argparse tells."""
    count = int(text)
    if not 1 <= count <= 32:
        raise argparse.ArgumentTypeError("between 1 and 32")
    return count


def _count(text: str) -> int:
    """A number of made-up connections; argparse tells what is wrong with it."""
    count = int(text) if text.isdecimal() else 0
    if not 1 <= count <= 100_000:
        raise argparse.ArgumentTypeError("give a whole number between 1 and 100,000")
    return count


def main(arguments: list[str] | None = None) -> int:
    """Run a command; returns its exit status. Whatever goes wrong is said in a sentence."""
    words = sys.argv[1:] if arguments is None else arguments
    chosen = parser(words[0] if words else "").parse_args(words)
    run: Callable[[argparse.Namespace], int] = chosen.run
    try:
        return run(chosen)
    except NoDesk as error:
        output.complain(str(error))
        return ExitCode.WRONG
    except BrokenPipeError:  # anyone who read us has enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return ExitCode.DONE
    except KeyboardInterrupt:
        output.complain("stopped.")
        return 130
    except Exception as error:
        if os.environ.get("NLATCH_TRACEBACK"):
            traceback.print_exc()
        return _failed(error)


def _failed(error: Exception) -> int:
    """Say in a sentence why: a desk refused, a file cannot be read, or a fault of ours."""
    from neatlatch.client import LatchError
    from neatlatch.remote import refusals

    if isinstance(error, LatchError):
        return refusals.tell(error)
    if isinstance(error, OSError) and error.filename:
        output.complain(f"{error.filename}: {error.strerror}.")
        return ExitCode.WRONG
    output.complain(
        f"this failed: {type(error).__name__}: {error}. NLATCH_TRACEBACK=1 shows where."
    )
    return ExitCode.FAULT


if __name__ == "__main__":
    sys.exit(main())
