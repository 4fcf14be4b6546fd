"""``nlatch draw``, ``relay``, ``list`` and ``test``: for a workload with a key of its own, or a
program that draws for it.
"""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from neatlatch.client import CallRejected, Latch
from neatlatch.exit_codes import ExitCode

from . import output, where
from .arguments import add_where, wants_json

_LARGEST_BODY = 2 * 1024 * 1024
Run = Callable[[Latch, argparse.Namespace], int]


def _latch(arguments: argparse.Namespace) -> Latch:
    """Return the desk as a workload sees it: its own key first, then a program's token."""
    settings = where.settings_of(arguments)
    key_file = getattr(arguments, "key_file", None) or getattr(arguments, "token_file", None)
    named: dict[str, Any] = {
        "key_file": str(key_file or ""),
        "certificate": str(getattr(arguments, "certificate", None) or ""),
    }
    if not any(named.values()) and not any(
        os.environ.get(f"NLATCH_{name}") for name in ("KEY", "KEY_FILE", "CERTIFICATE")
    ):
        named["key"] = os.environ.get("NLATCH_TOKEN", "").strip()
        named["key_file"] = os.environ.get("NLATCH_TOKEN_FILE", "")
    workload = getattr(arguments, "workload", "")
    return Latch(settings.url, ca=settings.ca, workload=workload, **named)


def _draw(latch: Latch, arguments: argparse.Namespace) -> int:
    drawn = latch.draw(arguments.name, method=arguments.method, url=arguments.request_url)
    if wants_json(arguments):
        lasts = drawn.lasts()
        output.as_json(
            {
                "ref": drawn.ref,
                "base": drawn.base,
                "headers": drawn.headers,
                "query": drawn.query,
                "ends": drawn.ends.isoformat() if drawn.ends else None,
                "seconds": int(lasts.total_seconds()) if lasts is not None else None,
            }
        )
        return ExitCode.DONE
    if not drawn.headers:
        output.complain(
            "its key travels in the query and not in a header. Take it with --json, under “query”."
        )
        return ExitCode.WRONG
    # As a request would have them: values may hold what no terminal should get, and go to a pipe.
    sys.stdout.write("".join(f"{name}: {value}\n" for name, value in drawn.headers.items()))
    return ExitCode.DONE


def _list(latch: Latch, arguments: argparse.Namespace) -> int:
    found = latch.connections()
    if wants_json(arguments):
        output.as_json(
            [
                {
                    "name": row.name,
                    "ref": row.ref,
                    "application": row.application,
                    "state": row.state,
                    "operations": list(row.operations),
                }
                for row in found
            ]
        )
        return ExitCode.DONE
    output.table((row.name, row.state.replace("_", " "), row.application) for row in found)
    if not found:
        output.say("It uses no connection yet.")
    return ExitCode.DONE


def _test(latch: Latch, arguments: argparse.Namespace) -> int:
    found = latch.test(arguments.name)
    if wants_json(arguments):
        rungs = [
            {"rung": rung.rung, "passed": rung.passed, "skipped": rung.skipped, "says": rung.says}
            for rung in found.rungs
        ]
        output.as_json(
            {
                "ref": found.ref,
                "passed": found.passed,
                "rungs": rungs,
                "causes": list(found.causes),
            }
        )
    else:
        output.ladder(
            ((rung.rung, rung.passed, rung.skipped, rung.says) for rung in found.rungs),
            found.causes,
        )
    return ExitCode.DONE if found.passed else ExitCode.NO


def _relay(latch: Latch, arguments: argparse.Namespace) -> int:
    try:
        headers = dict(_header(text) for text in arguments.header)
        content = _body(arguments.data)
    except ValueError as error:
        output.complain(str(error))
        return ExitCode.WRONG
    answer = latch.relay(
        arguments.name, arguments.path, method=arguments.method, headers=headers, content=content
    )
    if wants_json(arguments):
        output.as_json(
            {
                "status": answer.status_code,
                "headers": dict(answer.headers),
                "body": _as_value(answer.content),
            }
        )
    else:
        if arguments.include:
            output.say(f"{answer.status_code} {answer.reason_phrase}")
            for name, value in answer.headers.items():
                output.say(f"{name}: {value}")
            output.say("")
            sys.stdout.flush()
        sys.stdout.buffer.write(answer.content)
    return ExitCode.DONE if answer.is_success else ExitCode.NO


def _check_call(latch: Latch, arguments: argparse.Namespace) -> int:
    try:
        lines = _body(arguments.headers) or b""
        headers = dict(_header(text) for text in lines.decode("latin-1").splitlines() if text)
        body = _body(arguments.data)
    except ValueError as error:
        output.complain(str(error))
        return ExitCode.WRONG
    try:
        call = latch.check_call(arguments.name, headers, body or b"")
    except CallRejected as error:
        if wants_json(arguments):
            output.as_json({"accepted": False, "reason": error.reason, "says": error.detail})
        else:
            output.say(f"Rejected ({error.reason}). {error.detail}")
        return ExitCode.NO
    sent, seen = call.sent_at, call.seen_at
    if wants_json(arguments):
        output.as_json(
            {
                "accepted": True,
                "id": call.id,
                "sent_at": sent.isoformat() if sent else None,
                "seen_at": seen.isoformat() if seen else None,
            }
        )
    else:
        before = f", as one at {seen:%Y-%m-%d %H:%M:%S %Z} was" if seen else ""
        output.say(f"Signed by the application{before}.")
    return ExitCode.DONE


def _header(text: str) -> tuple[str, str]:
    name, colon, value = text.partition(":")
    if not colon or not name.strip():
        raise ValueError(f"“{text[:60]}” is no header field; it is NAME: VALUE.")
    return name.strip(), value.strip()


def _body(source: str) -> bytes | None:
    """A request's body: from a file, or standard input (-)."""
    if not source:
        return None
    try:
        data = sys.stdin.buffer.read(_LARGEST_BODY + 1) if source == "-" else _file(source)
    except OSError as error:
        raise ValueError(f"{source}: {error.strerror}.") from error
    if len(data) > _LARGEST_BODY:
        raise ValueError(f"More than {_LARGEST_BODY // 2**20} MiB is not sent.")
    return data


def _file(name: str) -> bytes:
    with Path(name).open("rb") as file:
        return file.read(_LARGEST_BODY + 1)


def _as_value(content: bytes) -> Any:
    """A body as JSON has it: its value where it is JSON, else its text."""
    try:
        return json.loads(content)
    except ValueError:
        return content.decode("utf-8", errors="replace")


def _add(
    parsers: argparse._SubParsersAction[argparse.ArgumentParser],
    name: str,
    says: str,
    run: Run,
    more: str = "",
) -> argparse.ArgumentParser:
    parser = parsers.add_parser(
        name, help=says, description=f"{says[:1].upper()}{says[1:]}. {more}".strip()
    )
    add_where(parser)
    parser.add_argument(
        "--key-file",
        type=Path,
        metavar="FILE",
        help="a file with the workload's own key (NLATCH_KEY_FILE, or the key in NLATCH_KEY)",
    )
    parser.add_argument(
        "--certificate",
        type=Path,
        metavar="FILE",
        help="a file with its own certificate, the chain and the key in PEM, to be shown at the "
        "TLS listener (NLATCH_CERTIFICATE)",
    )
    parser.add_argument(
        "--for",
        dest="workload",
        default="",
        metavar="ENVIRONMENT/WORKLOAD",
        help="with a program's token: the workload that it draws for (NLATCH_WORKLOAD)",
    )

    def carry_out(arguments: argparse.Namespace) -> int:
        with _latch(arguments) as latch:
            return run(latch, arguments)

    parser.set_defaults(run=carry_out)
    return parser


def add_to(parsers: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the commands."""
    name_help = "the connection's name, without its environment"
    one = _add(
        parsers,
        "draw",
        "take a ready request header for a connection that you use",
        _draw,
        "Prints header lines; with --json base address, headers, query and end.",
    )
    one.add_argument("name", help=name_help)
    one.add_argument(
        "--method", default="", help="for a connection that signs each request: its method"
    )
    one.add_argument("--request-url", default="", metavar="ADDRESS", help="and its whole address")

    one = _add(
        parsers,
        "relay",
        "send a request through a connection that you use",
        _relay,
        "Prints what the application answered. Ends with 0 for a status of 2xx, 1 for another.",
    )
    one.add_argument("name", help=name_help)
    one.add_argument("path", nargs="?", default="/", help="the path below its base (/)")
    one.add_argument("--method", default="GET", help="GET, POST, PUT, PATCH, DELETE … (GET)")
    one.add_argument(
        "--header", action="append", default=[], metavar="NAME: VALUE", help="may be repeated"
    )
    one.add_argument("--data", default="", metavar="FILE", help="the body; - is standard input")
    one.add_argument("--include", action="store_true", help="print status and header, too")

    one = _add(
        parsers,
        "check-call",
        "check a call that an application signed and sent",
        _check_call,
        "Ends with 0 if the application signed it, 1 if it did not, or too long ago.",
    )
    one.add_argument("name", help=name_help)
    one.add_argument(
        "--headers",
        required=True,
        metavar="FILE",
        help="its header fields as they came, one to a line, NAME: VALUE",
    )
    one.add_argument(
        "--data", default="-", metavar="FILE", help="its body as it came (standard input)"
    )

    _add(parsers, "list", "list the connections that you use", _list)

    one = _add(
        parsers,
        "test",
        "test a connection that you use",
        _test,
        "Ends with 0 if it works, 1 if it does not.",
    )
    one.add_argument("name", help=name_help)
