"""Finding as one types over ten thousand connections, against a bare full-text query of SQLite in
the same run. By hand: python -m bench.finding [count]
"""

from __future__ import annotations

import json
import os
import random
import sqlite3
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from .table import row


def p95(times: list[float]) -> float:
    """The 95th percentile."""
    return statistics.quantiles(times, n=20)[-1]


def timed(call: Callable[[], object]) -> float:
    """Milliseconds of one call."""
    begun = time.perf_counter()
    call()
    return (time.perf_counter() - begun) * 1000


def main() -> None:
    """Fill, type, compare, print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    home = Path(tempfile.mkdtemp(prefix="neatlatch-bench-"))
    os.environ.update(
        {
            "NEATLATCH_HOME": str(home),
            "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
            "NEATLATCH_LOG": "WARNING",
        }
    )
    import django

    django.setup()
    from django.core.management import call_command
    from django.test import Client as WebClient

    from neatlatch.demo.fill import fill
    from neatlatch.desk.ground.people.models import Person
    from neatlatch.desk.work.finding import index

    call_command("migrate", verbosity=0)
    fill(count, lambda stand: None)
    begun = time.perf_counter()
    entries = index.rebuild()
    print(
        f"{entries:,} entries of {count:,} connections written in "
        f"{time.perf_counter() - begun:.1f} s"
    )
    web = WebClient(HTTP_HOST="127.0.0.1")
    web.force_login(
        Person.objects.create_user("bench", password="x", role="reader"),
        backend="django.contrib.auth.backends.ModelBackend",
    )
    bare = sqlite3.connect(home / "desk.sqlite3")
    chance = random.Random(1)
    some = [chance.randrange(count) for _ in range(12)]
    whole = [f"gannet sound ferries {item}" for item in some] + [
        "pier ledger 42",
        "quay run 77",
        "ferries",
        "svc",
        "k7Qd",
    ] * 2
    typed = [word[:length] for word in whole for length in range(1, len(word) + 1)]
    ours, theirs, inner = [], [], []
    for words in typed:
        asked = index.query(words)
        if not asked:
            continue
        theirs.append(
            timed(
                lambda asked=asked: bare.execute(
                    "SELECT name, kind, address, detail FROM finding_entry WHERE "
                    "finding_entry MATCH ? ORDER BY rank LIMIT 12",
                    [asked],
                ).fetchall()
            )
        )
        inner.append(timed(lambda words=words: index.find(words)))
        ours.append(
            timed(lambda words=words: json.loads(web.get("/api/search", {"words": words}).content))
        )
    print(
        f"{len(ours)} keystrokes: the API answers with p95 {p95(ours):.1f} ms (median "
        f"{statistics.median(ours):.1f}); a bare full-text query "
        f"{p95(theirs):.1f} ms (median {statistics.median(theirs):.1f}); p95 "
        f"{p95(ours) / p95(theirs):.2f} times. Without HTTP: {p95(inner):.1f} ms."
    )
    ratio = p95(ours) / p95(theirs)
    row(
        f"finding as one types, of {entries:,} entries, {len(ours)} keystrokes, by the API",
        f"p95 {p95(ours):.0f} ms",
        f"a bare full-text query: p95 {p95(theirs):.0f} ms",
        ratio,
        "2 ×",
        ratio <= 2,
    )


if __name__ == "__main__":
    main()
