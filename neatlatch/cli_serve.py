"""``nlatch serve``: everything that Neat Latch needs, started and kept running together."""

from __future__ import annotations

import argparse
import os
import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from neatlatch import locations

# What only this command needs is imported when it runs: “nlatch compute” has a tenth of a second.


class CannotServe(Exception):
    """It cannot be started as it was asked for. The message says why, and what to do."""


def add_to(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add the command."""
    command = commands.add_parser(
        "serve",
        help="start Neat Latch: migrate, then desk, worker and TLS listener together",
        description=(
            "Creates what is missing, starts all programs, and starts again what ends. Where "
            "nobody can log in yet, it prints a one-time address where the first administrator "
            "is made. Ctrl-C stops everything."
        ),
    )
    command.add_argument("--port", type=int, default=8600, help="the desk's port (8600)")
    command.add_argument(
        "--host",
        default="127.0.0.1",
        help="the address it listens on (127.0.0.1); another only behind a proxy that ends TLS",
    )
    command.add_argument(
        "--home",
        type=Path,
        metavar="FOLDER",
        help="folder of the database and the key files (NEATLATCH_HOME)",
    )
    command.add_argument(
        "--url",
        metavar="ADDRESS",
        help="the address that people open (NEATLATCH_URL, or http://localhost:PORT)",
    )
    command.add_argument(
        "--processes", type=int, default=1, metavar="N", help="processes of the desk (1)"
    )
    command.add_argument(
        "--tls-port", type=int, default=0, help="the TLS listener's port (the one after --port)"
    )
    command.add_argument(
        "--tls-name",
        action="append",
        default=[],
        metavar="NAME",
        help="a name that workloads call the TLS listener by; may be repeated (localhost)",
    )
    command.set_defaults(run=serve)


def serve(arguments: argparse.Namespace) -> int:
    """Start everything and keep it running until a signal ends it."""
    from neatlatch.process_group import DidNotStart

    tls_port = arguments.tls_port or arguments.port + 1
    try:
        _check_ports(arguments.host, arguments.port, tls_port)
        url = (
            arguments.url
            or os.environ.get("NEATLATCH_URL")
            or _own_address(arguments.host, arguments.port)
        )
        told = arguments.home or os.environ.get("NEATLATCH_HOME")
        home = _made(Path(told or locations.default_home()))
        with _alone(home):
            return _serve(arguments, home, url, tls_port)
    except (CannotServe, DidNotStart) as error:
        print(f"nlatch: {error}", file=sys.stderr)
        return 1


def _check_ports(host: str, *ports: int) -> None:
    from neatlatch.process_group import port_in_use

    if wrong := [port for port in ports if not 1 <= port <= 65535]:
        raise CannotServe(f"{wrong[0]} is not a port. Give one from 1 to 65535.")
    try:
        taken = port_in_use(ports, host)
    except OSError as error:  # no address of this machine, or none at all
        raise CannotServe(f"Nothing can listen on {host}: {error}.") from error
    if taken is not None:
        raise CannotServe(
            f"Nothing can listen on {host}, port {taken}; another program may use it. Stop that, "
            "or give another --port."
        )


def _own_address(host: str, port: int) -> str:
    from neatlatch.core.addresses import is_loopback_host

    if not is_loopback_host(host):
        raise CannotServe(
            f"On {host} others can reach it. Say with --url which https address people open."
        )
    return f"http://localhost:{port}"  # a name: browsers make no passkeys for an IP address


def _made(home: Path) -> Path:
    os.umask(0o077)
    try:
        (home / "log").mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError as error:
        raise CannotServe(f"The folder {home} cannot be made: {error.strerror}.") from error
    return home.resolve()


@contextmanager
def _alone(home: Path) -> Iterator[None]:
    """Hold the folder: two workers on one database would do everything twice."""
    import fcntl

    with (home / ".serving").open("a") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise CannotServe(f"Neat Latch runs already on the folder {home}.") from error
        yield


def _serve(arguments: argparse.Namespace, home: Path, url: str, tls_port: int) -> int:
    from neatlatch import starting
    from neatlatch.process_group import ProcessGroup

    os.environ.update(
        NEATLATCH_HOME=str(home),
        NEATLATCH_URL=url,
        DJANGO_SETTINGS_MODULE="neatlatch.desk.settings",
    )
    programs = ProcessGroup(dict(os.environ), home / "log")
    os.environ["NEATLATCH_LOG"] = "WARNING"  # of this process alone, which talks to a person
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        _check_settings()
        starting.prepare(home, programs)
        _set_up_django()
        starting.start(
            programs,
            arguments.host,
            arguments.port,
            processes=arguments.processes,
            tls_port=tls_port,
            tls_names=tuple(arguments.tls_name),
        )
        _print_ready(url, tls_port, home)
        programs.keep_running(lambda says: print(says, file=sys.stderr, flush=True))
    except KeyboardInterrupt:
        print("\nStopping.")
    finally:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        programs.stop()
    return 0


def _check_settings() -> None:
    from django.conf import settings
    from django.core.exceptions import ImproperlyConfigured

    try:
        settings.PUBLIC_URL  # noqa: B018  the first that is asked for reads all
    except ImproperlyConfigured as error:
        raise CannotServe(str(error)) from error


def _set_up_django() -> None:
    import django

    django.setup()


def _print_ready(url: str, tls_port: int, home: Path) -> None:
    from neatlatch.desk.ground.people import first_administrator

    print(f"\nNeat Latch is ready:  {url}\n")
    if token := first_administrator.open_address():
        hours = int(first_administrator.VALID_FOR.total_seconds() // 3600)
        print("Nobody can log in yet. Make the first administrator at")
        print(f"\n   {url}/set-up#{token}\n")
        print(f"The address works once, for {hours} hours. Starting again prints a new one.\n")
    print(f"Workloads draw with a certificate of the house on port {tls_port}.")
    print(f"Database, key files and logs: {home}. Ctrl-C stops everything.", flush=True)
