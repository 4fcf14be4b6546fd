"""One name for a connection across environments: references, draws by the name, former names."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch import cli
from neatlatch.core.schemes import CODE
from neatlatch.desk.authority.house.own import DRAW, RELAY
from neatlatch.desk.estate.connections import naming, setting_up
from neatlatch.desk.estate.records.connections.models import Connection, FormerName
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.work.drawing import services as drawing
from tests.refused import refused_with

from .conftest import Setup
from .test_drawing import noted, take
from .test_workbenches import send


@pytest.fixture
def two(setup: Setup) -> tuple[Connection, Connection]:
    """Connections of one purpose in two environments, named before names were joined."""
    sandbox = setup.connection(
        setup.client(setup.deployment(), "manifest.read"), "manifest.read", name="cargo-sandbox"
    )
    staging = setting_up.begin(setup.by, setup.deployment("staging"), CODE, "cargo-staging")
    return sandbox, staging


def asker(setup: Setup, environment: str, *connections: Connection) -> drawing.WorkloadCaller:
    """A workload of an environment that uses connections."""
    given = workloads.WorkloadFields("Night run", environment)
    workload = workloads.add(setup.by, given)
    for connection in connections:
        workloads.use(setup.by, workload, connection.deployment.application, connection, [])
    client, _ = drawing.give(setup.by, workload, "key", "draw")
    fresh = Workload.objects.select_related("environment").get(pk=workload.pk)
    return drawing.WorkloadCaller(fresh, client, frozenset({DRAW, RELAY}))


def key_of(setup: Setup, connection: Connection) -> str:
    """The key of a workload that may draw and relay."""
    _, handover = drawing.give(setup.by, noted(setup, connection), "key", "draw")
    return take(setup, handover)


def test_a_name_is_had_once_in_each_environment(
    setup: Setup, two: tuple[Connection, Connection]
) -> None:
    sandbox, staging = two
    assert naming.rename(setup.by, sandbox, "cargo").ref == "sandbox/cargo"
    assert naming.rename(setup.by, staging, "cargo").ref == "staging/cargo"
    with refused_with("invalid-fields") as refused:
        naming.check_free(staging.deployment, "cargo")
    assert refused.value.errors["name"] == "The name staging/cargo is taken."


def test_a_bare_name_is_refused_with_the_candidates(
    setup: Setup, two: tuple[Connection, Connection]
) -> None:
    for connection in two:
        naming.rename(setup.by, connection, "cargo")
    web = setup.web()
    for method, address in (
        ("get", "/connections/cargo"),
        ("delete", "/connections/cargo"),
        ("get", "/connections/cargo/set-up"),
        ("post", "/connections/cargo/tests"),
        ("post", "/connections/cargo/scopes/previews"),
        ("put", "/connections/cargo/sharing"),
        ("delete", "/connections/cargo/accounts/morag"),
    ):
        told = send(web, method, address, {}, 404)
        assert told["candidates"] == ["sandbox/cargo", "staging/cargo"], address
        assert told["code"] == "connection-needs-environment", address
    workload = workloads.add(setup.by, workloads.WorkloadFields("Report", "sandbox"))
    body = {"application": "cargo-manifests", "connection": "cargo", "operations": []}
    told = send(web, "post", f"/workloads/{workload.pk}/uses", body, 422)
    assert "sandbox/cargo or staging/cargo" in told["errors"]["connection"]
    told = send(
        web,
        "post",
        "/connections/sandbox/cargo/secrets",
        {"secret": "neatlatch://cargo/secret"},
        422,
    )
    assert "sandbox/cargo or staging/cargo" in json.dumps(told["errors"])
    # An address that is nobody's names no candidates, and one that exists is not done what it has
    # no method for.
    assert "candidates" not in send(web, "get", "/connections/nothing/at/all", {}, 404)
    assert send(web, "post", "/connections/sandbox/cargo", {}, 405)["status"] == 405
    # A slash in a reference may be escaped.
    assert send(web, "get", "/connections/sandbox%2Fcargo")["name"] == "cargo"


def test_a_workload_draws_a_bare_name_in_its_own_environment(
    setup: Setup, two: tuple[Connection, Connection]
) -> None:
    sandbox, staging = (naming.rename(setup.by, connection, "cargo") for connection in two)
    both = asker(setup, "sandbox", sandbox, staging)
    assert drawing.connection_of(both, "cargo", "draw") == sandbox
    only_there = asker(setup, "production", staging, sandbox)
    with refused_with("connection-not-used") as refused:
        drawing.connection_of(only_there, "cargo", "draw")
    assert (refused.value.status, refused.value.title) == (
        404,
        "You use no connection cargo in Production.",
    )
    assert "You use sandbox/cargo, staging/cargo, in another environment." in refused.value.detail
    with refused_with("connection-not-used") as refused:
        drawing.connection_of(only_there, "none", "draw")
    assert "another environment" not in refused.value.detail


def test_a_draw_that_names_the_environment_is_told_to_leave_it_out(setup: Setup) -> None:
    connection = setup.latched()
    key = key_of(setup, connection)
    web, headers = WebClient(), {"Authorization": f"Bearer {key}"}
    told = web.get("/draw/sandbox/cargo", headers=headers).json()
    assert told["code"] == "draw-needs-bare-name"
    assert web.get("/draw/sandbox/cargo").status_code == 401
    assert web.get("/draw/cargo", headers=headers).json()["ref"] == "sandbox/cargo"


def test_an_old_name_works_for_draws_until_nobody_has_used_it_for_thirty_days(
    setup: Setup,
) -> None:
    connection = setup.latched(name="cargo-sandbox")
    assert setup.test(connection).passed
    key = key_of(setup, connection)
    before = send(setup.web(), "get", "/connections/sandbox/cargo-sandbox")
    web, headers = WebClient(), {"Authorization": f"Bearer {key}"}
    naming.rename(setup.by, connection, "cargo")
    after = send(setup.web(), "get", "/connections/sandbox/cargo")
    assert (after["state"], after["pins"]) == ("latched", before["pins"])  # proven as before
    entry = Entry.objects.get(did="renamed")
    assert (entry.ref, entry.details["from"]) == ("sandbox/cargo", "sandbox/cargo-sandbox")
    for name in ("cargo", "cargo-sandbox"):
        answer = web.get(f"/draw/{name}", headers=headers)
        assert (answer.status_code, answer.json()["ref"]) == (200, "sandbox/cargo")
    assert web.get("/relay/cargo-sandbox/manifests", headers=headers).status_code == 200
    (former,) = send(setup.web(), "get", "/connections/sandbox/cargo")["former_names"]
    assert (former["name"], former["used_by"]) == ("cargo-sandbox", "Night run")

    now = timezone.now()
    assert naming.end_unused(now + timedelta(days=29)) == 0
    assert naming.end_unused(now + timedelta(days=31)) == 1
    assert web.get("/draw/cargo-sandbox", headers=headers).status_code == 404
    assert web.get("/draw/cargo", headers=headers).status_code == 200


def test_a_former_name_is_told_of_kept_free_and_ended(
    setup: Setup, two: tuple[Connection, Connection]
) -> None:
    sandbox, _ = two
    web = setup.web()
    shown = send(web, "post", "/connections/sandbox/cargo-sandbox/names", {"name": "cargo"})
    assert (shown["ref"], shown["former_names"][0]["name"]) == ("sandbox/cargo", "cargo-sandbox")
    told = send(web, "get", "/connections/sandbox/cargo-sandbox", status=404)
    assert told["candidates"] == ["sandbox/cargo"]
    with refused_with("invalid-fields") as refused:
        setting_up.begin(setup.by, sandbox.deployment, sandbox.scheme, "cargo-sandbox")
    assert "a former name of sandbox/cargo" in refused.value.errors["name"]
    send(web, "delete", "/connections/sandbox/cargo/names/cargo-sandbox")
    send(web, "delete", "/connections/sandbox/cargo/names/cargo-sandbox", status=404)
    assert setting_up.begin(setup.by, sandbox.deployment, sandbox.scheme, "cargo-sandbox").paused
    # What it was called before, it may be called again.
    naming.rename(setup.by, sandbox, "cargo-2")
    naming.rename(setup.by, sandbox, "cargo")
    assert [former_name.name for former_name in FormerName.objects.all()] == ["cargo-2"]
    send(web, "post", "/connections/sandbox/cargo/names", {"name": "Not a name"}, 422)


def test_joined_names_are_proposed_and_given(
    setup: Setup, two: tuple[Connection, Connection], monkeypatch: pytest.MonkeyPatch
) -> None:
    web = setup.web()
    assert two[0].client is not None
    taken = setup.connection(two[0].client, "manifest.read", name="berths")
    setup.connection(taken.client, "manifest.read", name="sandbox-berths")  # type: ignore[arg-type]
    page = send(web, "get", "/name-proposals")
    assert [(item["ref"], item["becomes"], bool(item["obstacle"])) for item in page["items"]] == [
        ("sandbox/cargo-sandbox", "sandbox/cargo", False),
        ("sandbox/sandbox-berths", "sandbox/berths", True),
        ("staging/cargo-staging", "staging/cargo", False),
    ]
    assert page["following"] == ""
    monkeypatch.setattr(naming, "MOST_PROPOSED", 1)
    seen: list[str] = []
    after = ""
    while True:
        page = send(web, "get", f"/name-proposals?after={after}")
        seen += [item["ref"] for item in page["items"]]
        if not (after := page["following"]):
            break
    assert seen == ["sandbox/cargo-sandbox", "sandbox/sandbox-berths", "staging/cargo-staging"]
    wanted = [
        {"ref": "sandbox/cargo-sandbox", "name": "cargo"},
        {"ref": "sandbox/sandbox-berths", "name": "berths"},
        {"ref": "sandbox/nothing", "name": "cargo"},
    ]
    done = send(web, "post", "/renamings", {"renamings": wanted})
    assert [renaming["became"] for renaming in done] == ["sandbox/cargo", "", ""]
    assert [bool(renaming["problem"]) for renaming in done] == [False, True, True]
    send(web, "post", "/renamings", {"renamings": [wanted[0]] * 101}, 422)


def test_joined_names_by_command(
    setup: Setup, two: tuple[Connection, Connection], capsys: pytest.CaptureFixture[str]
) -> None:
    assert cli.main(["join-names", "--preview"]) == 0
    told = capsys.readouterr().out.splitlines()
    assert told[0].split() == ["sandbox/cargo-sandbox", "sandbox/cargo"]
    assert told[-1] == "2 connections would be renamed."
    assert Connection.objects.filter(name="cargo").count() == 0
    assert cli.main(["join-names"]) == 0
    assert set(Connection.objects.values_list("ref", flat=True)) == {
        "sandbox/cargo",
        "staging/cargo",
    }
    assert Entry.objects.filter(did="renamed", who="morag").count() == 2
    capsys.readouterr()
    assert cli.main(["join-names"]) == 0
    assert capsys.readouterr().out == "No connection's name says its environment.\n"


def test_reading_a_page_of_proposals_costs_the_same_whatever_there_is(
    setup: Setup, django_assert_max_num_queries: Callable[[int], Any]
) -> None:
    like = setup.connection(setup.client(setup.deployment(), "manifest.read"), "manifest.read")
    Connection.objects.bulk_create(
        Connection(
            **naming.named(like.deployment, f"cargo-{number:04}{'-sandbox' * (number % 9 == 0)}"),
            deployment=like.deployment,
            scheme=like.scheme,
            changed_at=timezone.now(),
        )
        for number in range(2_000)
    )
    with django_assert_max_num_queries(10):
        page = naming.proposals()
    assert len(page.proposals) == naming.MOST_PROPOSED
    assert page.following


def test_a_copy_in_another_environment_has_the_same_name(setup: Setup) -> None:
    connection = setup.latched(name="manifests-of-the-night")
    setup.deployment("staging")
    made, _ = setting_up.copy(setup.by, connection, "staging")
    assert made.ref == "staging/manifests-of-the-night"
