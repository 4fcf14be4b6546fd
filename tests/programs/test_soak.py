"""Memory of the desk: after the first requests, which fill what is kept, thousands more leave it as
it is.
"""

from __future__ import annotations

import json
from itertools import cycle, islice
from pathlib import Path

import httpx
import pytest

from tests.harness import NOBODY, WHOLE, Desk, World

from .test_processes import MADE

# Requests until what is kept is filled, and then.
FIRST, THEN = (5_000, 50_000) if WHOLE else (600, 1_200)
# Octets that the desk may have more afterwards: of an allocator that gives nothing back, not of
# anything that grows with requests. Fifty thousand that left a hundred octets each would be five
# million.
MORE = (6 if WHOLE else 12) * 2**20


@pytest.fixture(scope="module")
def desk(world: World) -> Desk:
    return world.desk


def memory(process: int) -> int:
    """Octets that a process holds (proc(5), VmRSS)."""
    line = next(
        line
        for line in Path(f"/proc/{process}/status").read_text().splitlines()
        if line.startswith("VmRSS")
    )
    return int(line.split()[1]) * 1024


def test_memory_is_flat_over_thousands_of_requests(world: World, desk: Desk) -> None:
    key = json.loads(desk.python(MADE.replace("pace=5", "pace=1000")).splitlines()[-1])
    desk.start()
    web = desk.client("morag", world.password)
    program = httpx.Client(
        base_url=desk.url, headers={"Authorization": f"Bearer {key}"}, timeout=90, verify=NOBODY
    )
    looks = [
        "/api/today",
        "/api/connections",
        "/api/connections/production/cargo-manifests",
        "/api/credentials",
        "/api/applications",
        "/api/workloads",
        "/api/search?words=cargo",
        "/api/journal",
        "/api/inventory/imports/open",
        "/",
    ]
    asks = cycle(
        [
            *((web, path) for path in looks),
            (program, "/draw/cargo-manifests"),
            (program, "/relay/cargo-manifests/manifests"),
        ]
    )

    def ask(count: int) -> None:
        for client, path in islice(asks, count):
            answer = client.get(path)
            assert answer.status_code == 200, (path, answer.text[:300])

    process = desk.programs["desk"].pid
    ask(FIRST)
    before = memory(process)
    seen = []
    for _ in range(5):
        ask(THEN // 5)
        seen.append(memory(process))
    print(
        f"{before / 2**20:.1f} MiB after {FIRST:,} requests; then, each {THEN // 5:,} "
        f"later: {', '.join(f'{item / 2**20:.1f}' for item in seen)}"
    )
    assert seen[-1] - before <= MORE, [item - before for item in seen]
    desk.kill()
