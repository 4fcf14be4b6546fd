#!/usr/bin/env python3
"""Django's own commands. People use ``bin/nlatch``."""

import os
import sys

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
    from django.core.management import execute_from_command_line

    if sys.argv[1:2] == ["run_huey"]:
        import django

        django.setup()
        from neatlatch.desk.ground.starting import check_or_stop

        check_or_stop()
        sys.argv.append(
            "--skip-checks"
        )  # they load the whole API, which the worker does not need; migrate makes them
    execute_from_command_line(sys.argv)
