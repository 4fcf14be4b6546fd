"""An import in blocks: planned and checked before, guarded meanwhile, stopped by a failing block,
undone by its stored steps.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import timedelta
from typing import Any
from uuid import uuid4

import pytest
import yaml
from django.db import connection as database
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from neatlatch.cli import main
from neatlatch.core.inventory.shape import KINDS
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Account, Connection, HeldSecret
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common import giving_way
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.inventory import blocks, collecting, guarding, planning, services
from neatlatch.desk.work.inventory.models import ImportPlan, ImportStep, Origin
from neatlatch.desk.work.rounds import at_work
from tests.harness import StandIns
from tests.refused import refused_with

from .conftest import forget_the_journal, load_once
from .test_inventory import web_of
from .test_workbenches import send

MANY = 30


@pytest.fixture
def by(transactional_db: None, stand_ins: StandIns) -> Iterator[Person]:
    load_once(stand_ins.port, only=("cargo-manifests", "crew-roster", "vessel-positions"))
    yield Person.objects.get(username="morag")
    ImportPlan.objects.all().delete()  # an open one would not let the tables be emptied
    forget_the_journal()


def with_many(by: Person, **more: Any) -> str:
    """A file that adds many workloads, each of which calls a connection, and changes a connection
    and an application.
    """
    plain = yaml.safe_load(services.export(by))
    plain["connections"]["production/cargo-manifests"]["pace"] = 3.0
    plain["applications"]["cargo-manifests"]["purpose"] = "Manifests of every crossing"
    for number in range(MANY):
        plain["workloads"][f"Night run {number:03}/production"] = {
            "name": f"Night run {number:03}",
            "environment": "production",
            "runs": "nightly",
            "uses": [
                {
                    "application": "cargo-manifests",
                    "connection": "production/cargo-manifests",
                    "operations": ["GET /berths"],
                }
            ],
        }
    plain.update(more)
    return yaml.safe_dump(plain, sort_keys=False)


def begun(by: Person, text: str, **more: Any) -> ImportPlan:
    plan = services.begin(by, text, **more).plan
    assert plan is not None
    assert (plan.state, plan.done, plan.is_open) == ("applying", 0, True)
    return plan


def one_block(plan: ImportPlan) -> ImportPlan:
    """Apply a block of a plan, and leave it as a process does that is killed then."""

    class Killed(BaseException):
        pass

    def kill(_: ImportPlan) -> None:
        raise Killed

    with pytest.raises(Killed):
        blocks.work_on(plan, kill)
    plan.refresh_from_db()
    return plan


def test_a_large_file_is_applied_block_by_block(by: Person) -> None:
    first, text = services.export(by), with_many(by)
    plan, seen = begun(by, text), list[tuple[int, int]]()
    assert plan.total == MANY + 2
    blocks.work_on(
        plan,
        lambda now: seen.append(
            (now.done, Workload.objects.filter(name__startswith="Night run").count())
        ),
    )
    assert [done for done, _ in seen] == sorted({done for done, _ in seen})
    assert len(seen) > 3
    assert seen[-1] == (MANY + 2, MANY)
    # What is counted is what is in the database: two of the first block are no workloads.
    assert all(count == done - 2 for done, count in seen)
    plan.refresh_from_db()
    assert (plan.state, plan.done, plan.is_open, plan.worker) == ("applied", MANY + 2, False, "")
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 3.0
    again = services.begin(by, text)
    assert again.plan is None  # nothing is left to change
    assert services.export(by) != first
    last = Entry.objects.filter(noun="inventory", did="applied").order_by("number").first()
    assert last is not None
    assert last.details == {"changes": MANY + 2}


def test_a_block_costs_what_it_may(by: Person) -> None:
    plan = begun(by, with_many(by))
    sizes = []
    while (steps := blocks._next_block(plan)) is not None:
        cost = sum(blocks.cost_of(step.kind, step.act) for step in steps)
        assert cost <= blocks.COST
        sizes.append(len(steps))
        plan.done = steps[-1].number
    assert sum(sizes) == plan.total


def test_a_small_file_is_applied_whole_or_not_at_all(
    by: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    plain = yaml.safe_load(services.export(by))
    plain["connections"]["production/cargo-manifests"]["pace"] = 3.0
    plain["workloads"]["Customs return/production"]["runs"] = "hourly"

    def fail(*given: Any, **more: Any) -> None:
        raise Problem(409, "No.", "the second step cannot be done", code="no")

    monkeypatch.setattr("neatlatch.desk.estate.workloads.declared.workload", fail)
    with refused_with("inventory-mistakes") as refused:
        services.begin(by, yaml.safe_dump(plain))
    assert refused.value.extra["mistakes"][0]["says"] == "the second step cannot be done"
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 10.0
    assert not ImportPlan.objects.exists()
    assert not ImportStep.objects.exists()


def test_a_small_file_that_is_applied_and_not_ended_is_ended_by_the_worker(
    by: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The database refuses after the block: nobody may think that nothing was applied, and it can
    be undone.
    """
    plain = yaml.safe_load(services.export(by))
    plain["connections"]["production/cargo-manifests"]["pace"] = 3.0

    def refuse(*given: Any) -> None:
        raise OSError("the disk is gone")

    with monkeypatch.context() as patch:
        patch.setattr(blocks, "_finish", refuse)
        with pytest.raises(OSError, match="the disk is gone"):
            services.begin(by, yaml.safe_dump(plain))
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 3.0
    plan = ImportPlan.objects.get()
    assert (plan.state, plan.done, plan.worker) == ("applying", 1, "")
    blocks.go_on()
    plan.refresh_from_db()
    assert (plan.state, plan.is_open) == ("applied", False)
    services.undo(by, plan)
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 10.0


def test_what_is_shown_of_imports_reads_no_copy_of_the_inventory(by: Person) -> None:
    plan = services.apply(by, with_many(by)).plan
    assert plan is not None
    web = web_of(by)
    with CaptureQueriesContext(database) as seen:
        for address in (
            "/inventory/imports",
            "/inventory/imports/open",
            f"/inventory/imports/{plan.pk}",
            f"/inventory/imports/{plan.pk}/steps",
        ):
            send(web, "get", address)
    assert any("inventory_importplan" in item["sql"] for item in seen)
    assert not any("base_after" in item["sql"] or "base_before" in item["sql"] for item in seen)


def test_a_plan_whose_process_is_gone_is_gone_on_with(by: Person) -> None:
    plan = one_block(begun(by, with_many(by)))
    done = plan.done
    assert 0 < done < plan.total
    assert plan.worker == ""
    # One that is at work, here or where nobody can look, is left to it; one that is gone is not.
    for worker, until, goes_on in (
        (blocks.owner.sign(), timezone.now() - timedelta(hours=1), False),
        ("elsewhere/12/345/abcd", timezone.now() + timedelta(seconds=50), False),
        ("elsewhere/12/345/abcd", timezone.now() - timedelta(seconds=1), True),
    ):
        ImportPlan.objects.filter(pk=plan.pk).update(worker=worker, worker_until=until)
        blocks.go_on()
        plan.refresh_from_db()
        assert (plan.done > done, plan.state == "applied") == (goes_on, goes_on)
    assert Workload.objects.filter(name__startswith="Night run").count() == MANY


def edits(by: Person) -> dict[str, Any]:
    """An edit of each kind of object as its own service makes it, which the file has in it."""
    cargo = Connection.objects.get(ref="production/cargo-manifests")
    night = Workload.objects.filter(name="Customs return").get()
    return {
        "a connection": lambda: connections.change(by, cargo, {"pace": 8.0}),
        "a secret of a connection": lambda: connections.put_secret(
            by, cargo, "a-new-secret-value-1234"
        ),
        "a workload": lambda: workloads.change(by, night, {"runs": "weekly"}),
        "a use": lambda: workloads.use(by, night, cargo.deployment.application, None, []),
        "an application": lambda: applications.change(
            by, cargo.deployment.application, {"purpose": "x"}
        ),
        "the removal of a connection": lambda: connections.remove(by, cargo),
    }


def _version(application: str) -> dict[str, str]:
    return {"If-Match": f'"{Application.objects.get(key=application).version}"'}


def test_what_an_open_import_includes_is_not_changed_by_anybody_else(by: Person) -> None:
    plain = yaml.safe_load(with_many(by))
    plain["workloads"]["Customs return/production"]["runs"] = "hourly"
    plan = begun(by, yaml.safe_dump(plain))
    stood = services.collect()
    for what, edit in edits(by).items():
        with refused_with("import-in-progress") as refused:
            edit()
        assert refused.value.status == 409, what
    told = send(
        web_of(by),
        "patch",
        "/applications/cargo-manifests",
        {"purpose": "x"},
        409,
        **_version("cargo-manifests"),
    )
    assert told["code"] == "import-in-progress"
    assert services.collect() == stood
    # What is not in it is changed as ever, and so is what programs keep of what is.
    connections.change(by, Connection.objects.get(ref="production/crew-roster"), {"pace": 6.0})
    Connection.objects.filter(ref="production/cargo-manifests").update(
        state="latched", tested_at=timezone.now()
    )
    Use.objects.filter(workload__name="Customs return").update(
        seen={"GET /berths": 3}, seen_at=timezone.now()
    )
    with refused_with("another-import"):
        services.begin(by, with_many(by))
    services.stop(by, plan)
    assert plan.problem == "Stopped by Morag Orr."
    assert Entry.objects.get(did="stopped applying").who == "morag"
    for what, edit in list(edits(by).items())[:1]:
        assert edit(), what


def with_one_of_each_kind(by: Person) -> dict[str, Any]:
    """A file that adds an object of each kind."""
    plain: dict[str, Any] = yaml.safe_load(services.export(by))
    plain["environments"]["rehearsing"] = {
        **plain["environments"]["sandbox"],
        "name": "Rehearsing",
        "order": 9,
    }
    plain["people"]["fiona"] = {**plain["people"]["ewan"], "name": "Fiona Reid"}
    plain["teams"]["Tides"] = {"people": ["ewan", "fiona"]}
    plain["owners"]["Lock keepers"] = plain["owners"]["Quays"]
    plain["applications"]["tides"] = {**plain["applications"]["vessel-positions"], "name": "Tides"}
    plain["deployments"]["tides/production"] = {
        **plain["deployments"]["vessel-positions/production"],
        "application": "tides",
    }
    client = dict(plain["clients"]["vessel-positions/production/Gannet Sound Ferries, positions"])
    for field in ("managed", "management_address", "management_token", "consents"):
        client.pop(field, None)
    plain["clients"]["tides/production/Tides"] = {
        **client,
        "id": str(uuid4()),
        "name": "Tides",
        "deployment": "tides/production",
    }
    secret = next(
        credential
        for credential in plain["credentials"].values()
        if credential["kind"] == "client_secret"
    )
    plain["credentials"][str(uuid4())] = {**secret, "client": "tides/production/Tides"}
    connection = {
        **plain["connections"]["production/vessel-positions"],
        "secrets": {},
        "deployment": "tides/production",
    }
    plain["connections"]["production/tides"] = {**connection, "client": "tides/production/Tides"}
    plain["workloads"]["Tide tables/production"] = {
        **plain["workloads"]["Arrival boards/production"],
        "name": "Tide tables",
    }
    return plain


def test_what_an_import_has_added_is_not_changed_by_anybody_else_either(by: Person) -> None:
    """An edit before its end would be taken for the import's own, and an undo would
    take it away.
    """
    plain = with_one_of_each_kind(by)
    for number in range(MANY):  # the last to be added, so the others wait for them
        plain["workloads"][f"Tide tables {number:02}/production"] = {
            **plain["workloads"]["Arrival boards/production"],
            "name": f"Tide tables {number:02}",
        }
    plan = begun(
        by, yaml.safe_dump(json.loads(json.dumps(plain)), sort_keys=False)
    )  # without aliases
    while not Workload.objects.filter(name="Tide tables").exists():
        plan = one_block(plan)
    assert plan.is_open
    rows, added = planning.collected().rows, plan.steps.filter(number__lte=plan.done)
    assert {step.kind for step in added} == {kind.name for kind in KINDS}
    assert {(step.kind, step.key): step.row for step in added} == {
        (step.kind, step.key): rows[step.kind, step.key] for step in added
    }
    edits = (
        lambda: connections.change(by, Connection.objects.get(name="tides"), {"pace": 6.0}),
        lambda: applications.change(by, Application.objects.get(key="tides"), {"purpose": "x"}),
        lambda: workloads.change(by, Workload.objects.get(name="Tide tables"), {"runs": "weekly"}),
    )
    for edit in edits:
        with refused_with("import-in-progress"):
            edit()
    blocks.work_on(plan)
    edits[0]()
    shown = services.undo_preview(plan, by).outcome
    left = {change.kind: change for change in shown.changes if not change.does}
    # What was edited after its end stays, with all that it uses.
    assert {kind: change.act for kind, change in left.items()} == {
        "connections": "kept",
        "clients": "kept",
        "deployments": "kept",
        "applications": "kept",
    }
    assert left["clients"].says == (
        "still used by connections → production/tides, which stays; it stays, too",
    )
    undoing = services.undo(by, plan).plan
    assert undoing is not None
    services.to_its_end(undoing)
    assert Connection.objects.get(name="tides").pace == 6.0
    assert not Workload.objects.filter(name__startswith="Tide tables").exists()


def test_some_objects_are_read_as_all_are(by: Person) -> None:
    """What is checked and noted of an import is read by its rows: a small one costs little in a
    large house.
    """
    connections.change(by, Connection.objects.get(ref="production/cargo-manifests"), {"pace": 7.0})
    all_of_them = planning.collected()
    for kind in KINDS:
        rows = {row: key for (of, key), row in all_of_them.rows.items() if of == kind.name}
        with CaptureQueriesContext(database) as asked:
            found = collecting.of_rows(kind.name, list(rows))
        assert rows, kind.name
        assert {row: now.key for row, now in found.items()} == rows
        assert {
            now.key: now.fields for now in found.values() if now.fields is not None
        } == all_of_them.content[kind.name]
        assert len(asked) <= 5, kind.name


def test_others_write_between_two_blocks(by: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    """SQLite's writers stand in no queue: without a pause, one that waits may find no gap for
    seconds.
    """
    paused: list[float] = []
    monkeypatch.setattr(giving_way, "sleep", paused.append)
    seen: list[int] = []
    blocks.work_on(begun(by, with_many(by)), lambda now: seen.append(now.done))
    assert paused == [giving_way.PAUSE] * len(seen)
    # SQLite looks every 100 ms at the latest (sqlite3.c, sqliteDefaultBusyCallback, from memory).
    assert giving_way.PAUSE > 0.1


@pytest.mark.parametrize("guarded", guarding._ALL, ids=lambda item: item.model._meta.db_table)
def test_each_table_of_an_object_refuses_what_an_edit_changes(
    by: Person, guarded: guarding.GuardedTable
) -> None:
    row = guarded.model._default_manager.first()
    if row is None:
        row = _made(guarded, by)
    columns = {field.column: field.attname for field in guarded.model._meta.concrete_fields}
    name = columns[guarded.row]
    identity = getattr(row, name)
    plan = ImportPlan.objects.create(
        who=by.username, begun=timezone.now(), is_open=True, state="applying"
    )
    step = ImportStep.objects.create(
        plan=plan,
        number=1,
        kind=guarded.kind,
        key="x",
        act="change",
        packed=b"",
        row=identity.hex if hasattr(identity, "hex") else str(identity),
    )
    rows, table = guarded.model._default_manager.filter(pk=row.pk), guarded.model._meta.db_table
    if not guarded.comes_and_goes:
        with refused_with("import-in-progress"):
            rows._raw_delete(rows.db)
    with database.cursor() as cursor:
        for column in guarded.columns:
            with refused_with("import-in-progress"):
                cursor.execute(
                    f"UPDATE {table} SET \"{column}\" = '9' WHERE "
                    f"{guarded.model._meta.pk.column} = %s",
                    [_stored(row.pk)],
                )
        others = [
            f.column
            for f in guarded.model._meta.concrete_fields
            if f.column not in guarded.columns and not f.primary_key
        ]
        for (
            column
        ) in others:  # what is written as it was is no change, and what programs keep may change
            cursor.execute(f'UPDATE {table} SET "{column}" = "{column}"')
        ImportStep.objects.filter(pk=step.pk).update(
            guarded=False
        )  # as while its application changes it
        for column in guarded.columns:
            cursor.execute(f'UPDATE {table} SET "{column}" = "{column}"')
        ImportPlan.objects.filter(pk=plan.pk).update(is_open=False)


def _stored(identity: Any) -> Any:
    return identity.hex if hasattr(identity, "hex") else identity


def _made(guarded: guarding.GuardedTable, by: Person) -> Any:
    from neatlatch.desk.estate.records.applications.models import Deployment
    from neatlatch.desk.work.access.models import RuleBook

    if guarded.model is Account:
        return Account.objects.create(
            connection=Connection.objects.all()[0], person=by, expected="x"
        )
    assert guarded.model is RuleBook
    return RuleBook.objects.create(
        deployment=Deployment.objects.all()[0], changed_at=timezone.now(), content={}
    )


def test_a_failing_block_stops_the_rest_and_undo_gives_back_what_was(
    by: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = services.collect()
    plan, declare = begun(by, with_many(by)), workloads_declared().workload

    def fail(who: Any, given: Any, raised: Any) -> Any:
        if given["name"] == "Night run 020":
            raise Problem(409, "No.", "the harbour says no.", code="no")
        return declare(who, given, raised)

    monkeypatch.setattr(workloads_declared(), "workload", fail)
    with refused_with("import-failed") as stopped:
        services.to_its_end(plan)
    assert f"{plan.done} of {MANY + 2}" in stopped.value.title
    assert (plan.state, plan.is_open) == ("stopped", False)
    assert "workloads → Night run 020/production: the harbour says no." in plan.problem
    assert Workload.objects.filter(name__startswith="Night run").count() == plan.done - 2 < 20
    told = Entry.objects.get(did="stopped applying")
    assert (told.details["applied"], told.details["of"]) == (plan.done, MANY + 2)
    shown = services.undo_preview(plan, by)
    acts = [change.act for change in shown.outcome.changes if change.does]
    assert sorted(acts) == ["change"] * 2 + ["remove"] * (plan.done - 2)
    undoing = services.undo(by, plan, shown.standing).plan
    assert undoing is not None
    services.to_its_end(undoing)
    assert services.collect() == first
    plan.refresh_from_db()
    assert plan.undone
    with refused_with("import-undone"):
        services.undo_preview(plan)


def workloads_declared() -> Any:
    from neatlatch.desk.estate.workloads import declared

    return declared


def test_undo_leaves_what_was_changed_since_and_can_be_undone(by: Person) -> None:
    text = with_many(by)
    plan = services.apply(by, text).plan
    assert plan is not None
    connections.change(by, Connection.objects.get(ref="production/cargo-manifests"), {"pace": 7.0})
    workloads.remove(by, Workload.objects.get(name="Night run 003"))
    shown = services.undo_preview(plan, by)
    conflict = next(change for change in shown.outcome.changes if change.act == "conflict")
    assert (conflict.kind, conflict.key) == ("connections", "production/cargo-manifests")
    undoing = services.undo(by, plan).plan
    assert undoing is not None
    services.to_its_end(undoing)
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 7.0
    assert not Workload.objects.filter(name__startswith="Night run").exists()
    redone = services.undo(by, undoing).plan
    assert redone is not None
    services.to_its_end(redone)
    assert Workload.objects.filter(name__startswith="Night run").count() == MANY - 1
    plan.refresh_from_db()
    undoing.refresh_from_db()
    assert (plan.undone, undoing.undone) == (False, True)


def test_what_was_removed_comes_back_but_for_its_secret(by: Person) -> None:
    """A connection with its client, its credentials and a person; the file of before applies to
    nothing afterwards.
    """
    plain = yaml.safe_load(services.export(by))
    before = services.collect()
    mine = before["connections"]["production/vessel-positions"]
    gone = {reference.removeprefix("safe:") for reference in mine["secrets"].values()}
    for workload in plain["workloads"].values():
        workload["uses"] = [
            use
            for use in workload.get("uses", [])
            if use.get("connection") != "production/vessel-positions"
        ]
    del plain["connections"]["production/vessel-positions"]
    for identity in gone:
        del plain["credentials"][identity]
    plan = services.apply(by, yaml.safe_dump(plain), prune=True).plan
    assert plan is not None
    assert not Connection.objects.filter(ref="production/vessel-positions").exists()
    undoing = services.undo(by, plan).plan
    assert undoing is not None
    services.to_its_end(undoing)
    assert services.collect() == before
    held = HeldSecret.objects.filter(connection__ref="production/vessel-positions")
    assert held.exists()
    assert not Connection.objects.get(
        ref="production/vessel-positions"
    ).secrets()  # its value is gone: awaited


def test_an_origin_is_what_it_was_after_an_undo(by: Person) -> None:
    text = with_many(by)
    base = yaml.safe_load(text)["base"]
    before = bytes(Origin.objects.get(digest=base).packed)
    plan = services.apply(by, text).plan
    assert plan is not None
    assert bytes(Origin.objects.get(digest=base).packed) != before
    undoing = services.undo(by, plan).plan
    assert undoing is not None
    services.to_its_end(undoing)
    assert bytes(Origin.objects.get(digest=base).packed) == before
    again = services.apply(by, text)  # the same file does the same again
    assert again.plan is not None
    assert again.plan.total == MANY + 2


WRONG = {
    "a scheme": (
        ("connections", "production/cargo-manifests", "scheme", "carrier_pigeon"),
        "no authentication scheme called carrier_pigeon",
    ),
    "a window": (
        ("workloads", "Customs return/production", "windows", ["sometimes"]),
        "is not a window like",
    ),
    "another name": (
        ("workloads", "Customs return/production", "name", "Customs"),
        "a workload is named by its name and environment",
    ),
    "an ID": (
        (
            "clients",
            "crew-roster/production/New",
            {"id": "seven", "name": "New", "deployment": "crew-roster/production"},
        ),
        "“seven” is no ID",
    ),
    "a scope": (("clients", None, "scopes", ['a"b']), "holds characters that a scope must not"),
    "a profile": (
        ("applications", "cargo-manifests", "profile", {"schemes": [{"key": 1}]}),
        "applications → cargo-manifests",
    ),
    "rules": (
        ("deployments", "cargo-manifests/production", "access_rules", {"rules": "all"}),
        "access rules: ",
    ),
    "a zone": (("owners", "Nobody known", {"zone": "Sound/Gannet"}), "time zone"),
    "a use elsewhere": (
        (
            "workloads",
            "Customs return/production",
            "uses",
            [{"application": "crew-roster", "connection": "production/cargo-manifests"}],
        ),
        "production/cargo-manifests is no connection into",
    ),
    "nobody to log in": (("people", "morag", "role", "reader"), "last administrator"),
}


@pytest.mark.parametrize("wrong", WRONG)
def test_all_that_is_wrong_is_told_before_anything_is_applied(by: Person, wrong: str) -> None:
    plain = yaml.safe_load(with_many(by))
    (*path, value), says = WRONG[wrong]
    if path[1] is None:
        path[1] = next(key for key in plain["clients"] if key.startswith("crew-roster/"))
    target = plain
    for part in path[:-1]:
        target = target[part] if part in target else target.setdefault(part, {})
    target[path[-1]] = value
    text = yaml.safe_dump(plain, sort_keys=False)
    for act in (lambda: services.preview(text, False, by), lambda: services.begin(by, text)):
        with refused_with("inventory-mistakes") as refused:
            act()
        mistakes = refused.value.extra["mistakes"]
        assert any(says in f"{mistake['where']}: {mistake['says']}" for mistake in mistakes), (
            mistakes
        )
        assert all(mistake["line"] > 1 for mistake in mistakes), mistakes
    assert not ImportPlan.objects.exists()


def test_every_rule_that_is_asked_before_is_asked_by_its_service_too(
    by: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Without the check before, the block refuses the same, and nothing of a small file
    is applied.
    """
    monkeypatch.setattr(planning.validating, "mistakes", lambda *given: [])
    for wrong in (
        "a scheme",
        "a window",
        "a scope",
        "a profile",
        "rules",
        "a use elsewhere",
        "nobody to log in",
    ):
        plain = yaml.safe_load(services.export(by))
        (*path, value), says = WRONG[wrong]
        if path[1] is None:
            path[1] = next(key for key in plain["clients"] if key.startswith("crew-roster/"))
        target = plain
        for part in path[:-1]:
            target = target[part]
        target[path[-1]] = value
        before = services.collect()
        with refused_with("inventory-mistakes") as refused:
            services.begin(by, yaml.safe_dump(plain, sort_keys=False))
        assert says in refused.value.detail, wrong
        assert services.collect() == before


def test_what_is_removed_and_still_used_is_told_before(by: Person) -> None:
    plain = yaml.safe_load(services.export(by))
    added = workloads.add(by, workloads.WorkloadFields("Made meanwhile", "production"))
    cargo = Connection.objects.get(ref="production/cargo-manifests")
    workloads.use(by, added, cargo.deployment.application, cargo, [])
    for kind in ("connections", "workloads"):
        plain[kind] = {
            key: one
            for key, one in plain[kind].items()
            if "cargo-manifests" not in yaml.safe_dump({key: one})
        }
    with refused_with("inventory-mistakes") as refused:
        services.preview(yaml.safe_dump(plain), True, by)
    assert {mistake["says"] for mistake in refused.value.extra["mistakes"]} == {
        (
            "it would be removed, but is still used: workloads → Made meanwhile/production → "
            "uses → 0 → connection"
        )
    }


def test_a_renamed_client_is_the_same_client(by: Person) -> None:
    """A client's name in the file is made of what it is called: the same file applies again to
    nothing.
    """
    plain = yaml.safe_load(services.export(by))
    key = next(
        key
        for key, one in plain["clients"].items()
        if key.startswith("crew-roster/") and not one.get("managed")
    )
    plain["clients"][key]["name"] = "Crew roster of the ferries"
    text = yaml.safe_dump(plain, sort_keys=False)
    assert services.apply(by, text).plan is not None
    assert Client.objects.get(pk=plain["clients"][key]["id"]).name == "Crew roster of the ferries"
    assert services.apply(by, text).plan is None
    plan = ImportPlan.objects.get()
    undone = services.undo(by, plan).plan
    assert undone is not None
    assert Client.objects.get(pk=plain["clients"][key]["id"]).name != "Crew roster of the ferries"


def test_old_plans_and_those_that_were_never_begun_are_cleared_away(by: Person) -> None:
    plan = services.apply(by, with_many(by)).plan
    assert plan is not None
    now = timezone.now()
    died = ImportPlan.objects.create(
        who=by.username, begun=now, state="checking", is_open=True, worker=_of_a_dead_process()
    )
    assert services.apply(by, services.export(by)).plan is None  # it stands in nobody's way
    assert not ImportPlan.objects.filter(pk=died.pk).exists()
    died = ImportPlan.objects.create(
        who=by.username, begun=now, state="storing", worker=_of_a_dead_process()
    )
    lives = ImportPlan.objects.create(
        who=by.username, begun=now, state="checking", is_open=True, worker=blocks.owner.sign()
    )
    assert blocks.forget_old(now) == 1
    assert set(ImportPlan.objects.values_list("pk", flat=True)) == {plan.pk, lives.pk}
    assert blocks.forget_old(now + timedelta(days=31)) == 2
    assert not ImportStep.objects.exists()
    assert died.pk


def _of_a_dead_process() -> str:
    host, pid, _, random = blocks.owner.sign().split("/")
    return f"{host}/{pid}/1/{random}"


def test_imports_by_api(by: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    web, text = web_of(by), with_many(by)
    seen = send(web, "post", "/inventory/previews", {"text": text})
    assert (seen["adds"], seen["changes_count"], seen["more"], seen["stays"]) == (MANY, 2, 0, 0)
    monkeypatch.setattr(at_work, "is_running", lambda: False)
    refused = send(
        web, "post", "/inventory/imports", {"text": text, "standing": seen["standing"]}, 503
    )
    assert refused["code"] == "worker-not-running"
    assert not ImportPlan.objects.exists()
    monkeypatch.undo()
    answer = send(
        web, "post", "/inventory/imports", {"text": text, "standing": seen["standing"]}, 202
    )["plan"]
    at = f"/inventory/imports/{answer['id']}"
    assert (answer["state"], answer["done"], answer["total"], answer["may_undo"]) == (
        "applying",
        0,
        MANY + 2,
        False,
    )
    assert send(web, "get", "/inventory/imports/open")["plan"]["id"] == answer["id"]
    send(web, "post", f"{at}/undo-previews", None, 409)
    blocks.go_on()
    assert send(web, "get", "/inventory/imports/open")["plan"] is None
    done = send(web, "get", at)
    assert (done["state"], done["done"], done["may_undo"]) == ("applied", MANY + 2, True)
    steps = send(web, "get", f"{at}/steps")["items"]
    assert len(steps) == MANY + 2
    assert all(step["applied"] for step in steps)
    assert {step["act"] for step in steps} == {"add", "change"}
    send(web, "post", f"{at}/stops", None, 409)
    shown = send(web, "post", f"{at}/undo-previews")
    assert (shown["removes"], shown["changes_count"]) == (MANY, 2)
    send(web, "post", f"{at}/undos", {"standing": "something else"}, 409)
    undoing = send(web, "post", f"{at}/undos", {"standing": shown["standing"]}, 202)["plan"]
    assert undoing["undoes"] == answer["id"]
    blocks.go_on()
    listed = send(web, "get", "/inventory/imports")["items"]
    assert [(item["state"], item["undone"], item["undoes"]) for item in listed] == [
        ("applied", False, answer["id"]),
        ("applied", True, None),
    ]
    small = yaml.safe_load(services.export(by))
    small["connections"]["production/cargo-manifests"]["pace"] = 4.0
    small_text = yaml.safe_dump(small)
    seen = send(web, "post", "/inventory/previews", {"text": small_text})
    whole = send(
        web, "post", "/inventory/imports", {"text": small_text, "standing": seen["standing"]}, 200
    )["plan"]
    assert (whole["state"], whole["done"]) == ("applied", 1)


def test_a_large_file_by_command(
    by: Person, tmp_path: Any, capsys: pytest.CaptureFixture[str]
) -> None:
    file = tmp_path / "inventory.yaml"
    file.write_text(with_many(by))
    assert main(["inventory", "import", str(file)]) == 0
    out = capsys.readouterr()
    assert f"{MANY + 2} changes." in out.out
    assert f"{MANY + 2} of {MANY + 2} applied" in out.err
    assert Workload.objects.filter(name__startswith="Night run").count() == MANY
    assert main(["inventory", "list", "--go-on"]) == 0
    plan = ImportPlan.objects.get()
    assert f"{plan.pk}  " in (listed := capsys.readouterr().out)
    assert f"morag: applied, {MANY + 2} of {MANY + 2} applied" in listed
    assert main(["inventory", "undo", str(plan.pk), "--preview"]) == 0
    assert f"{MANY + 2} changes would be made." in capsys.readouterr().out
    connections.change(by, Connection.objects.get(ref="production/cargo-manifests"), {"pace": 7.0})
    assert main(["inventory", "undo", str(plan.pk)]) == 3
    out = capsys.readouterr()
    assert "conflict  connections   production/cargo-manifests" in out.out
    assert f"{MANY + 1} of {MANY + 1} applied" in out.err
    assert not Workload.objects.filter(name__startswith="Night run").exists()
    assert main(["inventory", "undo", str(plan.pk)]) == 1
    assert main(["inventory", "undo", "00000000-0000-0000-0000-000000000000"]) == 5


def test_a_change_of_a_client_by_its_application_that_refuses_leaves_nothing_changed(
    by: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What an application itself must accept comes first, also in a large file."""
    plain = yaml.safe_load(with_many(by))
    key = next(
        key for key, one in plain["clients"].items() if one.get("managed") and "sandbox" in key
    )
    plain["clients"][key]["redirect_uris"] = [
        "http://127.0.0.1:8600/return",
        "https://desk.gannet.example/return",
    ]
    plan = begun(by, yaml.safe_dump(plain))
    first = plan.steps.get(number=1)
    assert (first.kind, first.key) == ("clients", key)
    before = services.collect()

    def refuse(*given: Any) -> Any:
        raise Problem(502, "The application refused.", "It takes no such redirect URI.", code="no")

    monkeypatch.setattr(blocks.clients, "change", refuse)
    with refused_with("import-failed"):
        services.to_its_end(plan)
    monkeypatch.undo()
    assert services.collect() == before
    plan = begun(by, yaml.safe_dump(plain))
    services.to_its_end(plan)
    client = Client.objects.get(pk=plain["clients"][key]["id"])
    assert client.redirect_uris == plain["clients"][key]["redirect_uris"]
    assert clients.read_back(by, client).redirect_uris == client.redirect_uris
