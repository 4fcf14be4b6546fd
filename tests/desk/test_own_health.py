"""The health of Neat Latch itself."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from neatlatch.desk.authority.scheduled_backups import BackupRecord
from neatlatch.desk.ground.common import beats
from neatlatch.desk.ground.common.actors import Program
from neatlatch.desk.ground.common.beats import Beat
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.work import own_health
from neatlatch.desk.work.own_health import HealthFacts
from neatlatch.desk.work.rounds import at_work
from neatlatch.desk.work.rounds.clockwork import Loop

from .conftest import Setup

NOW = datetime(2026, 12, 1, 4, 0, tzinfo=UTC)
GIB = 1024**3
SOUND = HealthFacts(
    now=NOW,
    database=GIB // 8,
    log=4096,
    free=40 * GIB,
    worker=True,
    waiting=3,
    beats=(Beat("rounds", NOW - timedelta(seconds=4), 5.0),),
    backup=BackupRecord(NOW - timedelta(days=1), True),
)


def states(seen: HealthFacts) -> dict[str, str]:
    """What is not in order."""
    return {check.key: check.state for check in own_health.judge(seen) if check.state != "good"}


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({}, {}),
        ({"log": GIB}, {"database": "warning"}),
        ({"free": GIB // 2}, {"disk": "warning"}),
        ({"free": GIB // 8}, {"disk": "bad"}),
        ({"database": 50 * GIB}, {"disk": "warning"}),  # no room for as much again
        ({"worker": False}, {"worker": "bad", "clockwork": "bad", "queue": "warning"}),
        (
            {"worker": False, "waiting": 0, "beats": ()},
            {"worker": "bad", "clockwork": "warning"},
        ),
        ({"waiting": 5000}, {"queue": "warning"}),
        ({"backup": BackupRecord(None)}, {"backup": "warning"}),
        ({"backup": BackupRecord(NOW - timedelta(days=8), True)}, {"backup": "warning"}),
        ({"backup": BackupRecord(NOW, None)}, {}),
        ({"backup": BackupRecord(NOW, False, "The key is another's.")}, {"backup": "bad"}),
    ],
)
def test_each_part_is_judged(change: dict[str, Any], told: dict[str, str]) -> None:
    assert states(replace(SOUND, **change)) == told


@pytest.mark.parametrize(
    ("beat", "state"),
    [
        (Beat("imports", NOW - timedelta(seconds=59), 5.0), None),
        (Beat("imports", NOW - timedelta(seconds=61), 5.0), "bad"),
        (Beat("house", NOW - timedelta(minutes=20), 600.0), None),
        (Beat("house", NOW - timedelta(minutes=31), 600.0), "bad"),
        (Beat("imports", NOW - timedelta(minutes=90), 5.0, goes_on=True), None),
        (Beat("imports", NOW - timedelta(hours=3), 5.0, goes_on=True), "bad"),
        (Beat("renewals", NOW, 5.0, failed="OperationalError"), "warning"),
    ],
)
def test_what_is_late_or_failed_is_told(beat: Beat, state: str | None) -> None:
    seen = replace(SOUND, beats=(*SOUND.beats, beat))
    assert states(seen).get("clockwork") == state
    (check,) = (check for check in own_health.judge(seen) if check.key == "clockwork")
    assert own_health._in_words(beat) in check.says


def test_a_loop_leaves_its_beat(settings: Any, tmp_path: Path) -> None:
    settings.HOME = tmp_path
    seen: list[Beat] = []

    def work() -> None:
        seen.extend(beats.last())
        raise RuntimeError

    loop = Loop("renewals", work, timedelta(seconds=5))
    loop._run_once(NOW)
    assert seen == [Beat("renewals", NOW, 5.0, goes_on=True)]
    assert beats.last() == [Beat("renewals", NOW, 5.0, failed="RuntimeError")]
    (tmp_path / "beats" / "broken.json").write_text("{")
    assert [beat.name for beat in beats.last()] == ["renewals"]


def test_the_api_tells_what_is(setup: Setup, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(at_work, "is_running", lambda: False)
    told = {check["key"]: check for check in setup.web().get("/api/health").json()["checks"]}
    assert set(told) == {"database", "disk", "worker", "clockwork", "queue", "backup"}
    assert (told["worker"]["state"], told["backup"]["state"]) == ("bad", "warning")
    assert "nlatch serve" in told["worker"]["act"]
    write(Program("the safe"), "backed up", "safe", "copy.sqlite3")
    told = {
        check["key"]: check for check in setup.web("reader").get("/api/health").json()["checks"]
    }
    assert told["backup"]["state"] == "good"
