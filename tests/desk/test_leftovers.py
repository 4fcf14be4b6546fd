"""What tests left behind: listed, retried, closed; and what “not found” is taken for."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from uuid import uuid4

import pytest
from django.utils import timezone

from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.work.rounds import leftovers
from neatlatch.desk.work.rounds.models import Leftover, Test

from .conftest import Setup
from .test_workbenches import send


@pytest.fixture
def connection(setup: Setup) -> Connection:
    deployment = setup.deployment()
    client = setup.client(deployment, "manifest.read", "manifest.write")
    visitor = setup.visitor()
    visitor.enter_office()
    visitor.consent(client.client_id, "manifest.write")
    made = setup.connection(client, account="svc-manifests@gannet.example")
    setup.sign_in(made)
    return made


def left(connection: Connection, known: str, **more: Any) -> Leftover:
    """A leftover at an address where nothing is."""
    row = Leftover.objects.create(
        connection=connection,
        test_id=uuid4(),
        name="TEST-1",
        operation="PUT /manifests/{test}",
        known=known,
        method="DELETE",
        **{"address": f"{connection.values['api_base']}/nothing-like-it/TEST-1", **more},
    )
    Leftover.objects.filter(pk=row.pk).update(made=timezone.now() - timedelta(minutes=1))
    return row


@pytest.mark.parametrize(("known", "gone"), [("asked", True), ("seen", True), ("made", False)])
def test_not_found_is_no_proof_for_what_was_made_and_never_seen(
    connection: Connection, known: str, gone: bool
) -> None:
    row = left(connection, known)
    assert leftovers.clear_all() == int(gone)
    assert Leftover.objects.filter(pk=row.pk).exists() is not gone
    if not gone:
        row.refresh_from_db()
        assert (row.stuck, row.status, row.tries) == (True, 404, 1)
        assert leftovers.clear_all() == 0
        row.refresh_from_db()
        assert row.tries == 1  # it would be answered the same


def test_not_found_while_it_could_be_seen_stays_no_proof(
    setup: Setup, connection: Connection
) -> None:
    left(connection, "seen", stuck=True, status=404)
    assert not leftovers.clear(setup.by, Leftover.objects.get())
    assert Leftover.objects.count() == 1


def test_one_that_is_closed_while_it_is_retried(
    setup: Setup, connection: Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    row = left(connection, "made")

    def closed_meanwhile(_: Leftover) -> int:
        leftovers.close(setup.by, Leftover.objects.get(pk=row.pk), "Deleted there.")
        return 404

    monkeypatch.setattr(leftovers, "_status_of_clearing", closed_meanwhile)
    assert not leftovers.clear(setup.by, row)
    assert not Leftover.objects.exists()


def test_the_list_a_retry_and_a_reason(setup: Setup, connection: Connection) -> None:
    web = setup.web("operator")
    running = Test.objects.create(connection=connection, begun_by="morag", state=Test.State.RUNNING)
    Leftover.objects.create(connection=connection, test_id=running.pk, method="DELETE", address="x")
    first, second = left(connection, "made"), left(connection, "asked", address="")
    items = send(web, "get", "/leftovers")["items"]
    assert [item["id"] for item in items] == [second.pk, first.pk]
    assert items[1] | {"made": "", "test": ""} == {
        "id": first.pk,
        "ref": "sandbox/cargo",
        "application": "Cargo manifests",
        "environment": "Sandbox",
        "name": "TEST-1",
        "operation": "PUT /manifests/{test}",
        "known": "made",
        "made": "",
        "method": "DELETE",
        "address": first.address,
        "status": None,
        "tried": None,
        "tries": 0,
        "stuck": False,
        "test": "",
    }
    assert (
        send(web, "get", "/today")["leftovers"] == 1
    )  # nothing else finds the one without an address

    assert send(web, "post", f"/leftovers/{first.pk}/retries") == {"gone": False, "status": 404}
    send(web, "post", f"/leftovers/{second.pk}/retries", None, 409)
    assert send(web, "get", "/today")["leftovers"] == 2

    assert (
        "reason"
        in send(web, "post", f"/leftovers/{first.pk}/closures", {"reason": " "}, 422)["errors"]
    )
    send(web, "post", f"/leftovers/{first.pk}/closures", {"reason": "Deleted on their page."}, 204)
    entry = Entry.objects.filter(noun="leftover").order_by("-number")[0]
    assert (entry.did, entry.ref, entry.details["reason"]) == (
        "closed",
        "sandbox/cargo",
        "Deleted on their page.",
    )
    assert [item["id"] for item in send(web, "get", "/leftovers")["items"]] == [second.pk]
    send(web, "post", f"/leftovers/{first.pk}/closures", {"reason": "again"}, 404)


def test_a_test_that_works_leaves_nothing(setup: Setup, connection: Connection) -> None:
    test = setup.test(connection)
    assert test.passed
    assert test.rungs[-1]["says"] == f"made TEST-{str(test.pk)[:8]}, saw it, cleared it away"
    assert not Leftover.objects.exists()


def test_a_making_that_is_refused_leaves_nothing(setup: Setup, connection: Connection) -> None:
    setup.stand_ins.fault("refuse", where="make", count=9)
    test = setup.test(connection)
    assert not test.passed
    assert not Leftover.objects.exists()
