"""Desk, worker and stand-ins by one clock, stepped from event to event: rounds, renewals,
hand-overs, lock-outs and sessions, without waiting for any.
"""

from __future__ import annotations

import json
from typing import Any

import httpx

from tests.harness import NOBODY, Clock, World

ROUND_MINUTES = 5
# Something that the house issues for.
HOUSE = """
from django.utils import timezone
from neatlatch.desk.estate.records.applications.models import Application, Environment, Deployment

application = Application.objects.create(
    key="crew-roster", name="Crew roster", profile={"schemes": [{"key": "bearer"}], "scopes": []}
)
Deployment.objects.create(
    application=application,
    environment=Environment.objects.get(key="production"),
    house=True,
    changed_at=timezone.now(),
)
"""
STATE = """
import json
from neatlatch.desk.estate.records.connections.models import TokenSet
from neatlatch.desk.estate.records.credentials.models import Handover
from neatlatch.desk.work.rounds.models import Round

print(
    json.dumps(
        {
            "rounds": [
                [r.begun.isoformat(), r.ended is not None] for r in Round.objects.order_by("number")
            ],
            "generation": TokenSet.objects.get(
                connection__ref="sandbox/cargo-manifests"
            ).generation,
            "handovers": [
                [h.closed is not None, h.credential.revoked is not None]
                for h in Handover.objects.filter(credential__client__name="a till")
            ],
        }
    )
)
"""


def test_from_event_to_event(world: World) -> None:
    clock, desk, stand_ins, password = world.clock, world.desk, world.stand_ins, world.password
    desk.python(HOUSE)
    desk.start()

    def state() -> Any:
        return json.loads(desk.python(STATE).splitlines()[-1])

    begun = clock.now
    clock.wait_for_idle("the first round")
    assert state()["rounds"] == [[begun.isoformat(), True]]
    clock.step(minutes=4, seconds=30)
    assert len(state()["rounds"]) == 1
    clock.step("the second round", minutes=1)
    assert [ended for _, ended in state()["rounds"]] == [True, True]

    # A token of 900 s is renewed when a fifth of its life is left, at 720 s, and not before.
    issued = stand_ins.calls("issued:refresh_token")
    # The application holds its answers, so the third round does not end; renewals and house-keeping
    # go on beside it.
    stand_ins.fault("hold", where="api", count=99)
    beside = Clock.LOOPS - {"rounds"}
    clock.step(minutes=6, loops=beside)  # 690 s
    found = state()
    assert [ended for _, ended in found["rounds"]] == [True, True, False]
    assert (stand_ins.calls("issued:refresh_token"), found["generation"]) == (issued, 1)
    clock.step("the renewal", minutes=1, loops=beside)  # 750 s
    found = state()
    assert (stand_ins.calls("issued:refresh_token"), found["generation"]) == (issued + 1, 2)
    assert [ended for _, ended in found["rounds"]] == [True, True, False]
    stand_ins.fault("none")
    clock.wait_for_idle("the end of the round")
    assert all(ended for _, ended in state()["rounds"])

    # A login name is locked after five wrong passwords, for fifteen minutes.
    stranger = httpx.Client(base_url=desk.url, timeout=90, verify=NOBODY)
    stranger.headers["X-CSRFToken"] = stranger.get("/api/session").json()["csrf"]
    said = [
        stranger.post("/api/session", json={"username": "morag", "password": "wrong"}).status_code
        for _ in range(6)
    ]
    assert said[0] == 401
    locked = said[-1]
    assert locked in (403, 429)
    assert (
        stranger.post("/api/session", json={"username": "morag", "password": password}).status_code
        == locked
    )
    clock.step(minutes=14)
    assert (
        stranger.post("/api/session", json={"username": "morag", "password": password}).status_code
        == locked
    )
    clock.step(minutes=17)
    web = desk.client("morag", password)

    # A secret of the house that nobody takes is revoked after a day; a session ends after twelve
    # hours.
    body = {
        "application": "crew-roster",
        "environment": "production",
        "name": "a till",
        "scheme": "bearer",
        "by_house": True,
        "by_protocol": False,
    }
    web.post("/api/clients", json=body, headers={"Idempotency-Key": "1"}).raise_for_status()
    clock.step(hours=11, minutes=59)
    assert web.get("/api/session").json()["person"]
    clock.step(minutes=2)
    assert web.get("/api/session").json()["person"] is None
    clock.step(hours=11, minutes=58)
    assert state()["handovers"] == [[False, False]]
    clock.step("the end of the hand-over", minutes=2)
    assert state()["handovers"] == [[True, True]]
