"""SIGKILL in the middle of a round and of a renewal, before its answer and after it: after the
restart nothing is lost or doubled, and the connection still works.
"""

from __future__ import annotations

import contextlib
import json
import sqlite3
from pathlib import Path
from typing import Any

import pytest

from tests.harness import WHOLE, Desk, StandIns, World, wait_until

STATE = """
import json
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.work.rounds.models import Round, Sample, Test, Leftover
from neatlatch.desk.ground.journal import services

print(
    json.dumps(
        {
            "states": dict(Connection.objects.values_list("ref", "state")),
            "rounds": [
                [
                    r.number,
                    r.ended is not None,
                    list(r.tests.values_list("connection__ref", "state", "passed")),
                ]
                for r in Round.objects.order_by("number")
            ],
            "samples": [
                Sample.objects.filter(test_id=t).count()
                for t in Test.objects.filter(round__isnull=False, state="done").values_list(
                    "pk", flat=True
                )
            ],
            "generation": TokenSet.objects.get(
                connection__ref="sandbox/cargo-manifests"
            ).generation,
            "id": str(Connection.objects.get(ref="sandbox/cargo-manifests").pk),
            "leases": list(
                TokenSet.objects.exclude(lease="").values_list("connection__ref", flat=True)
            ),
            "leftovers": Leftover.objects.count(),
            "journal": services.check().fault,
        }
    )
)
"""


@pytest.fixture(scope="module")
def desk(world: World) -> Desk:
    return world.desk


@pytest.fixture(scope="module")
def stand_ins(world: World) -> StandIns:
    return world.stand_ins


def state(desk: Desk) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(desk.python(STATE).splitlines()[-1])
    return found


# Seconds after which an access token of Cargo manifests, which lives 900 s, is to be renewed.
NEAR_ITS_END = 850


def passes(world: World) -> None:
    """The connection that a renewal was cut off on still works."""
    web = world.desk.client("morag", world.password)
    test = web.post("/api/connections/sandbox/cargo-manifests/tests").json()
    found = wait_until(
        lambda: (lambda item: item if item["state"] == "done" else None)(
            web.get(f"/api/tests/{test['id']}").json()
        ),
        what="the test",
    )
    assert found["passed"], found["rungs"][-1]


def log_of(desk: Desk, name: str) -> str:
    return (Path(desk.home) / f"{name}.log").read_text()[-2000:]


def test_killed_in_the_middle_of_a_round(world: World, desk: Desk, stand_ins: StandIns) -> None:
    desk.start()
    web = world.desk.client("morag", world.password)
    wait_until(
        lambda: (
            web.get("/api/rounds").json()["items"]
            and web.get("/api/rounds").json()["items"][0]["ended"]
        ),
        what="the first round",
    )
    stand_ins.fault("hold", where="make")
    made = stand_ins.calls("manifest_made")
    number = web.post("/api/rounds").json()["number"]
    wait_until(
        lambda: stand_ins.calls("manifest_made") > made, what="the making of a test manifest"
    )
    desk.kill()  # desk and worker, while the answer is held
    stand_ins.fault("none")
    assert stand_ins.state()["manifests"] != []
    before = state(desk)
    assert [item for item in before["rounds"] if item[0] == number][0][1] is False

    desk.start()
    web = world.desk.client("morag", world.password)
    wait_until(
        lambda: web.get(f"/api/rounds/{number}").json()["ended"],
        what=f"the end of the round {log_of(desk, 'worker')}",
    )
    after = state(desk)
    refs = [
        ref
        for ref, how, passed in next(tests for n, ended, tests in after["rounds"] if n == number)
    ]
    assert sorted(refs) == ["production/cargo-manifests", "sandbox/cargo-manifests"]
    assert all(how == "done" for n, ended, tests in after["rounds"] for ref, how, passed in tests)
    assert set(after["samples"]) == {1}
    assert after["states"]["sandbox/cargo-manifests"] == "latched"
    assert after["journal"] is None
    wait_until(lambda: stand_ins.state()["manifests"] == [], what="the clearing away")
    assert after["leftovers"] == 0
    desk.kill()


@pytest.mark.parametrize("time_", range(8 if WHOLE else 1))
def test_killed_in_the_middle_of_a_renewal(
    world: World, desk: Desk, stand_ins: StandIns, time_: int
) -> None:
    """The stand-in has rotated and the answer is under way when worker and desk are killed."""
    desk.kill()
    world.clock.jump(seconds=NEAR_ITS_END)
    before = state(desk)
    issued, repeated = stand_ins.calls("issued:refresh_token"), stand_ins.calls("refresh_repeated")
    stand_ins.fault("hold", where="token")
    desk.start()
    wait_until(
        lambda: stand_ins.calls("issued:refresh_token") == issued + 1,
        what=f"the renewal {log_of(desk, 'worker')}",
    )
    desk.kill()
    stand_ins.fault("none")
    cut = state(desk)
    assert cut["generation"] == before["generation"]  # the answer never came
    assert cut["leases"] == ["sandbox/cargo-manifests"]

    desk.start()
    wait_until(
        lambda: stand_ins.calls("refresh_repeated") == repeated + 1,
        what=f"the repeated renewal {log_of(desk, 'worker')}",
    )
    passes(world)
    after = state(desk)
    assert after["generation"] == before["generation"] + 1
    assert after["leases"] == []
    assert stand_ins.calls("issued:refresh_token") == issued + 2


@pytest.mark.parametrize("time_", range(8 if WHOLE else 1))
def test_killed_between_the_answer_and_saving_it(
    world: World, desk: Desk, stand_ins: StandIns, time_: int
) -> None:
    """The stand-in has rotated, its answer has come, and the database is locked when worker and
    desk are killed.
    """
    desk.kill()
    world.clock.jump(seconds=NEAR_ITS_END)
    before = state(desk)
    issued, repeated = stand_ins.calls("issued:refresh_token"), stand_ins.calls("refresh_repeated")
    stand_ins.fault("hold", where="token")
    desk.start("worker")
    wait_until(
        lambda: stand_ins.calls("issued:refresh_token") == issued + 1,
        what=f"the renewal {log_of(desk, 'worker')}",
    )
    with contextlib.closing(
        sqlite3.connect(desk.home / "desk.sqlite3", isolation_level=None, timeout=60)
    ) as other:
        other.execute("BEGIN IMMEDIATE")
        stand_ins.fault("none")
        wait_until(
            lambda: list((desk.home / "won").glob(f"tokens-{before['id']}-*.note")),
            what=f"the note {log_of(desk, 'worker')}",
        )
        desk.kill()
    cut = state(desk)
    assert cut["generation"] == before["generation"]

    desk.start()
    assert list((desk.home / "won").iterdir()) == []  # taken up before the first request
    after = state(desk)
    assert after["generation"] == before["generation"] + 1
    assert after["leases"] == []
    assert (stand_ins.calls("issued:refresh_token"), stand_ins.calls("refresh_repeated")) == (
        issued + 1,
        repeated,
    )
    passes(world)
    desk.kill()
