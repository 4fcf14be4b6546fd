"""SIGKILL in the middle of issuing and of handing over: nothing is lost, nothing is doubled,
nothing is shown twice.
"""

from __future__ import annotations

import json
import shutil
import threading
from collections.abc import Iterator
from typing import Any

import httpx
import pytest

from tests.harness import WHOLE, Desk, StandIns

FILL = """
import json
from neatlatch.demo.load import load_environments, load_people
from neatlatch.desk.estate.records.applications.models import Application, Environment, Deployment
from django.utils import timezone
import yaml
from neatlatch.demo.load import SCENARIO

story = yaml.safe_load(SCENARIO.read_text())
load_environments(story)
logins = load_people(story)
application = Application.objects.create(
    key="crew-roster",
    name="Crew roster",
    profile={"schemes": [{"key": "certificate"}, {"key": "bearer"}], "scopes": []},
)
Deployment.objects.create(
    application=application,
    environment=Environment.objects.get(key="production"),
    house=True,
    changed_at=timezone.now(),
)
print(json.dumps(logins["morag"][1]))
"""
STATE = """
import json
from collections import Counter
from cryptography import x509
from neatlatch.desk.authority.records.certificates.models import Authority, Issued
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.ground.journal import services
from neatlatch.desk.ground.journal.models import Entry

made = Counter(one.details.get("id") for one in Entry.objects.filter(noun="credential", did="made"))
shown = Counter(
    one.details.get("id")
    for one in Entry.objects.filter(noun="credential", did="was shown the secret")
)
print(
    json.dumps(
        {
            "clients": dict(Counter(Client.objects.values_list("name", flat=True))),
            "credentials": Credential.objects.count(),
            "handovers": Handover.objects.count(),
            "issued": Issued.objects.count(),
            "serials": Issued.objects.values("serial").distinct().count(),
            "authorities": Authority.objects.count(),
            "without_certificate": Credential.objects.filter(
                kind="private_key", certificate=None
            ).count(),
            "without_credential": Client.objects.filter(credentials=None).count(),
            "made": sorted(set(made.values())),
            "made_of": len(made),
            "shown": sorted(set(shown.values())),
            "shown_rows": Handover.objects.exclude(shown=None).count(),
            "shown_entries": len(shown),
            "journal": services.check().fault,
        }
    )
)
"""
COUNT, THREADS = 16, 4


@pytest.fixture
def desk(
    stand_ins: StandIns, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Desk, str]]:
    from tests.settings import HOME_OF_TESTS

    home = HOME_OF_TESTS / "crash-issuing"
    shutil.rmtree(home, ignore_errors=True)
    found = Desk(home, stand_ins, HOME_OF_TESTS / "standins" / "certificates" / "root.pem")
    found.migrate()
    password = json.loads(found.python(FILL).splitlines()[-1])
    found.start("desk")
    yield found, password
    found.kill()


def state(desk: Desk) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(desk.python(STATE).splitlines()[-1])
    return found


def side_by_side(jobs: list[Any], work: Any, killed_after: int, desk: Desk) -> dict[Any, Any]:
    """Do jobs with several threads, and kill the desk once so many are answered.

    Returns what came back, by job.
    """
    answers: dict[Any, Any] = {}
    waiting, enough = list(jobs), threading.Event()

    def worker() -> None:
        while waiting:
            job = waiting.pop()
            try:
                answers[job] = work(job)
                if len(answers) >= killed_after:
                    enough.set()
            except httpx.HTTPError:
                return

    threads = [threading.Thread(target=worker) for _ in range(THREADS)]
    for thread in threads:
        thread.start()
    assert enough.wait(180)
    desk.kill("desk")
    for thread in threads:
        thread.join()
    return answers


@pytest.mark.parametrize("killed_after", range(1, COUNT - THREADS) if WHOLE else [5])
def test_killed_while_it_issues_and_hands_over(desk: tuple[Desk, str], killed_after: int) -> None:
    found, password = desk
    web = found.client("morag", password)

    def register(number: int) -> Any:
        kind = "certificate" if number % 2 else "bearer"
        body = {
            "application": "crew-roster",
            "environment": "production",
            "name": f"client {number}",
            "scheme": kind,
            "by_house": True,
            "by_protocol": False,
        }
        answer = web.post("/api/clients", json=body, headers={"Idempotency-Key": f"key-{number}"})
        answer.raise_for_status()
        return answer.json()

    first = side_by_side(list(range(COUNT)), register, killed_after, found)
    half = state(found)
    assert killed_after <= len(first) < COUNT
    assert set(half["clients"].values()) <= {1}
    assert half["journal"] is None
    # Each is whole or not there at all: a client with its credential, its handover and its entry of
    # the journal.
    assert half["without_credential"] == half["without_certificate"] == 0
    assert half["credentials"] == half["handovers"] == half["made_of"]

    found.start("desk")
    web = found.client("morag", password)
    again = {number: register(number) for number in range(COUNT)}  # the same requests once more
    for number, answer in first.items():
        assert again[number]["id"] == answer["id"]
    whole = state(found)
    assert whole["clients"] == {f"client {number}": 1 for number in range(COUNT)}
    assert whole["credentials"] == whole["handovers"] == whole["made_of"] == COUNT
    assert whole["made"] == [1]
    assert whole["issued"] == whole["serials"] == COUNT // 2
    assert whole["authorities"] == 2

    handovers = [answer["handover"] for answer in again.values()]

    def show(identity: str) -> Any:
        answer = web.post(f"/api/handovers/{identity}/revelations")
        answer.raise_for_status()
        return answer.json()["value"]

    seen = side_by_side(handovers, show, killed_after, found)
    found.start("desk")
    web = found.client("morag", password)
    left = [handover for handover in handovers if handover not in seen]
    second = {item: web.post(f"/api/handovers/{item}/revelations") for item in left}
    for item in seen:
        assert (
            web.post(f"/api/handovers/{item}/revelations").status_code == 410
        )  # shown once, never again
    assert {answer.status_code for answer in second.values()} <= {200, 410}
    # Of those whose answer was lost, each thread had at most one; a new one is made for it.
    assert sum(answer.status_code == 410 for answer in second.values()) <= THREADS
    values = [
        *seen.values(),
        *(answer.json()["value"] for answer in second.values() if answer.status_code == 200),
    ]
    assert len(set(values)) == len(values)
    over = state(found)
    assert over["shown"] == [1]
    assert over["shown_entries"] == over["shown_rows"] == COUNT
    assert over["journal"] is None
