"""Applications, connections and workloads out of a spreadsheet, in the demo's house."""

from __future__ import annotations

from typing import Any

import pytest
from django.test import Client as WebClient

from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.records.applications.models import Application, Deployment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.inventory.models import ImportPlan

from .test_inventory import by, web_of
from .test_workbenches import send

__all__ = ["by"]


@pytest.fixture
def web(by: Person) -> WebClient:
    return web_of(by)


def read(web: WebClient, what: str, text: str) -> dict[str, str]:
    """The columns as they are suggested."""
    columns: dict[str, str] = send(web, "post", f"/imports/{what}/readings", {"text": text})[
        "suggested"
    ]
    return columns


def preview(web: WebClient, what: str, text: str, status: int = 200) -> Any:
    body = {"text": text, "columns": read(web, what, text)}
    return send(web, "post", f"/imports/{what}/previews", body, status)


def take(web: WebClient, what: str, text: str) -> Any:
    shown = preview(web, what, text)
    standing = shown["changes"]["standing"]
    body = {"text": text, "columns": read(web, what, text), "standing": standing}
    return send(web, "post", f"/imports/{what}", body)


def changes(shown: Any) -> dict[str, list[str]]:
    """What a preview tells of each object, by its name."""
    return {each["key"]: each["says"] for each in shown["changes"]["changes"]}


def mistakes(web: WebClient, what: str, text: str) -> list[tuple[int, str]]:
    return [
        (mistake["line"], mistake["says"]) for mistake in preview(web, what, text, 422)["mistakes"]
    ]


def test_an_exported_table_changes_nothing(web: WebClient) -> None:
    text = web.get("/api/exports/workloads").content.decode()
    shown = preview(web, "workloads", text)
    assert shown["changes"]["nothing"]
    assert shown["same"] == Workload.objects.count()
    assert shown["left_out"] == []


def test_workloads_come_in_with_what_they_call(web: WebClient) -> None:
    text = (
        "Job;Stage;Type;Responsible;Schedule;Windows;Notice;Draws;Calls;Operations;Labels;Price\n"
        'Dawn run;Production;script;Quays;dawn;"Mon-Fri 04:00-05:00; Sat 06:00-07:00";2;yes;'
        "production/cargo-manifests;GET /berths;night, quay-4;9\n"
    )
    shown = preview(web, "workloads", text)
    assert shown["left_out"] == ["Price"]
    assert list(changes(shown)) == ["Dawn run/production"]
    assert not Workload.objects.filter(name="Dawn run").exists()
    plan = take(web, "workloads", text)["plan"]
    made = Workload.objects.get(name="Dawn run")
    assert (made.kind, made.runs, made.notice_days, made.draws) == ("script", "dawn", 2, True)
    assert made.windows == ["Mon-Fri 04:00-05:00", "Sat 06:00-07:00"]
    assert made.uses.get().operations == ["GET /berths"]
    assert object_notes.kept(made).content.tags == ("night", "quay-4")
    assert preview(web, "workloads", text)["changes"]["nothing"]
    undo = f"/inventory/imports/{plan['id']}"
    standing = send(web, "post", f"{undo}/undo-previews")["standing"]
    send(web, "post", f"{undo}/undos", {"standing": standing})
    assert not Workload.objects.filter(name="Dawn run").exists()


def test_an_empty_cell_and_a_missing_row_leave_what_is_there(web: WebClient) -> None:
    before = Workload.objects.get(name="Customs return", environment__key="production")
    count = Workload.objects.count()
    text = "name,environment,owner,runs\nCustoms return,production,,noon\n"
    assert changes(preview(web, "workloads", text)) == {
        "Customs return/production": [f"runs: {before.runs} became noon"]
    }
    take(web, "workloads", text)
    after = Workload.objects.get(pk=before.pk)
    assert (after.runs, after.owner, after.uses.count()) == (
        "noon",
        before.owner,
        before.uses.count(),
    )
    assert Workload.objects.count() == count


@pytest.mark.parametrize(
    ("row", "says"),
    [
        ("Other,nowhere,,,,", "there is no environment 'nowhere'"),
        ("Other,production,robot,,,", "A workload is one of job, report, script, agent"),
        ("Other,production,job,no-such,,", "there is no connection 'no-such'"),
        ("Other,production,,cargo-manifests,,", "write production/cargo-manifests"),
        ("Other,production,,production/cargo-manifests,GET /x,", "'GET /x' is not an operation"),
        ("Other,production,,,GET /x,", "operations are of a connection"),
        ("Other,production,,,,many", "notice days is a number, not 'many'"),
        (",production,,,,", "What is it called?"),
    ],
)
def test_a_row_that_cannot_be_taken_is_told_with_its_line(
    web: WebClient, row: str, says: str
) -> None:
    count = Workload.objects.count()
    text = f"name,environment,kind,connection,operations,notice_days\n{row}\n"
    ((line, told),) = mistakes(web, "workloads", text)
    assert line == 2
    assert says in told
    assert Workload.objects.count() == count


def test_applications_come_in_with_their_addresses(web: WebClient) -> None:
    text = (
        "System,Environment,Authentication,Purpose,Owner,URL,Password\n"
        "Tide tables,staging,api_key,Heights of tide,Quays,https://tides.gannet.example/s,x\n"
        "Tide tables,Production,API key,,,https://tides.gannet.example/p,x\n"
        "Cargo manifests,production,,Who ships what,,,x\n"
    )
    shown = preview(web, "applications", text)
    assert shown["left_out"] == ["Password"], "no secret is taken from a table"
    assert changes(shown)["cargo-manifests"][0].endswith("became Who ships what")
    take(web, "applications", text)
    made = Application.objects.get(key="tide-tables")
    assert (made.purpose, made.owner_name) == ("Heights of tide", "Quays")
    assert [scheme.key for scheme in made.read_profile().schemes] == ["api_key"]
    assert [deployment.api_base for deployment in made.deployments.all()] == [
        "https://tides.gannet.example/s",
        "https://tides.gannet.example/p",
    ]
    assert preview(web, "applications", text)["changes"]["nothing"]


def test_duplicates_are_told(web: WebClient) -> None:
    known = Deployment.objects.get(
        application__key="cargo-manifests", environment__key="production"
    )
    text = (
        "name,environment,scheme,api_base\n"
        f"CargoManifests,production,api_key,{known.api_base}\n"
        f"CargoManifests,production,api_key,{known.api_base}\n"
    )
    assert preview(web, "applications", text)["duplicates"] == [
        "Line 3 repeats line 2.",
        f"Line 2: {known.api_base} is the API address of Cargo manifests, too.",
        "“CargoManifests” on line 2 looks like “Cargo manifests”, which is there already.",
    ]


@pytest.mark.parametrize(
    ("rows", "line", "says"),
    [
        ("Tides,production,,https://t.example/", 2, "say how others authenticate at Tides"),
        ("Tides,production,magic,https://t.example/", 2, "there is no scheme 'magic'"),
        ("Tides,production,api_key,", 2, "api_base: "),
        ("Tides,production,api_key,http://t.example/", 2, "api_base: It must be https"),
        ("Cargo manifests,production,basic,", 2, "is there already, and its profile has no basic"),
        (
            "Tides,production,api_key,https://t.example/\nTides,production,,https://u.example/",
            3,
            "is on line 2 with this environment already",
        ),
    ],
)
def test_an_application_that_cannot_be_taken_is_told_with_its_line(
    web: WebClient, rows: str, line: int, says: str
) -> None:
    ((where, told),) = mistakes(web, "applications", f"name,environment,scheme,api_base\n{rows}\n")
    assert where == line
    assert says in told


def test_connections_come_in_ready_to_be_set_up(web: WebClient) -> None:
    client = Connection.objects.get(ref="production/cargo-manifests").client
    assert client is not None
    text = (
        "name,application,environment,scheme,client,scopes,interval,tags,notes\n"
        f"cargo-night,Cargo manifests,Production,oauth2_code,{client.client_id},manifest.read,"
        "60,night,Ask first\n"
        "cargo-manifests,cargo-manifests,production,,,,1440,,\n"
    )
    shown = preview(web, "connections", text)
    assert changes(shown)["production/cargo-manifests"] == ["test interval: 0 became 1440"]
    before = Connection.objects.get(ref="production/cargo-manifests")
    take(web, "connections", text)
    made = Connection.objects.get(ref="production/cargo-night")
    assert (made.client, made.scopes, made.test_interval) == (client, ["manifest.read"], 60)
    assert made.values["client_id"] == client.client_id
    assert made.values["api_base"] == before.values["api_base"]
    assert made.paused, "it cannot work yet"
    assert object_notes.kept(made).content.notes == "Ask first"
    after = Connection.objects.get(ref="production/cargo-manifests")
    assert (after.state, after.test_interval) == (before.state, 1440)
    assert preview(web, "connections", text)["changes"]["nothing"]


@pytest.mark.parametrize(
    ("row", "says"),
    [
        ("x,Nothing,production,,,", "there is no application 'Nothing'"),
        ("x,Crew roster,sandbox,,,", "Crew roster has no sandbox environment"),
        ("x,Cargo manifests,production,basic,,", "choose a scheme of Cargo manifests"),
        ("x,Cargo manifests,production,oauth2_code,Nobody,", "there is no client 'Nobody'"),
        ("x,Cargo manifests,production,oauth2_code,,soon", "test interval is a number"),
        ("x,Cargo manifests,production,oauth2_code,,10081", "a test interval has at most 10080"),
        ("a b,Cargo manifests,production,oauth2_code,,", "small letters"),
        ("cargo-manifests,Crew roster,production,,,", "is a connection into another application"),
    ],
)
def test_a_connection_that_cannot_be_taken_is_told_with_its_line(
    web: WebClient, row: str, says: str
) -> None:
    text = f"name,application,environment,scheme,client,interval\n{row}\n"
    ((line, told),) = mistakes(web, "connections", text)
    assert line == 2
    assert says in told


def test_columns_must_be_chosen_out_of_the_table(web: WebClient) -> None:
    text = "Job,Stage\nDawn run,production\n"
    for columns, field in (
        ({}, "columns"),
        ({"name": "Job"}, "columns"),
        ({"name": "Job", "environment": "Stage", "password": "Job"}, "columns"),
        ({"name": "Job", "environment": "Nothing"}, "text"),
    ):
        body = {"text": text, "columns": columns}
        wrong = send(web, "post", "/imports/workloads/previews", body, 422)
        assert field in wrong["errors"]
    assert "text" in send(web, "post", "/imports/workloads/readings", {"text": ""}, 422)["errors"]


def test_nothing_is_taken_over_that_was_not_seen(web: WebClient) -> None:
    text = "name,environment,runs\nCustoms return,production,noon\n"
    columns = read(web, "workloads", text)
    body = {"text": text, "columns": columns, "standing": "x"}
    send(web, "post", "/imports/workloads", body, 409)
    assert not ImportPlan.objects.exists()


def test_many_rows_are_read_with_as_many_statements_as_few(
    web: WebClient, django_assert_max_num_queries: Any
) -> None:
    rows = "".join(f"Run {number},production\n" for number in range(600))
    with django_assert_max_num_queries(60):
        shown = preview(web, "workloads", f"name,environment\n{rows}")
    assert shown["changes"]["adds"] == 600
