"""The ``nlatch`` command line."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any
from uuid import UUID

from neatlatch import (
    __version__,
    cli_names,
    cli_people,
    cli_programs,
    cli_safe,
    cli_serve,
    locations,
)
from neatlatch.core import compute

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


class NoDesk(Exception):
    """A command finds no desk on this machine; the message says what to do."""


def _check_home() -> None:
    """Look for the desk before its settings do, which make its folder. Raises :class:`NoDesk`."""
    home = Path(os.environ.get("NEATLATCH_HOME") or locations.default_home())
    if not (home / "desk.sqlite3").is_file():
        raise NoDesk(
            f"there is no desk in {home}. Set NEATLATCH_HOME to its folder; that of a demo "
            f"is var/demo/PORT."
        )


def set_up(serves: bool = False, makes: bool = False) -> None:
    """Set the desk up in this process, so that its services can be called.

    A command tells its log only what is wrong; a program that ``serves`` tells more.

    ``makes``: the command may make the desk that it works on. Raises :class:`NoDesk`.
    """
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
    os.environ.setdefault("NEATLATCH_LOG", "INFO" if serves else "WARNING")
    import django
    from django.apps import apps

    if not apps.ready:
        if not serves and not makes:
            _check_home()
        django.setup()


def _journal(arguments: argparse.Namespace) -> int:
    set_up()
    from neatlatch.desk.ground.journal import services

    if arguments.act == "anchor":
        print(services.anchor() or "There is no anchor yet: the journal is empty.")
        return 0
    verdict = (
        services.check(whole=not arguments.recent, anchor=arguments.anchor)
        if arguments.recent or arguments.anchor
        else services.check_and_record()
    )
    if verdict.fault is not None:
        print(f"The journal does not hold. {verdict.fault}")
        return 1
    looked = (
        "each with the code of the one before"
        if verdict.looked_from == 1
        else f"looked at from {verdict.looked_from} on"
    )
    print(f"The journal holds: {verdict.entries} entries, {looked}.")
    return 0


def acting(username: str) -> Any:
    """The person in whose name a command acts: named, or the only administrator there is."""
    from neatlatch.desk.ground.people.models import Person, Role

    administrators = Person.objects.filter(role=Role.ADMINISTRATOR, is_active=True)
    found = administrators.filter(username=username).first() if username else None
    if found is None and not username and administrators.count() == 1:
        found = administrators.get()
    if found is None:
        print("nlatch: say with --as which administrator does this.", file=sys.stderr)
    return found


def _export(arguments: argparse.Namespace) -> int:
    set_up()
    from neatlatch.desk.work.inventory import services

    by = acting(arguments.person)
    if by is None:
        return 2
    text = services.export(by)
    if arguments.file is None:
        sys.stdout.write(text)
    else:
        arguments.file.write_text(text, encoding="utf-8")
    return 0


def _apply(arguments: argparse.Namespace) -> int:
    set_up()
    from neatlatch.desk.ground.common.problems import Problem
    from neatlatch.desk.work.inventory import services

    by = acting(arguments.person)
    if by is None:
        return 2
    try:
        text = arguments.file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = getattr(error, "strerror", None) or "it is not UTF-8 text"
        print(f"nlatch: {arguments.file}: {why}", file=sys.stderr)
        return 2
    try:
        found = (
            services.preview(text, arguments.prune, by)
            if arguments.preview
            else _applied(by, text, arguments)
        )
    except Problem as problem:
        print(f"nlatch: {problem.title}", file=sys.stderr)
        for mistake in problem.extra.get("mistakes", []):
            print(
                f"{arguments.file}:{mistake['line']}: "
                f"{mistake['where'] + ': ' if mistake['where'] else ''}{mistake['says']}",
                file=sys.stderr,
            )
        if not problem.extra.get("mistakes"):
            print(f"nlatch: {problem.detail}", file=sys.stderr)
        return 1
    return _tell(found.outcome.changes, arguments.preview)


def _tell(changes: Any, preview: bool, left: tuple[str, ...] = ("conflict",)) -> int:
    """Print what is changed, or would be; the exit status.

    ``left``: what is told by it as left alone.
    """
    for change in changes:
        if change.act != "stay":
            print(f"{change.act:<9} {change.kind:<13} {change.key}")
            for sentence in change.says:
                print(f"{'':<9} {'':<13}   {sentence}")
    count = sum(change.does for change in changes)
    print(
        f"{count} {'change' if count == 1 else 'changes'}{' would be made' if preview else ''}."
        if count
        else "Nothing to change."
    )
    return 3 if any(change.act in left for change in changes) else 0


def _applied(by: Any, text: str, arguments: argparse.Namespace) -> Any:
    from neatlatch.desk.work.inventory import services

    begun = services.begin(by, text, arguments.prune, leave=_leave(by, arguments))
    if begun.plan is not None and begun.plan.is_open:
        services.to_its_end(begun.plan, _progress)
    return begun


def _imports(arguments: argparse.Namespace) -> int:
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
    return 0


def _undo(arguments: argparse.Namespace) -> int:
    set_up()
    from neatlatch.desk.ground.common.problems import Problem
    from neatlatch.desk.work.inventory import services
    from neatlatch.desk.work.inventory.models import ImportPlan

    by = acting(arguments.person)
    if by is None:
        return 2
    plan = ImportPlan.objects.filter(pk=arguments.plan).first()
    if plan is None:
        print(
            f"nlatch: there is no import {arguments.plan}; “nlatch imports” lists them.",
            file=sys.stderr,
        )
        return 2
    try:
        shown = (
            services.undo_preview(plan, by) if arguments.preview else _undone(by, plan, arguments)
        )
    except Problem as problem:
        print(f"nlatch: {problem.title}\nnlatch: {problem.detail}", file=sys.stderr)
        return 1
    return _tell(shown.outcome.changes, arguments.preview, ("conflict", "kept"))


def _undone(by: Any, plan: Any, arguments: argparse.Namespace) -> Any:
    from neatlatch.desk.work.inventory import services

    begun = services.undo(by, plan, leave=_leave(by, arguments))
    if begun.plan is not None:
        services.to_its_end(begun.plan, _progress)
    return begun


def _progress(plan: Any) -> None:
    print(f"{plan.done:,} of {plan.total:,} applied", file=sys.stderr)


def _leave(by: Any, arguments: argparse.Namespace) -> Any:
    from neatlatch.desk.estate.connections import destinations

    code = (
        cli_people.read_secret("Code of the second factor: ", "NLATCH_CODE")
        if arguments.reason
        else ""
    )
    return destinations.leave(by, code, arguments.reason, arguments.let_go)


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


def _asking(arguments: argparse.Namespace) -> Any:
    """An HTTP client with the workload's own key, from the environment or a file; ``None``: none is
    set.
    """
    import ssl

    import httpx

    key = os.environ.get("NLATCH_KEY", "")
    if arguments.key_file is not None:
        try:
            key = arguments.key_file.read_text().strip()
        except OSError as error:
            print(f"nlatch: {arguments.key_file}: {error.strerror}", file=sys.stderr)
            return None
    shown = (
        arguments.certificate or Path(os.environ["NLATCH_CERTIFICATE"])
        if "NLATCH_CERTIFICATE" in os.environ
        else arguments.certificate
    )
    if not key and shown is None:
        print(
            "nlatch: set NLATCH_KEY to the key that you were handed, or name a file with "
            "--key-file or --certificate.",
            file=sys.stderr,
        )
        return None
    context = ssl.create_default_context(cafile=os.environ.get("NLATCH_CA") or None)
    if shown is not None:
        try:
            context.load_cert_chain(shown)
        except (OSError, ssl.SSLError) as error:
            print(
                f"nlatch: {shown}: "
                f"{error.strerror or 'it is not a certificate with its key in PEM'}",
                file=sys.stderr,
            )
            return None
    url = os.environ.get("NLATCH_URL", "http://127.0.0.1:8600").rstrip("/")
    return httpx.Client(
        base_url=url,
        headers={"Authorization": f"Bearer {key}"} if key else {},
        timeout=130,
        verify=context,
    )


def _ask(arguments: argparse.Namespace, method: str, path: str, **more: Any) -> Any:
    """Ask the desk; returns the response, or ``None`` once the reason was said."""
    import httpx

    web = _asking(arguments)
    if web is None:
        return None
    try:
        answer = web.request(method, path, **more)
    except httpx.HTTPError as error:
        print(f"nlatch: {web.base_url} does not answer: {error}", file=sys.stderr)
        return None
    if answer.is_success:
        return answer
    told = answer.json() if "json" in answer.headers.get("content-type", "") else {}
    print(
        f"nlatch: {told.get('title', f'the desk answered {answer.status_code}')} "
        f"{told.get('detail', '')}".rstrip(),
        file=sys.stderr,
    )
    return None


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


def _draw(arguments: argparse.Namespace) -> int:
    headers = {} if arguments.json else {"Accept": "text/plain"}
    params = {
        key: value for key, value in (("method", arguments.method), ("url", arguments.url)) if value
    }
    answer = _ask(arguments, "GET", f"/draw/{arguments.name}", headers=headers, params=params)
    if answer is None:
        return 1
    if not arguments.json and not answer.text.strip():
        print(
            "nlatch: its key travels in the query and not in a header. Take it with --json, "
            "under “query”.",
            file=sys.stderr,
        )
        return 2
    sys.stdout.write(answer.text if not arguments.json else f"{answer.text}\n")
    return 0


def _list(arguments: argparse.Namespace) -> int:
    answer = _ask(arguments, "GET", "/draw")
    if answer is None:
        return 1
    found = answer.json()
    for connection in found["connections"]:
        print(f"{connection['name']:<32} {connection['state']:<11} {connection['application']}")
    if not found["connections"]:
        print(f"{found['workload']} uses no connection in {found['environment']} yet.")
    return 0


def _test(arguments: argparse.Namespace) -> int:
    answer = _ask(arguments, "POST", f"/draw/{arguments.name}/tests")
    if answer is None:
        return 2
    found = answer.json()
    for rung in found["rungs"]:
        mark = "-" if rung["skipped"] else "ok" if rung["passed"] else "NO"
        print(f"{mark:<3} {rung['rung'].replace('_', ' '):<8} {rung['says']}")
    for cause in found["causes"][:3]:
        print(f"    {cause}")
    return 0 if found["passed"] else 1


def parser() -> argparse.ArgumentParser:
    """The command line as a whole."""
    root = argparse.ArgumentParser(prog="nlatch", description="Neat Latch on the command line.")
    root.add_argument("--version", action="version", version=f"nlatch {__version__}")
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

    keyed = argparse.ArgumentParser(add_help=False)
    keyed.add_argument(
        "--key-file",
        type=Path,
        metavar="FILE",
        help="a file that holds your own key (else the environment's NLATCH_KEY)",
    )
    keyed.add_argument(
        "--certificate",
        type=Path,
        metavar="FILE",
        help=(
            "a file with your own certificate, its chain and its key in PEM, to be shown at the "
            "TLS listener (else NLATCH_CERTIFICATE)"
        ),
    )
    one = commands.add_parser(
        "draw",
        parents=[keyed],
        help="take a ready request header for a connection that you use",
        description=(
            "Writes header lines. The desk's address is NLATCH_URL, your own key NLATCH_KEY; "
            "NLATCH_CA names its certificate authorities."
        ),
    )
    one.add_argument("name", help="the connection's name, without its environment")
    one.add_argument(
        "--json", action="store_true", help="base address, headers, query and end as JSON"
    )
    one.add_argument(
        "--method", default="", help="for a connection that signs each request: its method"
    )
    one.add_argument("--url", default="", help="and its whole address")
    one.set_defaults(run=_draw)

    one = commands.add_parser("list", parents=[keyed], help="list the connections that you use")
    one.set_defaults(run=_list)

    one = commands.add_parser(
        "test",
        parents=[keyed],
        help="test a connection that you use",
        description="Ends with 0 if it works, 1 if it does not.",
    )
    one.add_argument("name", help="the connection's name, without its environment")
    one.set_defaults(run=_test)

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
        "export", help="write the whole inventory as YAML, secrets by reference"
    )
    one.add_argument("file", type=Path, nargs="?", help="where to write it (standard output)")
    one.add_argument(
        "--as", dest="person", default="", metavar="LOGIN", help="the administrator who does this"
    )
    one.set_defaults(run=_export)

    one = commands.add_parser(
        "apply",
        help="apply an inventory file",
        description="A small file is applied as a whole or not at all, a large one in blocks; see "
        "“imports” and “undo”. Ends with 0 if all was "
        "applied, 1 if the file was refused or a block failed, 3 if something stays because "
        "it was changed here meanwhile.",
    )
    one.add_argument("file", type=Path)
    one.add_argument("--prune", action="store_true", help="remove what the file no longer has")
    _add_applying(one)
    one.set_defaults(run=_apply)

    one = commands.add_parser("imports", help="list what was applied, newest first")
    one.add_argument(
        "--go-on",
        action="store_true",
        help="first go on with one whose process was killed, as the worker does",
    )
    one.set_defaults(run=_imports)

    one = commands.add_parser(
        "undo",
        help="undo an import, by its stored steps; what was changed since stays",
        description=(
            "Ends with 0 if all was undone, 1 if it was refused, 3 if something stays because "
            "it was changed since, or is still used."
        ),
    )
    one.add_argument(
        "plan", type=UUID, metavar="ID", help="the import; “nlatch imports” lists them"
    )
    _add_applying(one)
    one.set_defaults(run=_undo)

    cli_names.add_to(commands)
    cli_safe.add_to(commands)

    one = commands.add_parser(
        "journal",
        help="check the journal, or print its anchor",
        description="check: the chain, its anchor and the database's triggers; ends with 1 if the "
        "journal does not hold. anchor: one line that names "
        "the newest entry, to be kept where nobody who can write to the database can change it.",
    )
    one.add_argument("act", choices=["check", "anchor"])
    one.add_argument(
        "--anchor",
        default="",
        metavar="LINE",
        help="check: an anchor that was kept elsewhere, to be found in the journal",
    )
    one.add_argument(
        "--recent",
        action="store_true",
        help="check: only from the last checkpoint on, at most a thousand entries",
    )
    one.set_defaults(run=_journal)

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
    return root


def _add_applying(command: argparse.ArgumentParser) -> None:
    """What a command takes that applies an inventory, or its reverse."""
    command.add_argument("--preview", action="store_true", help="only say what would change")
    command.add_argument(
        "--as", dest="person", default="", metavar="LOGIN", help="the administrator who does this"
    )
    command.add_argument(
        "--reason",
        default="",
        metavar="TEXT",
        help=(
            "why secrets may go to a new place, with a code of the second factor (asked for, or "
            "NLATCH_CODE)"
        ),
    )
    command.add_argument(
        "--let-go",
        action="store_true",
        help="discard stored secrets that would go to a new destination",
    )


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
    """Run a command; returns its exit status."""
    given = parser().parse_args(arguments)
    run: Callable[[argparse.Namespace], int] = given.run
    try:
        return run(given)
    except NoDesk as error:
        print(f"nlatch: {error}", file=sys.stderr)
        return 2
    except BrokenPipeError:  # anyone who read us has enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0


if __name__ == "__main__":
    sys.exit(main())
