"""Draws and introspections a second, against the same server answering a constant, bare and through
all of Django; and what a million draws leave in the database.

``python -m bench.draws``: manually, on a machine that does nothing else. The client and the server
share it, so ratios tell more than figures.
"""

from __future__ import annotations

import asyncio
import base64
import http.client
import json
import shutil
import statistics
import tempfile
import threading
import time
from pathlib import Path
from urllib.parse import urlencode

from tests.harness import Desk, StandIns
from tests.programs.test_draws import many

from .relay import spent
from .table import row

THREADS, SECONDS = 8, 6.0
# For each of several processes: with few threads it would have batches of a few only.
THREADS_EACH, TURNS = 16, 3
FILL = """
import json
from neatlatch.core.registration import ClientMetadata
from neatlatch.demo import house
from neatlatch.demo.load import load
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.work.drawing import services
from neatlatch.desk.authority.house import issuing, tokens
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.estate.records.workloads.models import Workload

load({port}, only=("cargo-manifests",))
by = Person.objects.get(username="morag")
deployment = Deployment.objects.select_related("application", "environment").get(
    application__key="cargo-manifests", environment__key="sandbox"
)
issuing.accepts(by, deployment, True)
deployment.refresh_from_db()
asker, handover = issuing.resource(by, deployment)
fields = ClientMetadata(
    "A caller",
    ("t@gannet.example",),
    grants=("client_credentials",),
    scopes=frozenset({{"manifest.read"}}),
)
client, its = issuing.register(by, deployment, fields, "oauth2_client")
house.take(by, its)
client = Client.objects.select_related(
    "deployment__application", "deployment__environment"
).get(pk=client.pk)
token = tokens.give(
    client, Credential.objects.get(client=client), {{"grant_type": "client_credentials"}}
)["access_token"]
job = Workload.objects.get(name="Rehearsal of the night run")
_, own = services.give(by, job, "key", right="draw")
print(
    json.dumps(
        {{
            "asker": asker.client_id,
            "secret": house.take(by, handover),
            "token": token,
            "key": house.take(by, own),
        }}
    )
)
"""
ABOUT_TO_END = """
from datetime import timedelta
from django.utils import timezone
from neatlatch.desk.estate.records.connections.models import TokenSet

now = timezone.now()
TokenSet.objects.filter(connection__ref="sandbox/cargo-manifests").update(
    obtained=now - timedelta(seconds=880), ends=now + timedelta(seconds={left})
)
"""
SIZE = """
from datetime import datetime, timedelta, UTC
from neatlatch.desk.work.drawing import ledger
from neatlatch.desk.work.drawing.models import Drawn

now = datetime.now(UTC)
for hour in range({hours}):
    for workload in range({workloads}):
        ledger._write(
            {{
                (
                    ledger.DrawFact(f"{{workload:032x}}", "f" * 32, "s" * 36, "draw"),
                    now - timedelta(hours=hour),
                ): ({each}, now)
            }}
        )
print(Drawn.objects.count())
"""


Ask = tuple[str, str, dict[str, str], str]


def drive(
    port: int,
    method: str,
    path: str,
    headers: dict[str, str],
    body: str = "",
    threads: int = THREADS,
) -> tuple[float, float, float]:
    """Ask as fast as so many threads can; returns requests a second, median and 99th percentile in
    milliseconds.
    """
    times: list[float] = []
    until = time.perf_counter() + SECONDS

    def worker() -> None:
        line = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        while time.perf_counter() < until:
            begun = time.perf_counter()
            line.request(method, path, body or None, headers)
            answer = line.getresponse()
            answer.read()
            assert answer.status == 200, answer.status
            times.append(time.perf_counter() - begun)
        line.close()

    running = [threading.Thread(target=worker) for _ in range(threads)]
    begun = time.perf_counter()
    for thread in running:
        thread.start()
    for thread in running:
        thread.join()
    ordered = sorted(times)
    return (
        len(times) / (time.perf_counter() - begun),
        statistics.median(ordered) * 1000,
        ordered[int(len(ordered) * 0.99)] * 1000,
    )


def _with_children(process: int) -> list[int]:
    """A process and those that it has started."""
    started = [
        int(text)
        for path in Path(f"/proc/{process}/task").glob("*/children")
        for text in path.read_text().split()
    ]
    return [process, *(each for item in started for each in _with_children(item))]


def _by_processes(desk: Desk, ask: Ask) -> dict[int, tuple[float, float]]:
    """Draws a second and milliseconds of processor time for each, by one process and by two, with
    as many threads for each process: medians of turns.
    """
    found: dict[int, list[tuple[float, float]]] = {1: [], 2: []}
    for _ in range(TURNS):
        for processes, measured in found.items():
            desk.kill()
            desk.serve = ("-m", "neatlatch.cli", "desk", "--processes", str(processes))
            desk.start("desk")
            time.sleep(3)  # all of them
            threads = THREADS_EACH * processes
            drive(desk.port, *ask, threads=threads)
            serving = _with_children(desk.programs["desk"].pid)
            before, own = sum(map(spent, serving)), time.process_time()
            pace, median, tail = drive(desk.port, *ask, threads=threads)
            taken, own = sum(map(spent, serving)) - before, time.process_time() - own
            cost = taken * 1000 / (pace * SECONDS)
            print(
                f"{processes} of nlatch desk {pace:>8.0f}{median:>11.1f}{tail:>9.1f}  "
                f"{cost:.2f} ms of processor time a draw; the client takes "
                f"{own / SECONDS:.2f} of a core"
            )
            measured.append((pace, cost))
    return {
        processes: (
            statistics.median(pace for pace, _ in measured),
            statistics.median(cost for _, cost in measured),
        )
        for processes, measured in found.items()
    }


def main() -> None:
    """Run and print."""
    folder = Path(tempfile.mkdtemp(prefix="neatlatch-bench-"))
    stand_ins = StandIns(folder / "standins")
    desk = Desk(folder / "desk", stand_ins, folder / "standins" / "certificates" / "root.pem")
    desk.serve = ("-m", "bench.constant")
    try:
        desk.manage("migrate", "--verbosity", "0")
        made = json.loads(desk.python(FILL.format(port=stand_ins.port)).splitlines()[-1])
        desk.start("desk")
        basic = base64.b64encode(f"{made['asker']}:{made['secret']}".encode()).decode()
        asks = {
            "a constant": ("GET", "/constant", {}, ""),
            "through Django": ("GET", "/constant-by-django", {}, ""),
            "draws": (
                "GET",
                "/draw/cargo-manifests",
                {"Authorization": f"Bearer {made['key']}"},
                "",
            ),
            "introspections": (
                "POST",
                "/house/sandbox/introspect",
                {
                    "Authorization": f"Basic {basic}",
                    "Content-Type": "application/x-www-form-urlencoded",
                },
                urlencode({"token": made["token"]}),
            ),
        }
        for method, path, headers, body in asks.values():
            drive_once = http.client.HTTPConnection("127.0.0.1", desk.port, timeout=60)
            drive_once.request(method, path, body or None, headers)  # the first use is noted
            drive_once.getresponse().read()
        base, paces = 0.0, dict[str, float]()
        print(
            f"{THREADS} threads, {SECONDS:.0f} s "
            f"each\n{'':16}{'a second':>10}{'median ms':>11}{'p99 ms':>9}{'ratio':>8}"
        )
        for name, ask in asks.items():
            pace, median, tail = drive(desk.port, *ask)
            base = base or pace
            print(f"{name:16}{pace:>10.0f}{median:>11.1f}{tail:>9.1f}{pace / base:>8.2f}")
            paces[name] = pace
            if name in ("draws", "introspections"):
                django = paces["through Django"]
                row(
                    f"{name} a second, {THREADS} threads",
                    f"{pace:.0f}, p99 {tail:.0f} ms",
                    f"a constant through all of Django: {django:.0f}; bare {base:.0f}",
                    pace / base,
                    "half of the bare",
                    pace >= base / 2,
                )
        by_number = _by_processes(desk, asks["draws"])
        (one_pace, one_cost), (two_pace, two_cost) = by_number[1], by_number[2]
        row(
            f"draws a second by two processes, {THREADS_EACH} threads for each, the client on "
            "the same two cores",
            f"{two_pace:.0f}",
            f"by one: {one_pace:.0f}",
            two_pace / one_pace,
        )
        row(
            "processor time of a draw by two processes",
            f"{two_cost:.2f} ms",
            f"by one: {one_cost:.2f} ms",
            two_cost / one_cost,
            "1.15 ×: double with cores to spare",
            two_cost <= 1.15 * one_cost,
        )
        desk.python(ABOUT_TO_END.format(left=15))
        begun = time.perf_counter()
        answers = asyncio.run(many(desk.url, made["key"], 1000, "/draw/cargo-manifests"))
        assert set(answers) == {200}
        print(
            f"\na thousand draws at once of a token that is about to end: "
            f"{time.perf_counter() - begun:.1f} s until all have one"
        )
        before = (folder / "desk" / "desk.sqlite3").stat().st_size
        rows = desk.python(
            "from neatlatch.desk.work.drawing.models import Drawn\nDrawn.objects.all().delete()\n"
            + SIZE.format(hours=168, workloads=20, each=298)
        )
        desk.python(
            "from django.db import connection\nconnection.cursor().execute('PRAGMA "
            "wal_checkpoint(TRUNCATE)')"
        )
        after = (folder / "desk" / "desk.sqlite3").stat().st_size
        print(
            f"a million draws by 20 workloads in a week: {rows.split()[-1]} rows, "
            f"{(after - before) / 2**20:.1f} MiB"
        )
        desk.python(
            "from datetime import timedelta\nfrom django.utils import timezone\nfrom "
            "neatlatch.desk.work.drawing import ledger\nledger.roll_up(timezone.now() + "
            "timedelta(days=30))"
        )
        print(
            "a month later: "
            + desk.python(
                "from neatlatch.desk.work.drawing.models import "
                "Drawn\nprint(Drawn.objects.count(), 'rows')"
            ).strip()
        )
    finally:
        desk.kill()
        stand_ins.stop()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
