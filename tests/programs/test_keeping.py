"""The safe itself: re-keyed while everything runs and killed in the middle of it, backed up and
restored, and refusing to start without its key.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import stat
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.harness import NOBODY, ROOT, Desk, StandIns

FILL = """
import json, yaml
from neatlatch.core.schemes import BEARER
from neatlatch.demo import house
from neatlatch.demo.load import SCENARIO, load_environments, load_people
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.applications.shipped import shipped
from neatlatch.desk.authority.certificates import services as certificates
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.credentials.services import keep
from neatlatch.desk.estate.connections.destinations import DestinationPermission
from neatlatch.desk.work.drawing import services as drawing
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.estate.workloads import services as workloads

story = yaml.safe_load(SCENARIO.read_text())
load_environments(story)
logins = load_people(story)
by, kept = Person.objects.get(username="morag"), shipped()["lost-property"]
applications.add_manually(
    by,
    kept["name"],
    "production",
    {"api_base": "https://lost.example/api"},
    kept["profile"],
    "",
    "Passengers",
)
deployment = Deployment.objects.select_related("application", "environment").get()
connections.create(
    by,
    deployment,
    "lost-property",
    BEARER,
    None,
    {"api_base": "https://lost.example/api"},
    [],
    {"token": "a-made-up-token-of-theirs"},
)
use = workloads.use_connection(
    by,
    Connection.objects.get(),
    workloads.WorkloadFields("Found items page", "", "agent", "Web team", "always"),
    ["GET /items"],
)
_, handover = drawing.give(by, use.workload, "key", "draw", leave=DestinationPermission("a test"))
Deployment.objects.update(house=True)
certificates.register(
    by,
    Deployment.objects.select_related("application", "environment").get(
        application__key="lost-property"
    ),
    "A till",
    certificates.CertificateOrder("client"),
)
for number in range(420):
    keep(f"an old secret, number {number}", client=None, source="pasted", by="morag")
print(json.dumps({"password": logins["morag"][1], "key": house.take(by, handover)}))
"""
SEALED = """
import json
from neatlatch.desk.authority import rekeying
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.journal import services

opened = versions = 0
for model, field in safe.sealed_fields():
    for row in model.objects.filter(**{f"{field}__isnull": False}):
        safe.unseal(getattr(row, field), row.place_of(field))
        opened += 1
print(
    json.dumps(
        {
            "opened": opened,
            "behind": rekeying.behind(),
            "version": safe.current_version(),
            "journal": services.check().fault,
        }
    )
)
"""


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[tuple[Desk, dict[str, str]]]:
    from tests.settings import HOME_OF_TESTS

    found = Desk(
        HOME_OF_TESTS / "keeping",
        stand_ins,
        HOME_OF_TESTS / "standins" / "certificates" / "root.pem",
    )
    found.migrate()
    made = json.loads(found.python(FILL).splitlines()[-1])
    found.start()
    yield found, made
    found.kill()


def nlatch(desk: Desk, *words: str, home: Path | None = None) -> subprocess.CompletedProcess[str]:
    environment = desk.environment | ({"NEATLATCH_HOME": str(home)} if home else {})
    return subprocess.run(
        [sys.executable, "-m", "neatlatch.cli", *words],
        cwd=ROOT,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )


def sealed(desk: Desk) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(desk.python(SEALED).splitlines()[-1])
    return found


def draw(desk: Desk, key: str) -> int:
    return httpx.get(
        f"{desk.url}/draw/lost-property",
        headers={"Authorization": f"Bearer {key}"},
        timeout=60,
        verify=NOBODY,
    ).status_code


def test_rekeyed_while_it_runs_and_killed_in_the_middle(
    desk: tuple[Desk, dict[str, str]], stand_ins: StandIns
) -> None:
    found, made = desk
    before = sealed(found)
    assert (before["version"], before["behind"]) == (1, 0)
    answers: list[int] = []
    over = threading.Event()

    def keep_drawing() -> None:
        while not over.is_set():
            answers.append(draw(found, made["key"]))

    hands = [threading.Thread(target=keep_drawing) for _ in range(2)]
    for hand in hands:
        hand.start()
    running = subprocess.Popen(
        [sys.executable, "-m", "neatlatch.cli", "safe", "rekey"],
        cwd=ROOT,
        env=found.environment,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert running.stdout is not None
    assert "200" in running.stdout.readline()
    os.kill(running.pid, signal.SIGKILL)
    running.wait()
    half = sealed(found)
    assert 0 < half["behind"] < before["opened"]
    assert half["opened"] >= before["opened"]  # everything opens, with whichever key it was sealed
    done = nlatch(found, "safe", "rekey")
    over.set()
    for hand in hands:
        hand.join()
    assert done.returncode == 0, done.stderr
    after = sealed(found)
    assert (after["version"], after["behind"], after["journal"]) == (2, 0, None)
    assert set(answers) == {200}  # nobody was refused meanwhile
    assert len(answers) > 3
    # What is sealed now, by a program that was started before the new key, is sealed with it.
    web = found.client("morag", made["password"])
    web.post(
        "/api/connections/production/lost-property/secrets",
        json={"secret": "another-made-up-token-of-theirs"},
    ).raise_for_status()
    assert sealed(found)["behind"] == 0
    os.utime(found.home / "safe.key")  # however long all this took
    refused = nlatch(found, "safe", "drop-old")
    assert refused.returncode == 1
    assert "last minute" in refused.stderr
    os.utime(found.home / "safe.key", (0, 0))
    assert "version 1" in nlatch(found, "safe", "drop-old").stdout
    assert sealed(found)["opened"] == after["opened"] + 1
    assert draw(found, made["key"]) == 200


def test_backed_up_while_it_runs_and_restored(
    desk: tuple[Desk, dict[str, str]], tmp_path: Path
) -> None:
    found, made = desk
    beside = nlatch(
        found, "backup", str(tmp_path / "copy"), "--keys", str(tmp_path / "copy" / "keys")
    )
    assert beside.returncode == 1
    assert "place of their own" in beside.stderr
    done = nlatch(found, "backup", str(tmp_path / "copy"), "--keys", str(tmp_path / "keys"))
    assert done.returncode == 0, done.stderr
    copy, key = (
        next((tmp_path / "copy").glob("*.sqlite3")),
        next((tmp_path / "keys").glob("*.safe.key")),
    )
    assert copy.with_suffix(".anchor").read_text().startswith("nlj1.")
    assert stat.S_IMODE(copy.stat().st_mode) == stat.S_IMODE(key.stat().st_mode) == 0o600
    assert b"an old secret" not in copy.read_bytes()
    elsewhere = tmp_path / "home"
    wrong = tmp_path / "wrong.key"
    told = json.loads(key.read_text())
    wrong.write_text(
        json.dumps({**told, "sealing": dict.fromkeys(told["sealing"], "A" * 43 + "=")})
    )
    refused = nlatch(found, "restore", str(copy), "--key", str(wrong), home=elsewhere)
    assert refused.returncode == 1
    assert "not the one that this database was sealed with" in refused.stderr
    assert (
        list(elsewhere.glob("desk.sqlite3*")) == list(elsewhere.glob("safe.key*")) == []
    )  # nothing was changed
    restored = nlatch(found, "restore", str(copy), "--key", str(key), "--replace", home=elsewhere)
    assert restored.returncode == 0, restored.stderr
    assert "revoke it again" in restored.stdout
    assert "NOT HOLD" not in restored.stdout
    assert "holds" in nlatch(found, "journal", "check", home=elsewhere).stdout
    unreadable = elsewhere / "won" / "client-gone.00.note"
    unreadable.parent.mkdir()
    unreadable.write_bytes(b"secret\nsomebody\nnot sealed")
    listed = nlatch(found, "safe", "unsaved", home=elsewhere)
    assert (listed.returncode, "client-gone.00" in listed.stdout) == (1, True)
    kept = (elsewhere / "desk.sqlite3").read_bytes()
    refused = nlatch(found, "restore", str(copy), "--key", str(wrong), "--replace", home=elsewhere)
    assert "Nothing was changed" in refused.stderr
    assert (elsewhere / "desk.sqlite3").read_bytes() == kept
    assert (elsewhere / "won" / "aside" / unreadable.name).exists()
    assert (
        nlatch(
            found, "restore", str(copy), "--key", str(key), "--replace", home=elsewhere
        ).returncode
        == 0
    )
    assert list(elsewhere.glob("desk.sqlite3.before-*"))
    # What was to be saved belongs to the database that went, and went with it.
    assert list(elsewhere.glob("won.before-*/aside/client-gone.00.note"))
    assert not (elsewhere / "won").exists()
    assert "right one" in nlatch(found, "safe", "check", home=elsewhere).stdout
    assert "holds" in nlatch(found, "journal", "check", home=elsewhere).stdout
    busy = nlatch(found, "restore", str(copy), "--key", str(key), "--replace")
    assert busy.returncode == 1
    assert "still has the database open" in busy.stderr
    junk = tmp_path / "junk.sqlite3"
    junk.write_bytes(b"not a database at all" * 100)
    assert (
        "not a backup"
        in nlatch(
            found, "restore", str(junk), "--key", str(key), "--replace", home=elsewhere
        ).stderr
    )
    with sqlite3.connect(copy) as opened:
        assert opened.execute("SELECT count(*) FROM credentials_credential").fetchone()[0] >= 400


BY_SCHEDULE = """
import json
from datetime import timedelta
from pathlib import Path
from django.conf import settings
from django.utils import timezone
from neatlatch.desk.authority import scheduled_backups
from neatlatch.desk.ground.journal.models import Entry

settings.BACKUPS, settings.BACKUPS_KEPT = {folder!r}, 2
found = []
for passed in (0, 1, 25, 49):
    real = timezone.now
    timezone.now = lambda: real() + timedelta(hours=passed)
    scheduled_backups.look_after()
    timezone.now = real
    known = scheduled_backups.record()
    found.append([known.opened, len(list(Path(settings.BACKUPS).glob("desk-*.sqlite3")))])
print(json.dumps(found))
"""


def test_a_backup_is_restored_on_trial(desk: tuple[Desk, dict[str, str]], tmp_path: Path) -> None:
    found, _ = desk
    done = nlatch(found, "backup", str(tmp_path / "copy"), "--keys", str(tmp_path / "keys"))
    assert done.returncode == 0, done.stderr
    copy, key = (
        next((tmp_path / "copy").glob("*.sqlite3")),
        next((tmp_path / "keys").glob("*.safe.key")),
    )
    before = copy.read_bytes()
    good = nlatch(found, "drill", str(copy), "--key", str(key))
    assert (good.returncode, "It opens" in good.stdout) == (0, True), good.stderr
    assert copy.read_bytes() == before
    wrong = tmp_path / "wrong.key"
    told = json.loads(key.read_text())
    wrong.write_text(
        json.dumps({**told, "sealing": dict.fromkeys(told["sealing"], "A" * 43 + "=")})
    )
    wrong.chmod(0o600)
    bad = nlatch(found, "drill", str(copy), "--key", str(wrong))
    assert bad.returncode == 1
    assert "not the one that this database was sealed with" in bad.stdout
    with sqlite3.connect(copy) as opened:
        for (name,) in opened.execute(
            "SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'journal_entry'"
        ).fetchall():
            opened.execute(f"DROP TRIGGER {name}")
        opened.execute("UPDATE journal_entry SET who = 'nobody' WHERE number = 1")
    forged = nlatch(found, "drill", str(copy), "--key", str(key))
    assert (forged.returncode, "journal" in forged.stdout) == (1, True)
    assert nlatch(found, "drill", str(tmp_path / "none"), "--key", str(key)).returncode == 1
    assert list(found.home.glob(".drill-*")) == []


def test_backups_by_schedule_open_and_make_room(
    desk: tuple[Desk, dict[str, str]], tmp_path: Path
) -> None:
    found, _ = desk
    folder = tmp_path / "copies"
    folder.mkdir()
    (folder / "desk-of-somebody.sqlite3").write_text("not one of ours")
    told = json.loads(found.python(BY_SCHEDULE.format(folder=str(folder))).splitlines()[-1])
    assert [opened for opened, _ in told[-2:]] == [True, True]
    assert told[-1][1] == 3  # two that are kept, and somebody's
    assert len(list(folder.glob("*.anchor"))) == 2
    assert list(folder.glob("*.key")) == []


def test_does_not_start_without_the_right_key(
    desk: tuple[Desk, dict[str, str]], tmp_path: Path
) -> None:
    found, _ = desk
    home = tmp_path / "home"
    home.mkdir()
    with (
        sqlite3.connect(found.home / "desk.sqlite3") as source,
        sqlite3.connect(home / "desk.sqlite3") as target,
    ):
        source.backup(target)
    environment = found.environment | {"NEATLATCH_HOME": str(home)}

    def says(*command: str) -> str:
        done = subprocess.run(
            [sys.executable, *command],
            cwd=ROOT,
            env=environment,
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        assert done.returncode != 0
        assert "Traceback" not in done.stderr
        return done.stderr

    desk_command = ("-m", "neatlatch.cli", "desk", "--port", "1")
    assert "does not start. The key file safe.key is missing" in says(*desk_command)
    assert "missing" in says("-m", "neatlatch.worker")
    assert not (home / "safe.key").exists()  # no new one was made over the loss
    other = tmp_path / "other"
    other.mkdir()
    subprocess.run(
        [
            sys.executable,
            "-c",
            (
                "import django; django.setup()\nfrom neatlatch.desk.ground.common import safe; "
                "safe.seal('x', 'y')"
            ),
        ],
        cwd=ROOT,
        check=True,
        env=found.environment | {"NEATLATCH_HOME": str(other)},
        capture_output=True,
    )
    shutil.copy(other / "safe.key", home / "safe.key")
    assert "not the one that this database was sealed with" in says(*desk_command)
    (home / "safe.key").chmod(0o644)
    assert "chmod 600" in says(*desk_command)
    (home / "safe.key").chmod(0o600)
    (home / "safe.key").write_text("{")
    assert "damaged" in says("-m", "neatlatch.worker")
