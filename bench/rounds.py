"""Lists while a round goes on, against the same lists when nothing does: a round writes each
connection's health and summary.

    python -m bench.rounds [how many, 10000] [home, a filled one]

The round is a real one, worked on by four threads of a process of its own; only the calls to
applications are left out, so that it is as quick as it can be.
"""

from __future__ import annotations

import os
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from .table import row

TIMES = 40
LISTS = (
    "/api/connections",
    "/api/connections?words=state:unlatched",
    "/api/credentials",
    "/api/today",
    "/api/applications",
    "/api/workloads",
)
ROUND = """
import contextlib, sys, threading
import django

django.setup()
from neatlatch.core.evidence import Rung, RungResult
from neatlatch.desk.ground.common.actors import CLOCK
from neatlatch.desk.work.rounds import services


class LadderRun:
    clock_skew = None

    def __init__(self, *given):
        pass

    def run(self):
        for rung in (Rung.FIND, Rung.REACH, Rung.SECURE, Rung.SIGN_IN, Rung.ALLOWED, Rung.WORK):
            yield RungResult(rung, True, "made up", 1.0)


services.LadderRun = LadderRun
services.destinations.transport_of = lambda *given: contextlib.nullcontext()
while True:
    number = services.begin_round(CLOCK).number
    print(number, flush=True)
    hands = [
        threading.Thread(target=services.work_on, args=(number,), daemon=True) for _ in range(4)
    ]
    for one in hands:
        one.start()
    for one in hands:
        one.join()
"""


def main() -> None:
    """Fill, ask in turns, print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    home = sys.argv[2] if len(sys.argv) > 2 else tempfile.mkdtemp(prefix="neatlatch-bench-")
    os.environ.update(
        {
            "NEATLATCH_HOME": home,
            "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
            "NEATLATCH_LOG": "ERROR",
        }
    )
    import django

    django.setup()
    from django.core.management import call_command
    from django.test import Client as WebClient

    from neatlatch.demo.fill import fill
    from neatlatch.desk.ground.people.models import Person
    from neatlatch.desk.work.rounds.models import Test

    fresh = not (Path(home) / "desk.sqlite3").exists()
    call_command("migrate", verbosity=0)
    if fresh:
        fill(count, lambda done: None)
    web = WebClient(HTTP_HOST="127.0.0.1")
    reader = Person.objects.filter(username="bench").first() or Person.objects.create_user(
        "bench", password="x", role="administrator"
    )
    web.force_login(reader, backend="django.contrib.auth.backends.ModelBackend")

    def ask_all() -> dict[str, float]:
        taken: dict[str, list[float]] = {address: [] for address in LISTS}
        for _ in range(TIMES):
            for address in LISTS:
                begun = time.perf_counter()
                assert web.get(address).status_code == 200, address
                taken[address].append((time.perf_counter() - begun) * 1000)
        return {address: statistics.median(times) for address, times in taken.items()}

    ask_all()
    idle = ask_all()
    round_ = subprocess.Popen([sys.executable, "-c", ROUND], stdout=subprocess.PIPE, env=os.environ)
    assert round_.stdout is not None
    round_.stdout.readline()  # it has begun
    done, begun = Test.objects.filter(state="done").count(), time.monotonic()
    busy = ask_all()
    tested = (Test.objects.filter(state="done").count() - done) / (time.monotonic() - begun)
    round_.send_signal(signal.SIGKILL)
    round_.wait()
    print(f"a round of {tested:.0f} tests a second")
    assert tested > 1
    for address in LISTS:
        ratio = busy[address] / idle[address]
        print(
            f"{address:<36} {busy[address]:7.1f} ms during a round, {idle[address]:7.1f} ms "
            f"idle: {ratio:4.1f} × (aim 2)"
        )
        row(
            f"`GET {address}` during a round of {tested:.0f} tests a second",
            f"{busy[address]:.1f} ms",
            f"idle: {idle[address]:.1f} ms",
            ratio,
            "2 ×",
            ratio <= 2,
        )


if __name__ == "__main__":
    main()
