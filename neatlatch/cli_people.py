"""``nlatch person``: people who log in, and their log-in, for anyone who runs the machine.

It asks for no log-in: who may read the key file may do everything.
"""

from __future__ import annotations

import argparse
import getpass
import os
import sys
from collections.abc import Callable
from typing import Any

from neatlatch.desk.ground.common.actors import MACHINE, NOBODY


def read_secret(words: str, variable: str) -> str:
    """A secret: from an environment variable, from the terminal without showing it, or from a line
    of standard input that is none.
    """
    if given := os.environ.get(variable):
        return given
    return getpass.getpass(words) if sys.stdin.isatty() else sys.stdin.readline().rstrip("\r\n")


def _password(words: str = "Password: ") -> str:
    return read_secret(words, "NLATCH_PASSWORD")


def _person(arguments: argparse.Namespace) -> Any:
    from neatlatch.desk.ground.common.problems import not_found
    from neatlatch.desk.ground.people.models import Person

    found = Person.objects.filter(username=arguments.username).first()
    if found is None:
        raise not_found("person")
    return found


def _add(arguments: argparse.Namespace) -> None:
    from neatlatch.desk.ground.people import services

    person = services.add(
        NOBODY,
        arguments.username,
        arguments.name,
        arguments.role,
        _password(),
        must_change=arguments.must_change,
    )
    print(f"{person.username} can log in now, as {person.get_role_display()}.")


def _list(arguments: argparse.Namespace) -> None:
    from neatlatch.desk.ground.people.models import Person

    for person in Person.objects.order_by("username").iterator():
        print(
            f"{person.username:<24} {person.role:<14} {'on ' if person.is_active else 'off'}  "
            f"{person.shown_name}"
        )


def _show(arguments: argparse.Namespace) -> None:
    from neatlatch.desk.ground.people import factors, log_in

    one = _person(arguments)
    access = "on" if one.is_active else "off"
    must_change = ", must change the password" if one.must_change else ""
    print(f"{one.shown_name}, {one.get_role_display()}, access {access}{must_change}")
    codes = "none"
    if one.factor is not None:
        codes = f"since {one.factor_since:%Y-%m-%d}" if one.factor_since else "yes"
    print(f"one-time codes: {codes}")
    for passkey in one.passkeys.all():
        print(
            f"passkey {passkey.pk}: {passkey.name}, added {passkey.added:%Y-%m-%d}, last "
            f"used {f'{passkey.last_used:%Y-%m-%d}' if passkey.last_used else 'never'}"
        )
    print(f"recovery codes left: {factors.recovery_left(one)}")
    for session in log_in.sessions_of(one):
        print(
            f"session {log_in.public_id(session)}: begun {session.begun:%Y-%m-%d %H:%M} "
            f"from {session.address or '?'}, last seen {session.seen:%H:%M}, "
            f"{session.browser[:60]}"
            if session.begun and session.seen
            else f"session {log_in.public_id(session)}"
        )


def _change(arguments: argparse.Namespace) -> None:
    from neatlatch.desk.work import offboarding

    one = offboarding.change(
        MACHINE,
        _person(arguments),
        arguments.role,
        None if arguments.access is None else arguments.access == "on",
    )
    print(f"{one.username} is {one.get_role_display()}, access {'on' if one.is_active else 'off'}.")


def _give_password(arguments: argparse.Namespace) -> None:
    from neatlatch.desk.ground.people import log_in

    log_in.give_password(MACHINE, _person(arguments), _password("New password: "))
    print(f"{arguments.username} must change it when they log in. Their sessions have ended.")


def _end(arguments: argparse.Namespace) -> None:
    from neatlatch.desk.ground.people import log_in

    if arguments.session:
        log_in.end_session(MACHINE, _person(arguments), arguments.session)
        print("It has expired.")
    else:
        log_in.end_sessions(MACHINE, _person(arguments))
        print(f"{arguments.username} is logged out everywhere.")


def _drop(arguments: argparse.Namespace) -> None:
    from neatlatch.desk.ground.people import factors, passkeys

    if arguments.passkey is not None:
        passkeys.drop(MACHINE, _person(arguments), arguments.passkey)
        print("The passkey is removed.")
    else:
        factors.drop_all(MACHINE, _person(arguments))
        print(f"{arguments.username} has no second factor any more. The next log-in says so.")


def _recovery(arguments: argparse.Namespace) -> None:
    from django.db import transaction

    from neatlatch.desk.ground.people import factors

    one = _person(arguments)
    with transaction.atomic():
        codes = factors.new_recovery(one)
        factors.tell_of(
            MACHINE, one, "had new recovery codes made for you; the old ones no longer serve."
        )
    print("\n".join(codes))


ACTS: dict[str, tuple[str, Callable[[argparse.Namespace], None]]] = {
    "add": ("add a person who can log in", _add),
    "list": ("everybody, with role and access", _list),
    "show": ("one person: second factor, recovery codes, sessions", _show),
    "change": ("another role, or access on or off", _change),
    "password": ("give a password, which must be changed at the next log-in", _give_password),
    "log-out": ("end one session or all", _end),
    "drop-factor": ("remove a lost second factor, or one passkey", _drop),
    "recovery-codes": ("ten new recovery codes, printed once", _recovery),
}


def _run(arguments: argparse.Namespace) -> int:
    from neatlatch.local_desk import set_up

    set_up()
    from neatlatch.desk.ground.common.problems import Problem

    try:
        arguments.do(arguments)
    except Problem as problem:
        for text in problem.errors.values() or [f"{problem.title} {problem.detail}"]:
            print(f"nlatch: {text}", file=sys.stderr)
        return 2
    return 0


def add_to(commands: Any) -> None:
    """Add ``nlatch person`` to the command line."""
    top = commands.add_parser("person", help="people who can log in, and their log-in")
    acts = top.add_subparsers(dest="act", required=True, metavar="ACT")
    for name, (says, do) in ACTS.items():
        one = acts.add_parser(name, help=says, description=f"{says[:1].upper()}{says[1:]}.")
        if name != "list":
            one.add_argument("username")
        if name == "add":
            one.add_argument("--name", default="")
            one.add_argument(
                "--role", default="reader", help="reader, operator, administrator or auditor"
            )
            one.add_argument(
                "--must-change",
                action="store_true",
                help="the password must be changed at the first log-in",
            )
        elif name == "change":
            one.add_argument("--role", help="reader, operator, administrator or auditor")
            one.add_argument("--access", choices=["on", "off"])
        elif name == "log-out":
            one.add_argument("--session", default="", help="only this one (“show” gives its name)")
        elif name == "drop-factor":
            one.add_argument(
                "--passkey", type=int, help="only this passkey (“show” gives its number)"
            )
        one.set_defaults(run=_run, do=do)
