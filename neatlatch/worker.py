"""The worker: rounds, renewals and whatever else is scheduled. Run with ``-m``; arguments
are those of Huey's consumer, and ``--after HOST:PORT``.
"""

from __future__ import annotations

import argparse
import os
import socket
import sys
import time

# A desk that has not started by then has failed, and its supervisor says so.
_LONGEST_WAIT = 30.0


def main(arguments: list[str]) -> None:
    """Run the worker until it is stopped. It ends immediately where it cannot open what the desk
    keeps.

    With ``--after`` its work begins once the desk accepts connections there: connections whose
    authorization server is our own house authority would fail before.
    """
    parser = argparse.ArgumentParser(add_help=False)
    parser.add_argument("--after", default="")
    own, arguments = parser.parse_known_args(arguments)
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
    import django
    from django.core.management import execute_from_command_line

    django.setup()
    from neatlatch.desk.ground.starting import check_or_stop

    check_or_stop()
    if own.after:
        _wait_for(own.after)
    # Django's checks load the whole API, which the worker does not need; migrating makes them.
    execute_from_command_line(["neatlatch.worker", "run_huey", *arguments, "--skip-checks"])


def _wait_for(address: str) -> None:
    host, _, port = address.rpartition(":")
    until = time.monotonic() + _LONGEST_WAIT
    while time.monotonic() < until:
        try:
            socket.create_connection((host, int(port)), 1).close()
            return
        except OSError:
            time.sleep(0.1)


if __name__ == "__main__":
    main(sys.argv[1:])
