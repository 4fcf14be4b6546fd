"""A home that the demo of commit 7aa8f6f had filled is carried over: what is in it, what is drawn
of it, and what it does.

``tests/homes/7aa8f6f.tar.gz`` holds the desk's database and key, what the stand-ins knew, and, in
``expected.json``, what that commit's own code said of it: the rows of each table, the pins of each
connection, what each workload drew, and how a test of each connection went.
"""

from __future__ import annotations

import json
import os
import re
import sqlite3
import subprocess
import sys
import tarfile
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from neatlatch.desk.estate.records.clients.models import Kind
from neatlatch.desk.ground.common import clock
from tests.harness import OFFSETS, ROOT, StandIns, free_ports, python_path

HOME = ROOT / "tests" / "homes" / "7aa8f6f.tar.gz"
# Where the stand-ins of that demo listened.
PORT = 8700
ADDRESS = re.compile(r"(127\.0\.0\.1|localhost):(\d{4,5})")
# Tables of a library that is gone, and Django's list of what may be done, which grows with each
# model.
GONE = ("axes_", "auth_permission")
# The index of what is found is filled anew, with what was not found then.
INDEX = "finding_"
# What came later: empty in a home that is carried over, but for the owners that texts named.
OWNERS = "people_owner"
LATER = {
    "annotations_annotation",
    "annotations_tag",
    "connections_formername",
    "connections_setaside",
    "decommissioning_decommissioning",
    "drawing_checkedcalls",
    "drawing_seencall",
    "house_goneaccess",
    "house_programscope",
    "house_programscope_environments",
    "house_programscope_workloads",
    "inventory_importplan",
    "inventory_importstep",
    "journal_check",
    "journal_checkpoint",
    "people_challenge",
    "people_passkey",
    "people_recoverycode",
    "people_session",
    "people_tries",
}
# These show certificates of the stand-ins' own authority, which is made anew here: the old one's
# certificates end within a year.
OLD_CERTIFICATES = {"crew-roster", "crew-roster-staging"}
# A draw that would hand out the secret itself has to be permitted now, which nobody has done in
# this home.
TO_BE_PERMITTED = "Nobody let you draw this secret."
# Its token had ended, so the draw asked for another, then and now.
RENEWED = "Freight desk report of cargo-manifests-staging"
LOOK = """
import json, sys
import django; django.setup()
from django.db import connection as database
from django.utils import timezone
from neatlatch.desk.estate.connections import halves
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import check
from neatlatch.desk.ground.people.models import Owner, Person
from neatlatch.desk.work.drawing import services as drawing
from neatlatch.desk.work.rounds import services as rounds
now, by = timezone.now(), Person.objects.get(username="morag")
aside = ("django_", "sqlite_")
tables = [name for name in database.introspection.table_names() if not name.startswith(aside)]
with database.cursor() as cursor:
    counts = {
        name: cursor.execute(f'SELECT count(*) FROM "{name}"').fetchone()[0] for name in tables
    }
faults = [str(one) for one in (check().fault,) if one is not None]
drawings = {
    connection.name: [
        [pin.key, pin.label, pin.fit.value] for pin in halves.work_out(connection, now)
    ]
    for connection in halves.each(Connection.objects.all())
}
draws = {}
rows = Use.objects.exclude(connection=None).select_related("workload", "connection")
for use in rows.order_by("pk"):
    connection = halves.with_everything(Connection.objects.filter(pk=use.connection_id)).get()
    name = f"{use.workload.name} of {connection.name}"
    try:
        drawn = vars(drawing.draw(use.workload, connection))
        draws[name] = {key: str(value) for key, value in drawn.items()}
    except Problem as problem:
        draws[name] = f"Problem: {problem}"
tests = {}
for connection in Connection.objects.order_by("name"):
    test = rounds.run(rounds.begin_test(by, connection))
    tests[connection.name] = [test.passed, [[rung["rung"], rung["passed"]] for rung in test.rungs]]
owners = {
    f"workload {workload.name} {workload.environment.key}": workload.owner_name
    for workload in Workload.objects.select_related("environment", "owner")
}
owners |= {
    f"application {application.key}": application.owner_name
    for application in Application.objects.select_related("owner")
    if application.owner
}
kinds_of_owners = dict(Owner.objects.values_list("name", "kind"))
kinds = {
    client.client_id or str(client.pk): [type(client).__name__, client.kind]
    for client in Client.objects.all()
}
found = dict(
    owners=owners,
    kinds_of_owners=kinds_of_owners,
    kinds=kinds,
    counts=counts,
    faults=faults,
    drawings=drawings,
    draws=draws,
    tests=tests,
)
json.dump(found, open(sys.argv[1], "w"))
"""


@pytest.fixture(scope="module")
def carried(
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[tuple[dict[str, Any], dict[str, Any]]]:
    """What the old code said of the home, and what today's says."""
    home = tmp_path_factory.mktemp("old-home")
    with tarfile.open(HOME) as packed:
        packed.extractall(home, filter="data")
    expected = json.loads((home / "expected.json").read_text())
    with sqlite3.connect(home / "desk.sqlite3") as database:
        rows = database.execute(
            "SELECT client_id, lower(id), resource, user_id, scheme FROM clients_client"
        ).fetchall()
        expected["kinds"] = {known or str(UUID(key)): _kind(*rest) for known, key, *rest in rows}
        owners = (
            "SELECT 'workload ' || u.name || ' ' || e.key, owner FROM users_user u JOIN "
            "applications_environment e ON e.id = u.environment_id"
        )
        owners += (
            " UNION SELECT 'application ' || key, owner FROM applications_application WHERE "
            "owner <> ''"
        )
        expected["owners"] = dict(database.execute(owners).fetchall())
        known = "coalesce(nullif(account, ''), json_extract(contacts, '$[0]'))"
        accounts = (
            f"SELECT count(DISTINCT lower({known})) FROM clients_client c WHERE user_id IS NULL"
        )
        accounts += " AND EXISTS (SELECT 1 FROM credentials_credential WHERE client_id = c.id)"
        expected["accounts"] = database.execute(accounts).fetchone()[0]
    database.close()
    clock.write(home / "now", datetime.fromisoformat(expected["now"]))
    told = {clock.VARIABLE: str(home / "now")}
    environment = {
        **os.environ,
        **told,
        "NEATLATCH_HOME": str(home),
        "NEATLATCH_URL": "http://127.0.0.1:8600",
        "NEATLATCH_TRUST": str(home / "standins" / "certificates" / "root.pem"),
        "NEATLATCH_ALLOWED_RANGES": "127.0.0.0/8,::1/128",
        "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
        "PYTHONPATH": python_path(),
    }

    def python(*words: str) -> None:
        done = subprocess.run(
            [sys.executable, *words], cwd=ROOT, env=environment, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr

    port = free_ports(OFFSETS)
    for file in (home / "standins").glob("*.json"):
        file.write_text(_moved(file.read_text(), PORT, port))
    _move(home / "desk.sqlite3", port)
    stand_ins = StandIns(home / "standins", told, port)
    try:
        python("manage.py", "migrate", "--skip-checks", "--verbosity", "0")
        python("-c", LOOK, str(home / "seen.json"))
        yield expected, json.loads(_moved((home / "seen.json").read_text(), port, PORT))
    finally:
        stand_ins.stop()


def _kind(resource: int, workload: str | None, scheme: str) -> list[str]:
    if resource:
        return ["ResourceServer", "resource_server"]
    if workload:
        return ["WorkloadKey", "workload_key"]
    if scheme == "certificate":
        return ["CertificateHolder", "certificate_holder"]
    return (
        ["OAuthClient", "oauth_client"]
        if scheme.startswith("oauth2")
        else ["ProviderAccount", "account"]
    )


def _moved(text: str, old: int, new: int) -> str:
    """A text with the addresses of stand-ins that listen elsewhere now."""

    def at(match: re.Match[str]) -> str:
        offset = int(match[2]) - old
        return f"{match[1]}:{new + offset}" if 0 <= offset < 100 else match[0]

    return ADDRESS.sub(at, text)


def _move(file: Path, port: int) -> None:
    """Every address of a stand-in in the database, but for what the journal says of the past."""
    with sqlite3.connect(file) as database:
        database.create_function(
            "moved", 1, lambda value: _moved(value, PORT, port) if isinstance(value, str) else value
        )
        tables = database.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND sql NOT LIKE '%VIRTUAL%'"
        ).fetchall()
        for (table,) in tables:
            if table.startswith(("journal_", "sqlite_", "finding_entry")):
                continue
            for column in database.execute(f'PRAGMA table_info("{table}")').fetchall():
                database.execute(
                    f'UPDATE "{table}" SET "{column[1]}" = moved("{column[1]}") WHERE '
                    f'"{column[1]}" GLOB ?',
                    [f"*:{PORT // 100}[0-9][0-9]*"],
                )
    database.close()


def test_no_row_is_lost(carried: tuple[dict[str, Any], dict[str, Any]]) -> None:
    expected, found = carried
    before = {
        name: count
        for name, count in expected["counts"].items()
        if not name.startswith((*GONE, INDEX))
    }
    before["journal_entry"] += 1  # the keyed entry that takes the old ones over
    now = {name: count for name, count in found["counts"].items() if not name.startswith(GONE)}
    assert {name: now.get(name) for name in before} == before
    assert now.pop(OWNERS) == len(set(expected["owners"].values())) + expected["accounts"]
    assert now.pop("connections_summary") == before["connections_connection"]
    assert now.pop("credentials_standsout") == before["credentials_credential"]
    assert now.pop("connections_standing") == before["applications_application"]
    index = {name: now.pop(name) for name in list(now) if name.startswith(INDEX)}
    assert index["finding_place"] > expected["counts"]["finding_place"]
    assert {name: count for name, count in now.items() if name not in before} == dict.fromkeys(
        LATER, 0
    )
    assert found["faults"] == []


def test_each_client_is_of_the_kind_that_its_flags_said(
    carried: tuple[dict[str, Any], dict[str, Any]],
) -> None:
    expected, found = carried
    assert found["kinds"] == expected["kinds"]
    # Programs had no tokens then.
    before = {kind.value for kind in Kind} - {Kind.PROGRAM.value}
    assert {kind for _, kind in found["kinds"].values()} == before


def test_each_owner_is_called_what_the_text_said(
    carried: tuple[dict[str, Any], dict[str, Any]],
) -> None:
    expected, found = carried
    assert found["owners"] == expected["owners"]
    assert found["kinds_of_owners"]["Freight desk"] == "team"  # one is called exactly so
    assert found["kinds_of_owners"]["R. Oake"] == "contact"


def test_each_connection_is_drawn_as_it_was(carried: tuple[dict[str, Any], dict[str, Any]]) -> None:
    expected, found = carried
    assert len(expected["drawings"]) == 33
    assert found["drawings"] == expected["drawings"]


def test_each_workload_draws_what_it_drew(carried: tuple[dict[str, Any], dict[str, Any]]) -> None:
    expected, found = carried
    permitted = {
        name for name, drawn in found["draws"].items() if TO_BE_PERMITTED not in str(drawn)
    }
    assert len(permitted) > 15
    assert RENEWED in permitted
    assert {name: found["draws"][name] for name in permitted - {RENEWED}} == {
        name: expected["draws"][name] for name in permitted - {RENEWED}
    }
    renewed, before = found["draws"][RENEWED], expected["draws"][RENEWED]
    assert (renewed["base"], renewed["credential"], renewed["ends"][:19]) == (
        before["base"],
        before["credential"],
        before["ends"][:19],
    )


def test_each_connection_passes_and_fails_as_it_did(
    carried: tuple[dict[str, Any], dict[str, Any]],
) -> None:
    expected, found = carried
    refs = set(expected["tests"]) - OLD_CERTIFICATES
    assert len(refs) == 31
    assert {ref: found["tests"][ref] for ref in refs} == {
        ref: expected["tests"][ref] for ref in refs
    }
