"""``nlatch inventory`` and ``nlatch journal``: on the desk's own machine, or asked of a desk from
anywhere.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any
from uuid import UUID

from neatlatch import cli_people
from neatlatch.exit_codes import ExitCode
from neatlatch.remote import inventory, journal, output, where
from neatlatch.remote.arguments import add_where

_LARGEST = 32 * 1024 * 1024
_ENDINGS = (".yaml", ".yml")
# Names of files, and their texts.
Files = list[tuple[str, str]]


def _read_all(paths: list[Path]) -> Files:
    """Read inventory files, and those in folders. Raises ``OSError``, or ``ValueError`` with what
    is wrong.
    """
    files: Files = []
    for path in paths:
        if str(path) == "-":
            files.append(("standard input", sys.stdin.read(_LARGEST + 1)))
        elif path.is_dir():
            found = [file for file in sorted(path.rglob("*")) if file.suffix in _ENDINGS]
            if not found:
                raise ValueError(f"{path}: no file in it ends in {' or '.join(_ENDINGS)}")
            files += [(str(file), _text_of(file)) for file in found]
        else:
            files.append((str(path), _text_of(path)))
    if sum(len(text) for _, text in files) > _LARGEST:
        raise ValueError(f"more than {_LARGEST // 2**20} MiB is not read in one import")
    return files


def _text_of(file: Path) -> str:
    if file.stat().st_size > _LARGEST:
        raise ValueError(f"{file}: it is larger than {_LARGEST // 2**20} MiB")
    try:
        return file.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise ValueError(f"{file}: it is not UTF-8 text") from error


def _with_files(
    remotely: Callable[[argparse.Namespace, Files], int],
    here: Callable[[argparse.Namespace, Files], int],
) -> Callable[[argparse.Namespace], int]:
    """A command that reads files first."""

    def run(arguments: argparse.Namespace) -> int:
        try:
            files = _read_all(arguments.files)
        except ValueError as error:
            output.complain(str(error))
            return ExitCode.WRONG
        return (remotely if _is_remote(arguments) else here)(arguments, files)

    return run


def _is_remote(arguments: argparse.Namespace) -> bool:
    return not getattr(arguments, "person", "") and where.is_remote(arguments)


def _either(
    remotely: Callable[[argparse.Namespace], int], here: Callable[[argparse.Namespace], int]
) -> Callable[[argparse.Namespace], int]:
    return lambda arguments: (remotely if _is_remote(arguments) else here)(arguments)


# On the machine itself


def _export(arguments: argparse.Namespace) -> int:
    from neatlatch.local_desk import acting, set_up

    set_up()
    from neatlatch.desk.work.inventory import services

    by = acting(arguments.person)
    if by is None:
        return ExitCode.WRONG
    text = services.export(by)
    if arguments.file is None:
        sys.stdout.write(text)
    else:
        arguments.file.write_text(text, encoding="utf-8")
    return ExitCode.DONE


def _preview(arguments: argparse.Namespace, files: Files) -> int:
    def preview(services: Any, by: Any) -> Any:
        return services.preview(_as_files(files), arguments.prune, by)

    return _of_file(arguments, preview, files)


def _as_files(files: Files) -> Any:
    from neatlatch.core.inventory.several_files import InventoryFile

    return [InventoryFile(name, text) for name, text in files]


def _import(arguments: argparse.Namespace, files: Files) -> int:
    def apply(services: Any, by: Any) -> Any:
        leave = _leave(by, arguments)
        begun = services.begin(by, _as_files(files), arguments.prune, leave=leave)
        if begun.plan is not None and begun.plan.is_open:
            services.to_its_end(begun.plan, _progress)
        return begun.preview

    return _of_file(arguments, apply, files)


def _of_file(arguments: argparse.Namespace, do: Callable[[Any, Any], Any], files: Files) -> int:
    from neatlatch.local_desk import acting, set_up

    set_up()
    from neatlatch.desk.ground.common.problems import Problem
    from neatlatch.desk.work.inventory import services

    by = acting(arguments.person)
    if by is None:
        return ExitCode.WRONG
    try:
        shown = do(services, by)
    except Problem as problem:
        mistakes = problem.extra.get("mistakes", [])
        output.complain(problem.title if mistakes else f"{problem.title} {problem.detail}")
        inventory.tell_mistakes(mistakes, files)
        return ExitCode.NO
    return _tell(shown, arguments, preview=arguments.act == "preview")


def _tell(
    shown: Any,
    arguments: argparse.Namespace,
    *,
    preview: bool,
    left: tuple[str, ...] = ("conflict",),
) -> int:
    """Print a preview as it is printed remotely."""
    from dataclasses import asdict

    from neatlatch.desk.pages.inventory import preview_out

    return inventory.tell(asdict(preview_out(shown)), arguments, preview=preview, left=left)


def _imports(arguments: argparse.Namespace) -> int:
    from neatlatch.local_desk import set_up

    set_up()
    from neatlatch.desk.work.inventory import blocks
    from neatlatch.desk.work.inventory.models import ImportPlan

    if arguments.go_on:
        blocks.go_on(_progress)
    for plan in ImportPlan.objects.all()[:20]:
        undone = ", undone" if plan.undone else ""
        undoes = f", undoes {plan.undoes_id}" if plan.undoes_id else ""
        print(
            f"{plan.pk}  {plan.begun:%Y-%m-%d %H:%M} UTC  {plan.who}: {plan.state}, "
            f"{plan.done:,} of {plan.total:,} applied{undone}{undoes}"
        )
        if plan.problem:
            print(f"  {plan.problem}")
    return ExitCode.DONE


def _undo(arguments: argparse.Namespace) -> int:
    from neatlatch.local_desk import acting, set_up

    set_up()
    from neatlatch.desk.ground.common.problems import Problem
    from neatlatch.desk.work.inventory import services
    from neatlatch.desk.work.inventory.models import ImportPlan

    by = acting(arguments.person)
    if by is None:
        return ExitCode.WRONG
    plan = ImportPlan.objects.filter(pk=arguments.plan).first()
    if plan is None:
        print(
            f"nlatch: there is no import {arguments.plan}; “nlatch inventory list” lists them.",
            file=sys.stderr,
        )
        return ExitCode.NOT_FOUND
    try:
        if arguments.preview:
            shown = services.undo_preview(plan, by)
        else:
            begun = services.undo(by, plan, leave=_leave(by, arguments))
            if begun.plan is not None:
                services.to_its_end(begun.plan, _progress)
            shown = begun.preview
    except Problem as problem:
        print(f"nlatch: {problem.title}\nnlatch: {problem.detail}", file=sys.stderr)
        return ExitCode.NO
    return _tell(shown, arguments, preview=arguments.preview, left=("conflict", "kept"))


def _progress(plan: Any) -> None:
    print(f"{plan.done:,} of {plan.total:,} applied", file=sys.stderr)


def _code() -> str:
    return cli_people.read_secret("Code of the second factor: ", "NLATCH_CODE")


def _leave(by: Any, arguments: argparse.Namespace) -> Any:
    from neatlatch.desk.estate.connections import destinations

    code = _code() if arguments.reason else ""
    return destinations.leave(by, code, arguments.reason, arguments.let_go)


def _journal_check(arguments: argparse.Namespace) -> int:
    from neatlatch.local_desk import set_up

    set_up()
    from neatlatch.desk.ground.journal import services

    verdict = (
        services.check(whole=not arguments.recent, anchor=arguments.anchor)
        if arguments.recent or arguments.anchor
        else services.check_and_record()
    )
    if verdict.fault is not None:
        print(f"The journal does not hold. {verdict.fault}")
        return ExitCode.NO
    looked = (
        "each with the code of the one before"
        if verdict.looked_from == 1
        else f"looked at from {verdict.looked_from} on"
    )
    print(f"The journal holds: {verdict.entries} entries, {looked}.")
    return ExitCode.DONE


def _journal_anchor(arguments: argparse.Namespace) -> int:
    from neatlatch.local_desk import set_up

    set_up()
    from neatlatch.desk.ground.journal import services

    print(services.anchor() or "There is no anchor yet: the journal is empty.")
    return ExitCode.DONE


# The command line

_WHERE = (
    "With --url or a token it is asked of a desk from anywhere; else it is done on the desk's own "
    "machine."
)


def _parser(acts: Any, name: str, says: str, more: str = "") -> argparse.ArgumentParser:
    description = f"{says[:1].upper()}{says[1:]}. {more} {_WHERE}".replace("  ", " ")
    parser: argparse.ArgumentParser = acts.add_parser(name, help=says, description=description)
    add_where(parser)
    return parser


def _add_person(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--as",
        dest="person",
        default="",
        metavar="LOGIN",
        help="on the machine itself: the administrator who does this",
    )


def _add_permission(parser: argparse.ArgumentParser) -> None:
    """Add what is said with a change that sends secrets elsewhere."""
    parser.add_argument(
        "--reason",
        default="",
        metavar="TEXT",
        help=(
            "why secrets may go to a new place, with a code of the second factor (asked for, or "
            "NLATCH_CODE)"
        ),
    )
    parser.add_argument(
        "--let-go",
        action="store_true",
        help="discard stored secrets that would go to a new destination",
    )
    parser.set_defaults(code=_code)


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the commands."""
    top = parsers.add_parser(
        "inventory",
        help="export the inventory, preview a file, import it, undo an import",
        description="The inventory as a file, secrets by reference.",
    )
    acts = top.add_subparsers(dest="act", required=True, metavar="ACT")

    one = _parser(acts, "export", "write the whole inventory as YAML, secrets by reference")
    one.add_argument("file", type=Path, nargs="?", help="where to write it (standard output)")
    _add_person(one)
    one.set_defaults(run=_either(inventory.export, _export))

    for name, says, more, run in (
        (
            "preview",
            "say what files would change, object by object",
            "Ends with 1 if they have mistakes, 3 if something would stay because it was "
            "changed here meanwhile.",
            _with_files(inventory.preview, _preview),
        ),
        (
            "import",
            "apply files",
            "What is small is applied as a whole or not at all, what is large in blocks. Ends "
            "with 0 if all was applied, 1 if it was refused or a block failed, 3 if something "
            "stays because it was changed here meanwhile.",
            _with_files(inventory.apply, _import),
        ),
    ):
        one = _parser(acts, name, says, more)
        one.add_argument(
            "files",
            type=Path,
            nargs="+",
            metavar="FILE",
            help="files, or folders with files, that are one import; - is standard input",
        )
        one.add_argument("--prune", action="store_true", help="remove what the file no longer has")
        _add_person(one)
        if name == "import":
            _add_permission(one)
        one.set_defaults(run=run)

    one = _parser(acts, "list", "list what was applied, newest first")
    one.add_argument(
        "--go-on",
        action="store_true",
        help="on the machine itself: first go on with one whose process was killed",
    )
    one.set_defaults(run=_either(inventory.imports, _imports))

    one = _parser(
        acts,
        "undo",
        "undo an import, by its stored steps; what was changed since stays",
        "Ends with 0 if all was undone, 1 if it was refused, 3 if something stays because it was "
        "changed since, or is still used.",
    )
    one.add_argument(
        "plan", type=UUID, metavar="ID", help="the import; “nlatch inventory list” lists them"
    )
    one.add_argument("--preview", action="store_true", help="only say what would change")
    _add_person(one)
    _add_permission(one)
    one.set_defaults(run=_either(inventory.undo, _undo))

    top = parsers.add_parser(
        "journal",
        help="list the journal, check it, or print its anchor",
        description="Who did what, never changed afterwards.",
    )
    acts = top.add_subparsers(dest="act", required=True, metavar="ACT")
    one = _parser(acts, "list", "list entries, newest first")
    one.add_argument("words", nargs="*", help="words of who, what and name")
    one.add_argument("--most", type=int, default=50, metavar="N", help="at most so many (50)")
    one.set_defaults(run=journal.entries)
    one = _parser(
        acts,
        "check",
        "check the journal",
        "The chain, its anchor and the database's triggers; ends with 1 if the journal does not "
        "hold. Asked of a desk, it checks the newest entries.",
    )
    one.add_argument(
        "--anchor",
        default="",
        metavar="LINE",
        help="an anchor that was kept elsewhere, to be found in the journal",
    )
    one.add_argument(
        "--recent",
        action="store_true",
        help="only from the last checkpoint on, at most a thousand entries",
    )
    one.set_defaults(run=_either(journal.check, _journal_check))
    one = acts.add_parser(
        "anchor",
        help="print the journal's anchor, on the machine itself",
        description="Print one line that names the newest entry, to be kept where nobody who can "
        "write to the database can change it.",
    )
    one.set_defaults(run=_journal_anchor)
