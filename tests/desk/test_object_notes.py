"""Tags, notes and links on any object, filters by tags, and one change of many objects."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
import time_machine
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.applications import environments
from neatlatch.desk.estate.records.annotations.models import Annotation, Tag
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common.actors import CLOCK
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people.models import Owner
from neatlatch.desk.work.finding import index
from neatlatch.desk.work.inventory import services as inventory
from neatlatch.desk.work.rounds import services as rounds
from neatlatch.desk.work.rounds.models import Round, Test
from tests.refused import refused_with

from .conftest import Setup
from .test_workbenches import fresh, send

RUNBOOK = {"address": "https://wiki.gannet.example/cargo", "label": "Runbook"}


@pytest.fixture
def web(setup: Setup) -> WebClient:
    return setup.web()


@pytest.fixture
def cargo(setup: Setup) -> Connection:
    """A connection that nothing has been tried of."""
    client = setup.client(setup.deployment(), "manifest.read")
    return setup.connection(client, "manifest.read")


def put(web: WebClient, where: str, version: int, status: int = 200, **body: Any) -> Any:
    headers = {"If-Match": f'"{version}"'}
    return send(web, "put", f"/annotations/{where}", body, status, **headers)


def targets(cargo: Connection, setup: Setup) -> dict[str, str]:
    """An object of each kind, by the address of its notes."""
    workload = workloads.add(setup.by, workloads.WorkloadFields("Night run", "sandbox"))
    contact = owners.add(setup.by, "Quays", owners.ContactDetails())
    assert cargo.client is not None
    credential = cargo.client.credentials.first()
    assert credential is not None
    return {
        "applications": "cargo-manifests",
        "clients": str(cargo.client.pk),
        "connections": "sandbox/cargo",
        "credentials": str(credential.pk),
        "environments": "sandbox",
        "owners": str(contact.pk),
        "people": "morag",
        "workloads": str(workload.pk),
    }


def test_any_object_has_tags_notes_and_links(
    setup: Setup, web: WebClient, cargo: Connection
) -> None:
    for of, key in targets(cargo, setup).items():
        empty = send(web, "get", f"/annotations/{of}/{key}")
        assert (empty["tags"], empty["version"]) == ([], 0)
        put(web, f"{of}/{key}", 0, tags=[" Quay-4 ", "quay-4"], notes="Ask first.", links=[RUNBOOK])
        kept = send(web, "get", f"/annotations/{of}/{key}")
        assert (kept["tags"], kept["notes"]) == (["quay-4"], "Ask first.")
        assert kept["links"] == [RUNBOOK]
        assert (kept["version"], kept["changed_by"]) == (1, "administrator")
        put(web, f"{of}/{key}", 1)
        assert send(web, "get", f"/annotations/{of}/{key}")["notes"] == ""
    assert send(web, "get", "/tags?begin=q") == []
    assert fresh().version == cargo.version, "notes change nothing of the connection itself"


def test_an_older_version_and_what_is_not_there_are_refused(
    web: WebClient, cargo: Connection
) -> None:
    put(web, "connections/sandbox/cargo", 0, notes="Mine.")
    problem = put(web, "connections/sandbox/cargo", 0, 412, notes="Theirs.")
    assert problem["current_version"] == 1
    assert object_notes.kept(cargo).content.notes == "Mine."
    for nowhere in ("connections/cargo", "connections/sandbox/x", "workloads/x", "owners/99"):
        put(web, nowhere, 0, 404)
    send(web, "put", "/annotations/connections/sandbox/cargo", {"notes": "x"}, 428)
    wrong = put(web, "connections/sandbox/cargo", 1, 422, tags=["two words"])
    assert "tags" in wrong["errors"]
    wrong = put(web, "connections/sandbox/cargo", 1, 422, links=[{"address": "javascript:1"}])
    assert "links" in wrong["errors"]


def test_the_journal_tells_of_notes_without_their_text(web: WebClient, cargo: Connection) -> None:
    put(web, "connections/sandbox/cargo", 0, tags=["night"], notes="The yard knows.")
    entry = Entry.objects.latest("number")
    assert (entry.noun, entry.ref) == ("connection", "sandbox/cargo")
    assert "The yard knows." not in str(entry.details)
    assert entry.details["changes"] == ["tags: night added", "notes added"]


def test_what_people_put_on_an_object_goes_with_it(
    setup: Setup, web: WebClient, cargo: Connection
) -> None:
    put(web, "connections/sandbox/cargo", 0, tags=["night"])
    send(web, "delete", "/connections/sandbox/cargo?confirm=sandbox/cargo", status=204)
    assert not Annotation.objects.exists()
    assert not Tag.objects.exists()


def test_lists_are_filtered_by_tags_and_show_them(
    setup: Setup, web: WebClient, cargo: Connection
) -> None:
    keys = targets(cargo, setup)
    for of in ("applications", "connections", "credentials", "owners", "people", "workloads"):
        put(web, f"{of}/{keys[of]}", 0, tags=["night", "night-2"])
        found = send(web, "get", f"/{of}?words=tag:night")["items"]
        assert len(found) == 1, "a row with two tags that begin so is one row"
        assert send(web, "get", f"/{of}?words=tag:nigh")["items"] == []
        without = send(web, "get", f"/{of}?words=-tag:night")["items"]
        assert found[0] not in without
        if of not in ("owners", "people"):
            assert found[0]["tags"] == ["night", "night-2"]
    assert send(web, "get", "/tags?begin=NIGHT-") == ["night-2"]
    assert [item["kind"] for item in send(web, "get", "/search?words=night-2")]


def test_a_tag_finds_its_object_until_it_is_taken_off(
    setup: Setup, web: WebClient, cargo: Connection
) -> None:
    put(web, "connections/sandbox/cargo", 0, tags=["xebec"])
    assert [found.name for found in index.find("xebec")] == ["sandbox/cargo"]
    index.rebuild()
    assert [found.name for found in index.find("xebec")] == ["sandbox/cargo"]
    put(web, "connections/sandbox/cargo", 1)
    assert index.find("xebec") == []


# Inventory


def test_an_inventory_holds_what_people_put_on_objects(
    setup: Setup, web: WebClient, cargo: Connection
) -> None:
    keys = targets(cargo, setup)
    for of, key in keys.items():
        put(web, f"{of}/{key}", 0, tags=["night"], notes="Ask first.", links=[RUNBOOK])
    text = inventory.export(setup.by)
    assert inventory.preview(text, prune=False).outcome.nothing
    for of, key in keys.items():
        put(web, f"{of}/{key}", 1)
    proven = Connection.objects.filter(ref="sandbox/cargo")
    proven.update(state="latched")
    # The file, without what it was made from, is what is wanted.
    wanted = "\n".join(line for line in text.splitlines() if not line.startswith("base:"))
    plan = inventory.apply(setup.by, wanted, prune=False).plan
    for of, key in keys.items():
        kept = send(web, "get", f"/annotations/{of}/{key}")
        assert (kept["tags"], kept["notes"], kept["links"]) == (["night"], "Ask first.", [RUNBOOK])
    assert proven.get().state == "latched", "a tag does not make it unproven"
    assert plan is not None
    undone = inventory.undo(setup.by, plan).plan
    assert undone is not None
    inventory.to_its_end(undone)
    assert send(web, "get", "/annotations/connections/sandbox/cargo")["tags"] == []


def test_a_file_with_a_wrong_tag_is_refused_with_its_line(setup: Setup, cargo: Connection) -> None:
    text = inventory.export(setup.by).replace(
        "  sandbox/cargo:\n", "  sandbox/cargo:\n    tags: [two words]\n"
    )
    with refused_with("inventory-mistakes") as refused:
        inventory.preview(text, prune=False)
    assert refused.value.extra["mistakes"][0]["where"] == "connections → sandbox/cargo"


# How a connection is tested


def test_pace_and_pause_leave_a_connection_as_proven_as_it_was(
    setup: Setup, web: WebClient, cargo: Connection
) -> None:
    Connection.objects.filter(pk=cargo.pk).update(state="latched")
    headers = {"If-Match": f'"{cargo.version}"'}
    body = {"pace": 3.0, "paused": True, "test_interval": 60}
    changed = send(web, "patch", "/connections/sandbox/cargo", body, **headers)
    assert (changed["state"], changed["version"]) == ("latched", cargo.version + 1)
    assert (changed["pace"], changed["paused"], changed["test_interval"]) == (3.0, True, 60)
    headers = {"If-Match": f'"{cargo.version + 1}"'}
    body = {"test_interval": 7 * 24 * 60 + 1}
    wrong = send(web, "patch", "/connections/sandbox/cargo", body, 422, **headers)
    assert "test_interval" in wrong["errors"]
    body = {"scopes": ["manifest.read", "profile"]}
    changed = send(web, "patch", "/connections/sandbox/cargo", body, **headers)
    assert changed["state"] == "not_proven"


def test_rounds_by_the_clock_keep_to_a_connections_own_interval(
    setup: Setup, cargo: Connection, settings: Any
) -> None:
    settings.ROUND_MINUTES = 15
    tested = timezone.now()
    rows = Connection.objects.filter(pk=cargo.pk)
    rows.update(tested_at=tested, test_interval=60, paused=False)

    def is_tested(after: timedelta) -> bool:
        with time_machine.travel(tested + after):
            return rounds.round_is_due()

    assert not is_tested(timedelta(minutes=45))
    assert is_tested(timedelta(minutes=60) - timedelta(seconds=5))
    rows.update(test_interval=0)
    assert is_tested(timedelta(minutes=1))
    rows.update(test_interval=60)
    begun = rounds.begin_round(setup.by)
    assert Test.objects.filter(round=begun).count() == 1, "a person's round tests all"
    Round.objects.update(ended=timezone.now())
    with refused_with("nothing-to-test"):
        rounds.begin_round(CLOCK)


# One change of many


def of_many(setup: Setup, number: int) -> None:
    for index_ in range(number):
        workloads.add(setup.by, workloads.WorkloadFields(f"Run {index_:03}", "sandbox"))


def all_of(web: WebClient, **body: Any) -> list[Any]:
    """The answers to a change, call after call."""
    answers = [send(web, "post", "/bulk-changes", body)]
    while answers[-1]["after"]:
        answers.append(send(web, "post", "/bulk-changes", body | {"after": answers[-1]["after"]}))
    return answers


def test_all_that_fit_a_filter_are_changed_in_blocks(setup: Setup, web: WebClient) -> None:
    of_many(setup, 130)
    meant = {"of": "workloads", "words": "env:sandbox run"}
    preview = send(web, "post", "/bulk-changes/previews", meant)
    assert (preview["count"], preview["production"], len(preview["names"])) == (130, 0, 10)
    answers = all_of(web, **meant, count=130, owner="Quays", add_tags=["Night"])
    assert [answer["changed"] for answer in answers] == [100, 30]
    assert Owner.objects.get(name="Quays").workloads.count() == 130
    assert Tag.objects.filter(name="night").count() == 130
    again = all_of(web, **meant, count=130, owner="Quays", add_tags=["night"])
    assert [(each["changed"], each["unchanged"]) for each in again] == [(0, 100), (0, 30)]
    other = {"of": "workloads", "words": "", "count": 129, "owner": ""}
    send(web, "post", "/bulk-changes", other, 409)


def test_chosen_rows_are_changed_and_one_that_refuses_is_reported(
    setup: Setup, web: WebClient
) -> None:
    of_many(setup, 3)
    first, second, third = Workload.objects.order_by("name")
    full = [f"t{number}" for number in range(20)]
    object_notes.change_tags(setup.by, second, full)
    keys = [str(first.pk), str(second.pk)]
    done = send(web, "post", "/bulk-changes", {"of": "workloads", "keys": keys, "add_tags": ["a"]})
    assert done["changed"] == 1
    assert [refused["name"] for refused in done["refused"]] == ["Run 001 (Sandbox)"]
    assert object_notes.kept(first).content.tags == ("a",)
    assert object_notes.kept(third).content.tags == ()
    done = send(
        web, "post", "/bulk-changes", {"of": "workloads", "keys": keys, "remove_tags": ["a", "t0"]}
    )
    assert (done["changed"], done["refused"]) == (2, [])


def test_connections_are_paused_tagged_and_given_an_interval(
    setup: Setup, web: WebClient, cargo: Connection
) -> None:
    meant = {"of": "connections", "keys": ["sandbox/cargo"]}
    assert send(web, "post", "/bulk-changes/previews", meant)["names"] == ["sandbox/cargo"]
    wanted = {"paused": True, "test_interval": 1440, "add_tags": ["night"]}
    assert send(web, "post", "/bulk-changes", meant | wanted)["changed"] == 1
    kept = fresh()
    assert (kept.paused, kept.test_interval) == (True, 1440)
    assert "owner" in send(web, "post", "/bulk-changes", meant | {"owner": "Quays"}, 422)["errors"]


def test_applications_and_credentials_are_given_an_owner(
    setup: Setup, web: WebClient, cargo: Connection
) -> None:
    for of in ("applications", "credentials"):
        count = send(web, "post", "/bulk-changes/previews", {"of": of, "words": ""})["count"]
        answers = all_of(web, of=of, words="", count=count, owner="Quays")
        assert sum(answer["changed"] for answer in answers) == count > 0
    assert Owner.objects.get(name="Quays").applications.filter(key="cargo-manifests").exists()


@pytest.mark.parametrize(
    ("body", "field"),
    [
        ({"of": "workloads", "owner": "x"}, "keys"),
        ({"of": "workloads", "keys": [], "words": "", "owner": "x"}, "keys"),
        ({"of": "workloads", "keys": ["x"], "owner": "x"}, "keys"),
        ({"of": "workloads", "words": "env:", "owner": "x"}, "words"),
        ({"of": "workloads", "words": "", "owner": "x", "after": "x"}, "after"),
        ({"of": "workloads", "words": "", "paused": True}, "paused"),
        ({"of": "workloads", "words": "", "add_tags": ["a b"]}, "add_tags"),
        ({"of": "workloads", "words": "", "owner": "person/nobody"}, "owner"),
        ({"of": "workloads", "words": "", "owner": "x" * 121}, "owner"),
        ({"of": "connections", "words": "", "test_interval": 10081}, "test_interval"),
        ({"of": "connections", "words": "", "test_interval": -1}, "test_interval"),
        ({"of": "workloads", "words": "", "add_tags": ["a"], "remove_tags": ["a"]}, "remove_tags"),
    ],
)
def test_what_is_not_meant_clearly_is_refused(
    setup: Setup, web: WebClient, body: dict[str, Any], field: str
) -> None:
    assert field in send(web, "post", "/bulk-changes", body, 422)["errors"]


def test_a_change_that_changes_nothing_is_refused(setup: Setup, web: WebClient) -> None:
    send(web, "post", "/bulk-changes", {"of": "workloads", "words": ""}, 422)


def test_environments_keep_what_was_put_on_them_when_they_are_renamed(setup: Setup) -> None:
    sandbox = environments.all_in_order()[0]
    object_notes.change_tags(setup.by, sandbox, ["early"])
    environments.change(setup.by, sandbox, {"name": "Sand"})
    assert object_notes.kept(sandbox).content.tags == ("early",)
