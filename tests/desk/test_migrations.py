"""A desk that was filled before workloads stood by themselves and tokens were kept by person is
carried over without loss.
"""

from __future__ import annotations

import os
import subprocess
import sys
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest
from django.apps import apps
from django.utils import timezone

from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.finding.models import SavedFilter
from neatlatch.desk.work.inventory.models import (
    ImportPlan,
    ImportStep,
    Origin,
    packed,
    unpacked,
)
from tests.harness import ROOT

FILL = """
import django

django.setup()
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.utils import timezone
from neatlatch.desk.ground.common import safe

targets = [
    ("connections", "0005_stamp"),
    ("clients", "0002_provider_side"),
    ("people", "0001_initial"),
    ("rounds", "0002_last_rung"),
]
executor = MigrationExecutor(connection)
executor.migrate(targets)
get = executor.loader.project_state(targets).apps.get_model
now = timezone.now()
application = get("applications", "Application").objects.create(
    key="cargo", name="Cargo", profile={"schemes": []}
)
made = []
for order, key in enumerate(("sandbox", "production")):
    environment, _ = get("applications", "Environment").objects.get_or_create(
        key=key, defaults={"name": key.title(), "order": 10 + order}
    )
    place = get("applications", "Place").objects.create(
        application=application, environment=environment, changed_at=now
    )
    one = get("connections", "Connection").objects.create(
        ref=f"cargo-{key}", place=place, scheme="oauth2_code", changed_at=now
    )
    for name in ("Night run", "Report"):
        get("connections", "ConnectionUser").objects.create(
            connection=one,
            name=name,
            kind="job",
            owner="Freight",
            runs="hourly",
            operations=["GET /m"],
        )
    get("connections", "TokenSet").objects.create(
        connection=one,
        access=safe.seal("a-" + key, f"token:{one.pk}:access"),
        granted=["read"],
        account="svc",
        refresh=safe.seal("r-" + key, f"token:{one.pk}:refresh"),
        signed_in_at=now,
        obtained=now,
        generation=7,
    )
"""
IMPORT = """
import django

django.setup()
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.utils import timezone

targets = [("inventory", "0006_deployments")]
executor = MigrationExecutor(connection)
executor.migrate(targets)
get = MigrationExecutor(connection).loader.project_state(targets).apps.get_model
person = get("people", "Person").objects.create(username="morag")
get("inventory", "ImportPlan").objects.create(by=person, begun=timezone.now(), state="applied")
"""
LOOK = """
import django

django.setup()
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.work.finding import index
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.work.inventory.models import ImportPlan

print(sorted((one.name, one.environment.key, one.owner_name) for one in Workload.objects.all()))
print(
    sorted(
        (one.workload.name, one.connection.ref, one.application.key, one.operations)
        for one in Use.objects.all()
    )
)
for one in TokenSet.objects.order_by("connection__ref"):
    print(
        one.connection.ref,
        one.person_id,
        one.generation,
        one.granted,
        one.open_access().reveal(),
        one.open_refresh().reveal(),
    )
print(
    [one.name for one in index.find("cargo-sand")],
    Connection.objects.get(ref="sandbox/cargo-sandbox").tokens.account,
)
plan = ImportPlan.objects.get()
print(plan.who, plan.by.username)
"""


def test_workloads_and_tokens_are_carried_over(tmp_path: Path) -> None:
    environment = {
        **os.environ,
        "NEATLATCH_HOME": str(tmp_path),
        "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
        "PYTHONPATH": str(ROOT),
    }

    def run(*words: str) -> str:
        done = subprocess.run(
            [sys.executable, *words], cwd=ROOT, env=environment, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    run("-c", FILL)
    run("-c", IMPORT)
    run("manage.py", "migrate", "--skip-checks", "--verbosity", "0")
    workloads, uses, sandbox_or_production, other, found, begun_by = run("-c", LOOK).splitlines()
    assert workloads == str(
        [
            (name, env, "Freight")
            for name in ("Night run", "Report")
            for env in ("production", "sandbox")
        ]
    )
    assert uses == str(
        [
            (name, f"{env}/cargo-{env}", "cargo", ["GET /m"])
            for name in ("Night run", "Report")
            for env in ("production", "sandbox")
        ]
    )
    assert (
        sandbox_or_production
        == "production/cargo-production None 7 ['read'] a-production r-production"
    )
    assert other == "sandbox/cargo-sandbox None 7 ['read'] a-sandbox r-sandbox"
    assert found == "['sandbox/cargo-sandbox'] svc"
    assert begun_by == "morag morag"


@pytest.mark.django_db
def test_stored_imports_name_workloads_as_files_do_now() -> None:
    migration = import_module("neatlatch.desk.work.inventory.migrations.0004_workloads")
    run = {"Night run/sandbox": {"name": "Night run"}}
    before = {"credentials": {"x": {"state": "staged"}, "y": {"state": "active"}}, "users": run}
    after = {
        "credentials": {"x": {"state": "prepared"}, "y": {"state": "active"}},
        "workloads": run,
    }
    Origin.keep("abc", packed(before), "morag")
    now = timezone.now()
    plan = ImportPlan.objects.create(who="morag", begun=now, base="abc", base_before=packed(before))
    content = {"says": [], "before": None, "after": {"state": "staged"}}
    for number, kind in enumerate(("users", "credentials"), 1):
        ImportStep.objects.create(
            plan=plan, number=number, kind=kind, key="x", act="change", packed=packed(content)
        )

    def stored() -> tuple[Any, ...]:
        kept = ImportPlan.objects.get()
        steps = [(one.kind, unpacked(one.packed)["after"]["state"]) for one in kept.steps.all()]
        origin = Origin.objects.get().content
        return origin, unpacked(kept.base_before), kept.base_after, steps

    migration.to_words_of_now(apps, None)
    # The state of a workload is none of a credential's.
    steps = [("workloads", "staged"), ("credentials", "prepared")]
    assert stored() == (after, after, None, steps)
    migration.to_words_of_before(apps, None)
    assert stored() == (before, before, None, [("users", "staged"), ("credentials", "staged")])


@pytest.mark.django_db
def test_kept_filters_say_what_they_mean_by_the_words_of_now() -> None:
    migration = import_module("neatlatch.desk.work.finding.migrations.0005_workloads")
    by = Person.objects.create_user("morag")
    for name, list_, words in (
        ("a", "users", "warned:yes"),
        ("b", "connections", 'state:"open" user:night env:open'),
        ("c", "credentials", "state:staged ends:30d"),
        ("d", "applications", "state:open"),
    ):
        SavedFilter.objects.create(person=by, list=list_, name=name, words=words)
    migration.to_words_of_now(apps, None)
    assert list(SavedFilter.objects.order_by("name").values_list("list", "words")) == [
        ("workloads", "warned:yes"),
        ("connections", 'state:"unlatched" workload:night env:open'),
        ("credentials", "state:prepared ends:30d"),
        ("applications", "state:open"),
    ]
