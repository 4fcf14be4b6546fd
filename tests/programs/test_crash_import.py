"""SIGKILL in the middle of an import: it goes on where it was, nothing is lost or done twice, and
others can change what is not in it.
"""

from __future__ import annotations

import json
from itertools import cycle
from typing import Any

import httpx
import pytest
import yaml

from tests.harness import WHOLE, Desk, World, wait_until

MANY = 400 if WHOLE else 120
STATE = """
import json
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.journal import services as journal
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.work.inventory.models import ImportPlan

print(
    json.dumps(
        {
            "plans": [
                [plan.state, plan.done, plan.total, plan.worker]
                for plan in ImportPlan.objects.order_by("begun")
            ],
            "workloads": sorted(
                Workload.objects.filter(name__startswith="Night run").values_list("name", flat=True)
            ),
            "told": Entry.objects.filter(did="applied: add", ref__startswith="Night run").count(),
            "journal": journal.check().fault,
        }
    )
)
"""


def state(desk: Desk) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(desk.python(STATE).splitlines()[-1])
    return found


def night_run(number: int, round_: int) -> str:
    return f"Night run {round_}-{number:03}"


def _change_pace(web: httpx.Client, pace: float) -> int:
    version = web.get("/api/connections/production/cargo-manifests").headers["ETag"]
    return web.patch(
        "/api/connections/production/cargo-manifests",
        json={"pace": pace},
        headers={"If-Match": version},
    ).status_code


@pytest.mark.parametrize("round_", range(8 if WHOLE else 1))
def test_killed_in_the_middle_of_an_import(world: World, round_: int) -> None:
    try:
        _kill_and_go_on(world, round_)
    finally:
        world.desk.kill()


def _kill_and_go_on(world: World, round_: int) -> None:
    desk = world.desk
    desk.start()
    web = desk.client("morag", world.password)
    plain = yaml.safe_load(web.get("/api/inventory").text)
    for number in range(MANY):
        name = night_run(number, round_)
        uses = [{"application": "cargo-manifests", "connection": "production/cargo-manifests"}]
        plain["workloads"][f"{name}/production"] = {
            "name": name,
            "environment": "production",
            "uses": uses,
        }
    text = yaml.safe_dump(plain, sort_keys=False)
    seen = web.post("/api/inventory/previews", json={"text": text}).json()
    assert seen["adds"] == MANY
    begun = web.post("/api/inventory/imports", json={"text": text, "standing": seen["standing"]})
    assert begun.status_code == 202, begun.text
    at = f"/api/inventory/imports/{begun.json()['plan']['id']}"
    world.clock.jump(seconds=5)  # the worker looks every two seconds
    wait_until(lambda: web.get(at).json()["done"] > (round_ * MANY) // 10, what="some blocks")
    desk.kill()  # desk and worker
    cut = state(desk)
    how, done, total, _ = cut["plans"][-1]
    assert (how, total) == ("applying", MANY)
    assert 0 < done < MANY
    own = [name for name in cut["workloads"] if name.startswith(f"Night run {round_}-")]
    assert len(own) == done  # whole blocks, and what is counted is there
    assert cut["told"] == len(cut["workloads"])

    desk.start("desk")  # without the worker that goes on with it
    web = desk.client("morag", world.password)
    for name in (own[0], own[-1]):
        workload = next(
            workload
            for workload in web.get("/api/workloads", params={"words": name}).json()["items"]
            if workload["name"] == name
        )
        version = web.get(f"/api/workloads/{workload['id']}").headers["ETag"]
        edited = web.patch(
            f"/api/workloads/{workload['id']}",
            json={"runs": "weekly"},
            headers={"If-Match": version},
        )
        assert edited.status_code == 409, edited.text
        assert edited.json()["code"] == "import-in-progress"
    desk.start("worker")
    paces, answers = cycle((4.0, 5.0)), []
    while not web.get(at).json()["ended"]:  # what is not in it is changed as ever
        answers.append(_change_pace(web, next(paces)))
    assert answers.count(200) == len(answers) > 0
    after = state(desk)
    assert after["plans"][-1] == ["applied", MANY, MANY, ""]
    assert [
        name for name in after["workloads"] if name.startswith(f"Night run {round_}-")
    ] == sorted(night_run(n, round_) for n in range(MANY))
    assert after["told"] == len(after["workloads"])
    assert after["journal"] is None
