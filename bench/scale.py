"""A house of thousands: every list and Today against the bare SQL for their rows and an
authenticated answer that is constant.

    python -m bench.scale [how many, 10000] [home, a filled one]

Fills a house in a temporary folder (or takes one that ``nlatch demo-fill`` filled), then asks each
page in turns with its reference, in one process.
"""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from .table import row

TIMES = 25


@dataclass(frozen=True)
class Page:
    """A page, the bare SQL for its rows, and how many times that and a constant answer
    it may take.
    """

    address: str
    sql: tuple[str, ...]
    aim: float = 3
    most_kib: int = 100


_CREDENTIALS = """SELECT * FROM (SELECT * FROM credentials_credential WHERE ends IS NOT NULL
    ORDER BY ends, id LIMIT 101) c JOIN credentials_standsout s ON s.credential_id = c.id
    LEFT JOIN clients_client k ON k.id = c.client_id
    LEFT JOIN applications_place p ON p.id = k.place_id
    LEFT JOIN applications_application a ON a.id = p.application_id
    LEFT JOIN connections_heldsecret h ON h.credential_id = c.id
    LEFT JOIN connections_connection n ON n.id = h.connection_id"""
# A page of clients with all that its rows are worked out from.
_CLIENTS = "SELECT id FROM clients_client WHERE {} ORDER BY name, id LIMIT 51"
_WITH_PLACES = """SELECT k.*, p.*, a.* FROM clients_client k
    JOIN applications_place p ON p.id = k.place_id
    JOIN applications_application a ON a.id = p.application_id WHERE k.id IN ({})"""
_ALL, _SIGNING_IN = (
    _CLIENTS.format("kind <> 'resource_server'"),
    _CLIENTS.format("scheme = 'oauth2_code'"),
)
_THEIR_CONNECTIONS = "SELECT * FROM connections_connection WHERE client_id IN ({})"
_THEIRS = """SELECT t.*, u.* FROM connections_connection c
    LEFT JOIN connections_tokenset t ON t.connection_id = c.id
    LEFT JOIN users_use u ON u.connection_id = c.id WHERE c.client_id IN ({})"""
_RULED = (
    "SELECT id FROM applications_application WHERE json_array_length(profile, '$.roles') ORDER "
    "BY name LIMIT 31"
)
PAGES = (
    Page(
        "/api/connections",
        (
            """SELECT c.*, s.*, a.key, a.name, e.name FROM connections_connection c
                JOIN connections_summary s ON s.connection_id = c.id
        JOIN applications_place p ON p.id = c.place_id
        JOIN applications_application a ON a.id = p.application_id
        JOIN applications_environment e ON e.id = p.environment_id ORDER BY c.ref LIMIT 101""",
        ),
    ),
    Page(
        "/api/connections?words=state:unlatched",
        (
            """SELECT c.*, s.*, a.key, a.name FROM connections_connection c
                JOIN connections_summary s ON s.connection_id = c.id
        JOIN applications_place p ON p.id = c.place_id
            JOIN applications_application a ON a.id = p.application_id
            WHERE c.state LIKE 'unlatched%'
            ORDER BY c.ref LIMIT 101""",
        ),
    ),
    Page(
        "/api/connections?words=pin:scopes",
        (
            """SELECT c.*, s.*, a.key, a.name FROM connections_connection c
                JOIN connections_summary s ON s.connection_id = c.id
        JOIN applications_place p ON p.id = c.place_id
            JOIN applications_application a ON a.id = p.application_id WHERE s.off LIKE '% scopes%'
            ORDER BY c.ref LIMIT 101""",
        ),
    ),
    Page("/api/today", (), 8, 150),
    Page(
        "/api/today/wall?words=ledger",
        (
            """SELECT c.*, s.* FROM connections_connection c
                JOIN connections_summary s ON s.connection_id = c.id
        JOIN applications_place p ON p.id = c.place_id
            WHERE p.application_id IN (SELECT application_id FROM connections_standing
            WHERE name LIKE '%ledger%' ORDER BY worst, name LIMIT 31)""",
        ),
    ),
    Page("/api/credentials", (_CREDENTIALS,)),
    Page(
        "/api/workloads",
        (
            """SELECT u.*, o.name, s.*, c.ref, c.state FROM users_user u
                LEFT JOIN people_owner o ON o.id = u.owner_id
                LEFT JOIN users_use s ON s.workload_id = u.id
        LEFT JOIN connections_connection c ON c.id = s.connection_id WHERE u.id IN (SELECT id
            FROM users_user ORDER BY name LIMIT 101)""",
        ),
    ),
    Page(
        "/api/applications",
        (
            """SELECT a.*, p.* FROM applications_application a
                LEFT JOIN applications_place p ON p.application_id = a.id
        WHERE a.id IN (SELECT id FROM applications_application ORDER BY name LIMIT 101)""",
        ),
    ),
    Page(
        "/api/owners",
        (
            """SELECT o.*, (SELECT count(*) FROM applications_application WHERE owner_id = o.id),
                (SELECT count(*) FROM users_user WHERE owner_id = o.id),
        (SELECT count(*) FROM credentials_credential WHERE owner_id = o.id) FROM people_owner o
            ORDER BY name LIMIT 101""",
        ),
    ),
    Page(
        "/api/scopes",
        tuple(item.format(_ALL) for item in (_WITH_PLACES, _THEIR_CONNECTIONS, _THEIRS)),
    ),
    Page(
        "/api/redirect-uris",
        tuple(item.format(_SIGNING_IN) for item in (_WITH_PLACES, _THEIR_CONNECTIONS)),
    ),
    Page(
        "/api/access-rules",
        (
            f"""SELECT a.*, p.*, k.* FROM applications_application a
                JOIN applications_place p ON p.application_id = a.id
        LEFT JOIN clients_client k ON k.place_id = p.id WHERE a.id IN ({_RULED})""",
        ),
    ),
    Page("/api/certificates", ("SELECT * FROM certificates_issued LIMIT 101",)),
    Page("/api/people", ("SELECT * FROM people_person ORDER BY username LIMIT 101",)),
    Page("/api/rounds", ("SELECT * FROM rounds_round ORDER BY number DESC LIMIT 51",)),
    Page("/api/journal", ("SELECT * FROM journal_entry ORDER BY number DESC LIMIT 101",)),
)


def timed(act: Callable[[], Any]) -> float:
    """Milliseconds of processor time."""
    begun = time.process_time()
    act()
    return (time.process_time() - begun) * 1000


def main() -> None:
    """Fill, ask, print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
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
    from django.db import connection as database
    from django.db import transaction
    from django.http import HttpRequest
    from django.test import Client as WebClient

    from neatlatch.demo.fill import fill
    from neatlatch.desk.estate.connections import blocks, halves, summaries
    from neatlatch.desk.estate.records.connections.models import Connection
    from neatlatch.desk.ground import guard
    from neatlatch.desk.ground.people.models import Person
    from neatlatch.desk.pages.api import api

    if not (Path(home) / "desk.sqlite3").exists():
        call_command("migrate", verbosity=0)
        fill(count, lambda stand: None)

    @api.get("/constant")
    def constant(request: HttpRequest) -> dict[str, str]:
        guard.need(request, "look")
        return {"says": "always the same"}

    web = WebClient(HTTP_HOST="127.0.0.1")
    reader = Person.objects.filter(username="bench").first() or Person.objects.create_user(
        "bench", password="x", role="administrator"
    )
    web.force_login(reader, backend="django.contrib.auth.backends.ModelBackend")

    def bare(page: Page) -> None:
        with database.cursor() as cursor:
            for text in page.sql:
                cursor.execute(text).fetchall()

    def ask(address: str) -> bytes:
        answer = web.get(address)
        assert answer.status_code == 200, (address, answer.status_code, answer.content[:200])
        return answer.content

    print(
        f"{Connection.objects.count():,} connections; milliseconds of processor time, "
        f"medians of {TIMES} in turns"
    )
    for page in PAGES:
        size = len(ask(page.address)) / 1024
        ask("/api/constant")
        ours, theirs, always = [], [], []
        for _ in range(TIMES):
            always.append(timed(lambda: ask("/api/constant")))
            theirs.append(timed(lambda page=page: bare(page)))
            ours.append(timed(lambda page=page: ask(page.address)))
        a, b, c = statistics.median(ours), statistics.median(theirs), statistics.median(always)
        ratio = a / (b + c)
        met = "" if ratio <= page.aim and size <= page.most_kib else "  NOT MET"
        print(
            f"{page.address:<36} {a:7.1f} against {b:5.1f} + {c:4.1f}: {ratio:5.1f} × (aim "
            f"{page.aim:.0f}), {size:6.1f} KiB{met}",
            flush=True,
        )
        row(
            f"`GET {page.address}` at {Connection.objects.count():,} connections, {size:.0f} KiB",
            f"{a:.1f} ms of processor time",
            f"bare SQL {b:.1f} + a constant answer {c:.1f} ms",
            ratio,
            f"{page.aim:.0f} ×, {page.most_kib} KiB",
            not met,
        )
    keys = list(Connection.objects.values_list("pk", flat=True)[:1000])
    parts = [keys[at : at + blocks.MOST] for at in range(0, len(keys), blocks.MOST)]

    def anew() -> None:
        for part in parts:
            with transaction.atomic():
                summaries.work_out(part)

    now = django.utils.timezone.now()

    def the_slow_way() -> None:
        for connection in halves.each(Connection.objects.filter(pk__in=keys)):
            summaries.sum_up(connection, now)

    turns = [(timed(anew), timed(the_slow_way)) for _ in range(7)]
    quick, slow = (min(times) / len(keys) for times in zip(*turns, strict=True))
    row(
        "a summary worked out anew and written, 200 a block",
        f"{quick * 1000:.0f} µs",
        f"the slow way, not written: {slow * 1000:.0f} µs",
        quick / slow,
        "500 µs",
        quick <= 0.5,
    )
    print(
        f"a summary anew, read and written: {quick * 1000:.0f} µs; the slow way, not "
        f"written: {slow * 1000:.0f} µs (aim 500)"
    )


if __name__ == "__main__":
    main()
