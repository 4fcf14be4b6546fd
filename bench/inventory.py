"""The inventory of thousands of connections: exported and previewed, against the bare reading and
writing of its rows in the same run.

    python -m bench.inventory [how many, 5000] [home, a filled one]

The bare work reads the rows of the same tables by plain SQL, and has the library write what was
exported as YAML, and read it again, all in C.
"""

from __future__ import annotations

import os
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import yaml

from .table import row

T = TypeVar("T")
TABLES = (
    "applications_application",
    "applications_place",
    "clients_client",
    "credentials_credential",
    "connections_connection",
    "connections_heldsecret",
    "users_user",
    "users_use",
    "people_owner",
)


def timed(act: Callable[[], T]) -> tuple[float, T]:
    """Seconds of processor time, and what came of it."""
    begun = time.process_time()
    found = act()
    return time.process_time() - begun, found


def main() -> None:
    """Fill, export, preview, compare."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 5_000
    home = sys.argv[2] if len(sys.argv) > 2 else tempfile.mkdtemp(prefix="neatlatch-bench-")
    os.environ.update(
        {
            "NEATLATCH_HOME": home,
            "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
            "NEATLATCH_LOG": "WARNING",
        }
    )
    import django

    django.setup()
    from django.core.management import call_command

    from neatlatch.core.inventory import merging, reading
    from neatlatch.demo.fill import fill
    from neatlatch.desk.work.inventory import collecting

    if not (Path(home) / "desk.sqlite3").exists():
        call_command("migrate", verbosity=0)
        fill(count, lambda stand: None)
    collected, content = timed(collecting.collect)
    written, text = timed(lambda: reading.write(content, reading.digest(content)))
    read, inventory = timed(lambda: reading.read(text))
    again, standing = timed(collecting.collect)
    merged, outcome = timed(
        lambda: merging.merge(standing, inventory.content, content, inventory.lines)
    )
    assert outcome.nothing
    ours = collected + written + read + again + merged
    database = sqlite3.connect(Path(home) / "desk.sqlite3")
    rows, _ = timed(
        lambda: [database.execute(f"SELECT * FROM {table}").fetchall() for table in TABLES]
    )
    plain = yaml.load(text, Loader=yaml.CSafeLoader)
    dumped, _ = timed(
        lambda: yaml.dump(plain, Dumper=yaml.CSafeDumper, sort_keys=False, allow_unicode=True)
    )
    loaded, _ = timed(lambda: yaml.load(text, Loader=yaml.CSafeLoader))
    bare = 2 * rows + dumped + loaded
    size = len(text.encode()) / 2**20
    print(
        f"{count:,} connections, {size:.1f} MiB: collected {collected:.1f} s, written "
        f"{written:.1f}, read {read:.1f}, merged {merged:.1f}; in all {ours:.1f}"
    )
    print(
        f"bare: rows twice {2 * rows:.1f} s, written {dumped:.1f}, read {loaded:.1f}; in "
        f"all {bare:.1f}; {ours / bare:.2f} × (aim 3)"
    )
    row(
        f"{count:,} connections exported and previewed, {size:.0f} MiB",
        f"{ours:.1f} s",
        f"their rows read twice, written and read as YAML in C: {bare:.1f} s",
        ours / bare,
        "3 ×",
        ours <= 3 * bare,
    )


if __name__ == "__main__":
    main()
