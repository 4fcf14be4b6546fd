"""The ``nlatch`` command line."""

from __future__ import annotations

import argparse
import getpass
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from neatlatch import __version__
from neatlatch.core import compute

_LARGEST_FILE = 5 * 2**20


def _compute(given: argparse.Namespace) -> int:
    if given.list:
        for op in sorted(compute.OPS.values(), key=lambda one: one.name):
            print(f"{op.name}\n    takes   {op.takes}\n    source  {op.source}")
        return 0
    if given.files is not None and not given.files.is_dir():
        print(f"nlatch: {given.files} is not a folder.", file=sys.stderr)
        return 2
    sys.stdin.reconfigure(encoding="utf-8", errors="replace")  # type: ignore[union-attr]
    for line in compute.answers(sys.stdin, _reader(given.files.resolve()) if given.files else compute.no_files):
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


def _django() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
    import django

    django.setup()


def _journal(given: argparse.Namespace) -> int:
    _django()
    from neatlatch.desk.journal import services
    from neatlatch.desk.journal.models import Entry

    fault = services.first_fault()
    if fault is not None:
        print(f"The journal does not hold. {fault}")
        return 1
    print(f"The journal holds: {Entry.objects.count()} entries, each with the hash of the one before.")
    return 0


def _person(given: argparse.Namespace) -> int:
    _django()
    from neatlatch.desk.common.problems import Problem
    from neatlatch.desk.people import services

    password = os.environ.get("NLATCH_PASSWORD") or getpass.getpass("Password: ")
    try:
        person = services.add(None, given.username, given.name, given.role, password)
    except Problem as problem:
        for text in problem.errors.values():
            print(f"nlatch: {text}", file=sys.stderr)
        return 2
    print(f"{person.username} can log in now, as {person.get_role_display()}.")
    return 0


def _acting(username: str) -> Any:
    """The person in whose name a command acts: named, or the only administrator there is."""
    from neatlatch.desk.people.models import Person, Role

    administrators = Person.objects.filter(role=Role.ADMINISTRATOR, is_active=True)
    found = administrators.filter(username=username).first() if username else None
    if found is None and not username and administrators.count() == 1:
        found = administrators.get()
    if found is None:
        print("nlatch: say with --as which administrator does this.", file=sys.stderr)
    return found


def _export(given: argparse.Namespace) -> int:
    _django()
    from neatlatch.desk.inventory import services

    by = _acting(given.person)
    if by is None:
        return 2
    text = services.export(by)
    if given.file is None:
        sys.stdout.write(text)
    else:
        given.file.write_text(text, encoding="utf-8")
    return 0


def _apply(given: argparse.Namespace) -> int:
    _django()
    from neatlatch.desk.common.problems import Problem
    from neatlatch.desk.inventory import services

    by = _acting(given.person)
    if by is None:
        return 2
    try:
        text = given.file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        print(f"nlatch: {given.file}: {getattr(error, 'strerror', None) or 'it is not UTF-8 text'}", file=sys.stderr)
        return 2
    try:
        found = services.preview(text, given.prune) if given.preview else services.apply(by, text, given.prune)
    except Problem as problem:
        print(f"nlatch: {problem.title}", file=sys.stderr)
        for one in problem.extra.get("mistakes", []):
            print(f"{given.file}:{one['line']}: {one['where'] + ': ' if one['where'] else ''}{one['says']}", file=sys.stderr)
        if not problem.extra.get("mistakes"):
            print(f"nlatch: {problem.detail}", file=sys.stderr)
        return 1
    for change in found.outcome.changes:
        if change.act != "stay":
            print(f"{change.act:<9} {change.kind:<13} {change.key}")
            for said in change.says:
                print(f"{'':<9} {'':<13}   {said}")
    count = sum(one.does for one in found.outcome.changes)
    print(f"{count} {'change' if count == 1 else 'changes'}{' would be made' if given.preview else ''}." if count else "Nothing to change.")
    return 3 if any(one.act == "conflict" for one in found.outcome.changes) else 0


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="nlatch", description="Neat Latch on the command line.")
    parser.add_argument("--version", action="version", version=f"nlatch {__version__}")
    commands = parser.add_subparsers(dest="command", required=True)

    one = commands.add_parser("compute", help="answer computations given as JSON lines on standard input",
                              description='Reads one JSON object a line, {"op": ..., ...}, and writes one answer a line. A bad line answers {"error": ...}.')  # fmt: skip
    one.add_argument("--files", type=Path, metavar="DIR", help="the folder that file names in the input are relative to")
    one.add_argument("--list", action="store_true", help="name each operation with its input and source")
    one.set_defaults(run=_compute)

    one = commands.add_parser("export", help="write the whole inventory as YAML, secrets by reference")
    one.add_argument("file", type=Path, nargs="?", help="where to write it (standard output)")
    one.add_argument("--as", dest="person", default="", metavar="LOGIN", help="the administrator who does this")
    one.set_defaults(run=_export)

    one = commands.add_parser("apply", help="apply an inventory file, as a whole or not at all",
                              description="Ends with 0 if all was applied, 1 if the file was refused, 3 if something stays because it was changed meanwhile by hand.")  # fmt: skip
    one.add_argument("file", type=Path)
    one.add_argument("--preview", action="store_true", help="only say what would change")
    one.add_argument("--prune", action="store_true", help="remove what the file no longer has")
    one.add_argument("--as", dest="person", default="", metavar="LOGIN", help="the administrator who does this")
    one.set_defaults(run=_apply)

    one = commands.add_parser("journal", help="check the journal")
    one.add_argument("act", choices=["check"], help="check the hash chain from end to end")
    one.set_defaults(run=_journal)

    one = commands.add_parser("person", help="add a person who can log in")
    one.add_argument("act", choices=["add"])
    one.add_argument("username")
    one.add_argument("--name", default="")
    one.add_argument("--role", default="reader", help="reader, operator, administrator or auditor")
    one.set_defaults(run=_person)
    return parser


def main(arguments: list[str] | None = None) -> int:
    """Run a command; answers its exit status."""
    given = _parser().parse_args(arguments)
    run: Callable[[argparse.Namespace], int] = given.run
    try:
        return run(given)
    except BrokenPipeError:  # whoever read us has enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0


if __name__ == "__main__":
    sys.exit(main())
