"""Several processes behind one socket: all answer, one pace holds for them, one that dies is
replaced, and none outlives its parent.
"""

from __future__ import annotations

import json
import os
import signal
import threading
import time
from pathlib import Path

import httpx
import pytest

from tests.harness import NOBODY, Desk, World, wait_until

MADE = """
import json
from neatlatch.demo import house
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.drawing import services

by = Person.objects.get(username="morag")
Connection.objects.update(pace=5)
_, handover = services.give(
    by, Workload.objects.get(name="Rehearsal of the night run"), "key", right="draw"
)
print(json.dumps(house.take(by, handover)))
"""


LOADED = """
import sys
from django.conf import settings
import neatlatch.desk.pages.asgi
print(settings.ROOT_URLCONF in sys.modules)
"""


def children(process: int) -> set[int]:
    """The processes that serve: those that a process has started and that read from its socket."""
    found = set()
    for path in Path(f"/proc/{process}/task").glob("*/children"):
        for text in path.read_text().split():
            if (
                "spawn_main" in Path(f"/proc/{text}/cmdline").read_text()
                and "resource_tracker" not in Path(f"/proc/{text}/cmdline").read_text()
            ):
                found.add(int(text))
    return found


def runs(process: int) -> bool:
    """Whether a process runs; one that has ended and that nobody has asked about does not."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


@pytest.fixture(scope="module")
def desk(world: World) -> Desk:
    found = world.desk
    found.serve = ("-m", "neatlatch.cli", "desk", "--processes", "2")
    return found


def test_a_process_that_says_that_it_can_serve_has_loaded_its_pages(desk: Desk) -> None:
    assert desk.python(LOADED).splitlines()[-1] == "True"


def test_two_processes_serve_as_one(world: World, desk: Desk) -> None:
    key = json.loads(desk.python(MADE).splitlines()[-1])
    desk.start()
    parent = desk.programs["desk"].pid
    wait_until(lambda: len(children(parent)) == 2, what="two processes")
    statuses: list[int] = []

    def relay(count: int) -> None:
        for _ in range(
            count
        ):  # each on a connection of its own, which any of the processes may take
            answer = httpx.get(
                f"{desk.url}/relay/cargo-manifests/manifests",
                headers={"Authorization": f"Bearer {key}"},
                timeout=60,
                verify=NOBODY,
            )
            statuses.append(answer.status_code)

    assert (
        httpx.get(
            f"{desk.url}/draw/cargo-manifests",
            headers={"Authorization": f"Bearer {key}"},
            verify=NOBODY,
        ).status_code
        == 200
    )
    begun = time.monotonic()
    threads = [threading.Thread(target=relay, args=(8,)) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert statuses == [200] * 24
    # Five at once and five a second: the other nineteen take nearly four seconds, however many
    # processes there are.
    assert time.monotonic() - begun > 3.5

    before = children(parent)
    os.kill(min(before), signal.SIGKILL)
    wait_until(
        lambda: len(children(parent)) == 2 and children(parent) != before,
        what="another in its place",
    )
    wait_until(lambda: httpx.get(f"{desk.url}/alive", verify=NOBODY).is_success, what="the desk")
    web = desk.client("morag", world.password)
    assert web.get("/api/connections").status_code == 200

    left = children(parent)
    os.kill(parent, signal.SIGKILL)
    desk.programs.pop("desk").wait()
    wait_until(
        lambda: not any(runs(process) for process in left), what="the end of all", seconds=60
    )
    desk.kill()
