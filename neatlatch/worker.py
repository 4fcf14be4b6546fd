"""The worker: rounds, renewals and whatever else is scheduled. Run with ``-m``; arguments
are those of Huey's consumer.
"""

from __future__ import annotations

import os
import sys


def main(arguments: list[str]) -> None:
    """Run the worker until it is stopped. It ends at once where it cannot open what the desk
    keeps.
    """
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
    import django
    from django.core.management import execute_from_command_line

    django.setup()
    from neatlatch.desk.ground.starting import check_or_stop

    check_or_stop()
    # Django's checks load the whole API, which the worker does not need; migrating makes them.
    execute_from_command_line(["neatlatch.worker", "run_huey", *arguments, "--skip-checks"])


if __name__ == "__main__":
    main(sys.argv[1:])
