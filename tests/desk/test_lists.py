"""Lists come in pages, and what they tell of a row is what its own page tells."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from django.db import connection as database
from django.db.models import Count
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from neatlatch.core.schemes import KINDS
from neatlatch.demo.fill import fill
from neatlatch.desk.estate.records.applications.models import Application, Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.actors import CLOCK
from neatlatch.desk.ground.journal.models import ABOUT, Entry
from neatlatch.desk.ground.people.models import Owner, Person
from neatlatch.desk.pages.rounds import events
from neatlatch.desk.work.rounds import services as rounds
from neatlatch.desk.work.rounds.models import Round, Test

from .conftest import forget_the_journal


@pytest.fixture
def web(
    transactional_db: None, tmp_path: Any, monkeypatch: pytest.MonkeyPatch
) -> Iterator[WebClient]:
    """An administrator in a house of sixty connections."""
    monkeypatch.setattr("neatlatch.demo.fill._logins", lambda: tmp_path / "logins.json")
    fill(60, lambda stand: None)
    found = WebClient()
    found.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    yield found
    forget_the_journal()


def every(web: WebClient, address: str) -> list[Any]:
    """All rows of a list, a page after another."""
    found, cursor = [], ""
    while True:
        answer = web.get(f"/api{address}{'&' if '?' in address else '?'}cursor={cursor}").json()
        found += answer["items"]
        if answer["next"] is None:
            return found
        cursor = answer["next"]


def test_clients_of_one_name_stand_on_one_page_each(
    web: WebClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    Client.objects.update(name="One for all")
    monkeypatch.setattr("neatlatch.desk.pages.clients.bench_lists._PAGE", 7)
    listed = [item["client"] for item in every(web, "/scopes")]
    told = {
        str(client.pk)
        for client in Client.objects.select_related("deployment__application")
        if _has_scopes(client)
    }
    assert len(listed) == len(set(listed)) > 20
    assert set(listed) == told


def _has_scopes(client: Client) -> bool:
    profile = client.deployment.application.read_profile()
    return bool(
        profile.scopes if client.gets_tokens or client.scheme == "oauth2_jwt" else profile.roles
    )


def test_the_list_of_scopes_counts_what_each_matrix_shows(web: WebClient) -> None:
    use = Use.objects.filter(connection__scheme="oauth2_client")[0]
    Client.objects.filter(connections=use.connection).update(scopes=[])
    Use.objects.filter(pk=use.pk).update(operations=["GET /nothing-of-the-kind", *use.operations])
    listed = every(web, "/scopes")
    for item in listed:
        shown = web.get(f"/api/clients/{item['client']}/scopes").json()
        trim = shown["trim"]
        assert (item["workloads"], item["word"]) == (len(shown["columns"]), shown["word"])
        assert (item["missing"], item["can_go"], item["impossible"]) == tuple(
            len(trim[key]) for key in ("missing", "can_go", "impossible")
        )
        assert item["stale"] == sum(each["stale"] for each in shown["connections"])
    assert any(item["missing"] for item in listed)
    assert any(item["can_go"] for item in listed)


def test_the_list_of_redirect_uris_counts_what_each_bench_shows(web: WebClient) -> None:
    some = Connection.objects.filter(scheme="oauth2_code")[0]
    Connection.objects.filter(pk=some.pk).update(
        values={**some.values, "redirect_uri": "http://127.0.0.1:8600/return/other"}
    )
    listed = every(web, "/redirect-uris")
    for item in listed:
        shown = web.get(f"/api/clients/{item['client']}/redirect-uris").json()
        matches = [each["match"] for each in shown["callers"]]
        assert (item["callers"], item["matched"], item["near_misses"]) == (
            len(matches),
            sum(matches),
            len(matches) - sum(matches),
        )
        assert item["registered"] == len(shown["registered"])
    assert [item["near_misses"] for item in listed if item["client"] == str(some.client_id)] == [1]


def test_owners_are_counted_by_what_is_theirs(web: WebClient) -> None:
    somebody = Owner.objects.order_by("pk")[0]
    Credential.objects.filter(
        pk__in=list(Credential.objects.values_list("pk", flat=True)[:7])
    ).update(owner=somebody)

    def counted(model: Any) -> dict[Any, int]:
        return dict(
            model.objects.exclude(owner=None).order_by().values_list("owner").annotate(Count("pk"))
        )

    applications, workloads, credentials = (
        counted(Application),
        counted(Workload),
        counted(Credential),
    )
    for item in every(web, "/owners"):
        key = item["id"]
        assert item["applications"] == applications.get(key, 0)
        assert item["workloads"] == workloads.get(key, 0)
        assert item["credentials"] == credentials.get(key, 0)
    assert credentials[somebody.pk] >= 7


def test_who_is_warned_is_found_by_the_filter(web: WebClient) -> None:
    uses = list(
        Use.objects.exclude(connection=None)
        .select_related("connection__deployment", "workload")
        .order_by("pk")[:5]
    )
    none, elsewhere, open_, lacking, _ = uses
    Use.objects.filter(pk=none.pk).update(connection=None)
    assert elsewhere.connection is not None
    assert open_.connection is not None
    assert lacking.connection is not None
    other = Deployment.objects.exclude(environment=elsewhere.workload.environment).filter(
        application=elsewhere.application
    )[0]
    Connection.objects.filter(pk=elsewhere.connection.pk).update(deployment=other)
    Connection.objects.filter(pk=open_.connection.pk).update(state="unlatched")
    Connection.objects.filter(pk=lacking.connection.pk).update(values={})
    every_one = {item["name"]: item["warnings"] for item in every(web, "/workloads")}
    warned = {item["name"] for item in every(web, "/workloads?words=warned:yes")}
    assert warned == {name for name, count in every_one.items() if count}
    assert {use.workload.name for use in uses[:4]} <= warned
    assert {
        item["name"] for item in every(web, "/workloads?words=-warned:yes")
    } == every_one.keys() - warned
    for workload in Workload.objects.filter(name__in=warned):
        says = [
            each["says"] for each in web.get(f"/api/workloads/{workload.pk}").json()["warnings"]
        ]
        assert len(says) == every_one[workload.name]


def test_a_warning_names_a_few_of_many_that_would_serve(web: WebClient) -> None:
    use = (
        Use.objects.exclude(connection=None)
        .filter(connection__deployment__environment__key="production")
        .select_related("workload")[0]
    )
    assert use.connection is not None
    like = use.connection
    Use.objects.filter(application=like.deployment.application).exclude(pk=use.pk).delete()
    Connection.objects.filter(deployment=like.deployment).delete()
    for number in range(6):
        Connection.objects.create(
            ref=f"choice-{number}",
            deployment=like.deployment,
            scheme=like.scheme,
            changed_at=timezone.now(),
        )
    Use.objects.filter(workload=use.workload).exclude(pk=use.pk).delete()
    Workload.objects.filter(pk=use.workload.pk).update(environment=like.deployment.environment)
    (warning,) = web.get(f"/api/workloads/{use.workload.pk}").json()["warnings"]
    assert "choice-0, choice-1, choice-2 and 3 more would serve." in warning["says"]
    assert (warning["act"], warning["ref"]) == ("choose", "choice-0")


@pytest.mark.parametrize("own", [True, False])
def test_applications_are_found_by_how_they_let_others_in(web: WebClient, own: bool) -> None:
    one = Application.objects.order_by("pk")[0]
    way = one.profile["schemes"][0]
    label = "A door of our own" if own else KINDS[way["key"]].label
    one.profile["schemes"][0] = {
        **{key: value for key, value in way.items() if key != "label"},
        **({"label": label} if own else {}),
    }
    one.save()
    found = {
        each["key"]: each for each in every(web, f'/applications?words=scheme:"{label.lower()}"')
    }
    assert label in found[one.key]["schemes"]
    without = {each["key"] for each in every(web, f'/applications?words=-scheme:"{label.lower()}"')}
    assert without.isdisjoint(found)
    assert len(without) + len(found) == Application.objects.count()


def test_clients_of_an_application_name_some_of_their_connections(web: WebClient) -> None:
    client = Client.objects.filter(connections__isnull=False).select_related(
        "deployment__application"
    )[0]
    like = Connection.objects.filter(client=client)[0]
    for number in range(7):
        Connection.objects.create(
            ref=f"a-{number}",
            deployment=like.deployment,
            client=client,
            scheme=like.scheme,
            changed_at=timezone.now(),
        )
    rows = every(web, f"/clients?application={client.deployment.application.key}")
    row = next(row for row in rows if row["id"] == str(client.pk))
    assert row["connections"] == [f"a-{number}" for number in range(5)]
    assert row["more_connections"] == Connection.objects.filter(client=client).count() - 5


def test_a_round_keeps_its_counts_when_its_tests_are_gone(web: WebClient) -> None:
    number = rounds.begin_round(CLOCK).number
    tests = list(Test.objects.filter(round=number).order_by("connection__ref"))
    says = {"rung": "sign_in", "passed": False, "says": "refused: invalid_client", "ms": 1.0}
    Test.objects.filter(pk=tests[0].pk).update(
        state="done", passed=False, rungs=[{**says, "rung": "find", "passed": True}, says]
    )
    Test.objects.filter(pk__in=[test.pk for test in tests[1:]]).update(state="done", passed=True)
    going = web.get(f"/api/rounds/{number}").json()
    assert (going["total"], going["done"], going["failed"], going["ended"]) == (
        len(tests),
        len(tests),
        1,
        None,
    )
    (failed,) = every(web, f"/rounds/{number}/tests?words=state:failed")
    assert (failed["connection"], failed["says"]) == (
        tests[0].connection.ref,
        "sign in: refused: invalid_client",
    )
    listed = [item["connection"] for item in every(web, f"/rounds/{number}/tests")]
    assert listed == sorted(test.connection.ref for test in tests)
    rounds.end_if_done(Round.objects.get(pk=number))
    Test.objects.filter(round=number).delete()
    over = web.get(f"/api/rounds/{number}").json()
    assert (over["total"], over["done"], over["failed"]) == (len(tests), len(tests), 1)
    assert over["ended"] is not None
    assert web.get("/api/rounds/999999999999999999999/tests").status_code == 404


def test_one_look_serves_for_all_who_watch(web: WebClient) -> None:
    """As many statements for sixty tests as for one, and the evidence of none that has
    not gone on.
    """
    number = rounds.begin_round(CLOCK).number
    tests = list(Test.objects.filter(round=number).values_list("pk", flat=True))

    def statements(
        watched: set[Any], before: dict[Any, events.WatchedProgress]
    ) -> tuple[list[str], dict[Any, events.WatchedProgress]]:
        with CaptureQueriesContext(database) as asked:
            found = events.read_watched(watched, before)
        return [item["sql"] for item in asked], found

    one_first, _ = statements({tests[0]}, {})
    first, seen = statements({*tests, number}, {})
    assert len(first) == len(one_first) + 3  # the round, and its counts in two
    again, same = statements({*tests, number}, seen)
    assert len(again) == len(first) - 1
    assert not any('"rounds_test"."rungs"' in item for item in again)
    assert all(same[key] is seen[key] for key in seen)
    Test.objects.filter(pk=tests[0]).update(
        state="running", begun=timezone.now(), rungs=[{"rung": "find", "passed": True}]
    )
    _, now = statements({*tests, number}, seen)
    assert {key for key in seen if now[key] is not seen[key]} == {tests[0]}
    Test.objects.filter(pk=tests[1]).delete()
    assert tests[1] not in statements({*tests, number}, now)[1]


def test_what_was_done_to_a_thing_is_found_by_an_index(web: WebClient) -> None:
    asked = Entry.objects.alias(about=ABOUT).filter(about="7")
    assert "entries_about" in asked.explain()
