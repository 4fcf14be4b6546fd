"""What a relayed request costs the desk in processor time, one after the other and eight at once,
against the very request sent by a bare client that keeps its connection.

``python -m bench.relay``: manually, on a machine that does nothing else. The application is a
stand-in on the same machine, whose own time is not counted.
"""

from __future__ import annotations

import http.client
import json
import os
import shutil
import ssl
import tempfile
import threading
import time
from pathlib import Path

from tests.harness import Desk, StandIns

from .table import row

COUNT, THREADS = 400, 8
FILL = """
import json
from neatlatch.demo import house
from neatlatch.demo.load import load
from neatlatch.desk.work.drawing import services
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.records.connections.models import Connection

load({port}, only=("cargo-manifests",))
by = Person.objects.get(username="morag")
Connection.objects.update(pace=1000)
_, own = services.give(
    by, Workload.objects.get(name="Rehearsal of the night run"), "key", right="relay"
)
found = Connection.objects.get(ref="sandbox/cargo-manifests")
print(
    json.dumps(
        {{
            "key": house.take(by, own),
            "base": found.values["api_base"],
            "token": found.tokens.open_access().reveal(),
        }}
    )
)
"""
_TICKS = os.sysconf("SC_CLK_TCK")


def spent(process: int) -> float:
    """Seconds of processor time that a process has taken (proc(5), utime and stime)."""
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / _TICKS


def relayed(desk: Desk, key: str, threads: int) -> tuple[float, float]:
    """Milliseconds of the desk's processor time for a request, and requests a second."""
    each = COUNT // threads

    def worker() -> None:
        line = http.client.HTTPConnection("127.0.0.1", desk.port, timeout=60)
        for _ in range(each):
            line.request(
                "GET",
                "/relay/cargo-manifests/manifests",
                headers={"Authorization": f"Bearer {key}"},
            )
            answer = line.getresponse()
            body = answer.read()
            assert answer.status == 200, body
        line.close()

    before, begun = spent(desk.programs["desk"].pid), time.perf_counter()
    running = [threading.Thread(target=worker) for _ in range(threads)]
    for thread in running:
        thread.start()
    for thread in running:
        thread.join()
    count = each * threads
    return (spent(desk.programs["desk"].pid) - before) * 1000 / count, count / (
        time.perf_counter() - begun
    )


def bare(base: str, token: str, trust: Path) -> float:
    """Milliseconds of this process's own time for the same request on a connection that is kept."""
    host, _, path = base.removeprefix("https://").partition("/")
    line = http.client.HTTPSConnection(
        host, context=ssl.create_default_context(cafile=str(trust)), timeout=60
    )
    begun = time.process_time()
    for _ in range(COUNT):
        line.request(
            "GET",
            f"/{path}/manifests".replace("//", "/"),
            headers={"Authorization": f"Bearer {token}"},
        )
        answer = line.getresponse()
        body = answer.read()
        assert answer.status == 200, body
    return (time.process_time() - begun) * 1000 / COUNT


def main() -> None:
    """Run and print."""
    folder = Path(tempfile.mkdtemp(prefix="neatlatch-bench-"))
    stand_ins = StandIns(folder / "standins")
    trust = folder / "standins" / "certificates" / "root.pem"
    desk = Desk(folder / "desk", stand_ins, trust)
    try:
        desk.manage("migrate", "--verbosity", "0")
        made = json.loads(desk.python(FILL.format(port=stand_ins.port)).splitlines()[-1])
        desk.start("desk")
        relayed(desk, made["key"], 1)  # what a process keeps is kept
        reference = bare(made["base"], made["token"], trust)
        for threads in (1, THREADS):
            cost, pace = relayed(desk, made["key"], threads)
            print(
                f"{threads} at once: {cost:.1f} ms of the desk's time a request, {pace:.0f} a "
                f"second; bare client {reference:.2f} ms"
            )
            row(
                f"a relayed request, {threads} at once",
                f"{cost:.1f} ms of processor time, {pace:.0f} a second",
                f"a bare client on a kept connection: {reference:.2f} ms",
                cost / reference,
                "6 ms",
                cost <= 6,
            )
    finally:
        desk.kill()
        stand_ins.stop()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
