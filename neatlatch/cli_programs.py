"""``nlatch program``: programs that call the API with tokens of their own, for anyone who runs the
machine.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

from neatlatch.core.program_tokens import ProgramRight
from neatlatch.remote.inputs import new_private_file


def _add(arguments: argparse.Namespace) -> int:
    from django.utils import timezone

    from neatlatch.desk.authority.house import programs
    from neatlatch.desk.estate.credentials import services as credentials
    from neatlatch.desk.estate.lookups import find_environment
    from neatlatch.desk.ground.common.problems import Problem
    from neatlatch.local_desk import acting

    by = acting(arguments.person)
    if by is None:
        return 2
    file: Path | None = arguments.token_file
    # Opened first, so that no token is made that has nowhere to go; nobody else may read it, from
    # its first moment on.
    try:
        out = new_private_file(file) if file is not None else sys.stdout
    except OSError as error:
        print(f"nlatch: {file}: {error.strerror}. Name another file.", file=sys.stderr)
        return 2
    ends = timezone.now() + timedelta(days=arguments.days) if arguments.days else None
    fields = programs.ProgramFields(
        arguments.name,
        arguments.right,
        arguments.only_in or None,
        arguments.come_from,
        arguments.owner,
        arguments.draw_for,
        arguments.return_to,
    )
    try:
        environment = find_environment(arguments.environment)
        _, handover = programs.register(by, environment, fields, ends)
    except Problem:
        if file is not None:
            out.close()
            file.unlink()
        raise
    _, token = credentials.show(by, handover)
    print(token, file=out)
    if file is not None:
        out.close()
        print(f"The token of {arguments.name} is in {file}.")
    credentials.close(by, handover)
    return 0


def _list(arguments: argparse.Namespace) -> int:
    from django.utils import timezone

    from neatlatch.desk.authority.house import programs

    now = timezone.now()
    for client in programs.with_tokens().order_by("name"):
        hints = " ".join(token.hint for token in programs.valid_tokens(client, now))
        print(f"{client.name:<30} {hints or 'none valid':<14} {', '.join(client.scopes)}")
    return 0


def _revoke(arguments: argparse.Namespace) -> int:
    from neatlatch.desk.authority.house import issuing
    from neatlatch.desk.estate.records.clients.models import ProgramClient
    from neatlatch.desk.ground.common.actors import MACHINE
    from neatlatch.desk.ground.common.problems import not_found

    client = ProgramClient.objects.filter(name=arguments.name).first()
    if client is None:
        raise not_found("program")
    issuing.revoke_all(MACHINE, client, arguments.why)
    print(f"Every token of {client.name} is refused from now on.")
    return 0


ACTS: dict[str, tuple[str, Callable[[argparse.Namespace], int]]] = {
    "add": ("register a program, and print its first token once", _add),
    "list": ("programs, with their valid tokens and their rights", _list),
    "revoke": ("revoke every token of a program", _revoke),
}


def _run(arguments: argparse.Namespace) -> int:
    from neatlatch.local_desk import set_up

    set_up()
    from neatlatch.desk.ground.common.problems import Problem

    try:
        done: int = arguments.do(arguments)
    except Problem as problem:
        for text in problem.errors.values() or [f"{problem.title} {problem.detail}"]:
            print(f"nlatch: {text}", file=sys.stderr)
        return 2
    return done


def add_to(commands: Any) -> None:
    """Add ``nlatch program`` to the command line."""
    top = commands.add_parser("program", help="programs that call the API with tokens of their own")
    acts = top.add_subparsers(dest="act", required=True, metavar="ACT")
    for name, (says, do) in ACTS.items():
        parser = acts.add_parser(name, help=says, description=f"{says[:1].upper()}{says[1:]}.")
        parser.set_defaults(run=_run, do=do)
        if name != "list":
            parser.add_argument("name")
        if name == "revoke":
            parser.add_argument("--why", default="revoked by command", metavar="TEXT")
        if name != "add":
            continue
        parser.add_argument("--environment", required=True, metavar="KEY", help="where it runs")
        parser.add_argument(
            "--right",
            action="append",
            default=[],
            help=f"{', '.join(ProgramRight)}; may be given several times",
        )
        parser.add_argument(
            "--only-in",
            action="append",
            default=[],
            metavar="KEY",
            help="an environment that its rights hold for; unless given: all",
        )
        parser.add_argument(
            "--from",
            dest="come_from",
            action="append",
            default=[],
            metavar="NETWORK",
            help="an address or a network that it may come from; unless given: any",
        )
        parser.add_argument(
            "--draw-for",
            action="append",
            default=[],
            metavar="ENVIRONMENT/WORKLOAD",
            help="a workload that it draws for, with the right draw; may be given several times",
        )
        parser.add_argument(
            "--return-to",
            action="append",
            default=[],
            metavar="ADDRESS",
            help="where it may have people sent back to who connect an account; may be repeated",
        )
        parser.add_argument("--owner", default="", metavar="NAME")
        parser.add_argument(
            "--days", type=int, default=0, help="days until the token expires; unless given: 180"
        )
        parser.add_argument(
            "--token-file",
            type=Path,
            metavar="FILE",
            help="write the token there, for its owner only, in place of printing it",
        )
        parser.add_argument(
            "--as", dest="person", default="", metavar="LOGIN", help="the administrator who does it"
        )
