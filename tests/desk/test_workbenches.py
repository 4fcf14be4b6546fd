"""The workbenches by the API: redirect URIs, scopes and consent, workloads and their warnings."""

from __future__ import annotations

import json
from datetime import timedelta
from typing import Any

import time_machine
from django.db import connection as database
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from neatlatch.core.profiles import CLIENT
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import halves
from neatlatch.desk.estate.records.clients.models import Client, ConsentRequest
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.journal.models import Entry

from .conftest import URI, Setup

OTHER = "https://desk.gannet.example/return"


def send(
    web: WebClient, method: str, address: str, body: Any = None, status: int = 200, **headers: str
) -> Any:
    if method == "get":
        answer = web.get(f"/api{address}", headers=headers)
    else:
        data = json.dumps(body if body is not None else {})
        answer = getattr(web, method)(
            f"/api{address}", data, content_type="application/json", headers=headers
        )
    assert answer.status_code == status, answer.content
    return answer.json() if answer.content else None


def fresh(ref: str = "sandbox/cargo") -> Connection:
    found = halves.with_everything(Connection.objects.filter(ref=ref)).first()
    assert found is not None
    return found


def use(setup: Setup, name: str, *operations: str, ref: str = "sandbox/cargo") -> None:
    workloads.use_connection(setup.by, fresh(ref), workloads.WorkloadFields(name), list(operations))


# Redirect URIs


def test_all_uris_against_all_callers_and_a_change_at_the_application(setup: Setup) -> None:
    first = setup.latched(redirect_uri=URI)
    client, web = first.client, setup.web()
    assert client is not None
    setup.connection(
        Client.objects.select_related("deployment__application", "deployment__environment").get(
            pk=client.pk
        ),
        name="cargo-two",
        redirect_uri=URI + "/",
    )
    use(setup, "Night run", "GET /manifests")
    bench = send(web, "get", f"/clients/{client.pk}/redirect-uris")
    assert [(item["uri"], item["used_by"]) for item in bench["registered"]] == [
        (URI, ["sandbox/cargo"])
    ]
    assert [(caller["ref"], caller["match"]) for caller in bench["callers"]] == [
        ("sandbox/cargo", True),
        ("sandbox/cargo-two", False),
    ]
    assert [item["text"] for item in bench["callers"][1]["caller_marked"] if not item["same"]] == [
        "/"
    ]
    trial = send(
        web,
        "post",
        f"/clients/{client.pk}/redirect-uris/checks",
        {"uri": URI.replace("http", "https")},
    )
    assert (trial["match"], trial["nearest"], trial["differences"][0]["piece"]) == (
        False,
        URI,
        "scheme",
    )
    trial = send(
        web,
        "post",
        f"/clients/{client.pk}/redirect-uris/checks",
        {"uri": "http://desk.gannet.example/#x"},
    )
    assert {item["code"] for item in trial["lint"]} == {"fragment", "not_https"}
    # Before it is made, what it stops is said; nothing has changed by that.
    told = send(
        web, "post", f"/clients/{client.pk}/redirect-uris/previews", {"redirect_uris": [URI + "/"]}
    )
    assert [(preview["ref"], preview["stops"], preview["workloads"]) for preview in told] == [
        ("sandbox/cargo", True, ["Night run"]),
        ("sandbox/cargo-two", False, []),
    ]
    assert Client.objects.get(pk=client.pk).redirect_uris == [URI]
    # By protocol: there and here.
    send(
        web,
        "patch",
        f"/clients/{client.pk}",
        {"redirect_uris": [URI, URI + "/"]},
        **{"If-Match": f'"{bench["version"]}"'},
    )
    assert clients.read_back(setup.by, Client.objects.get(pk=client.pk)).redirect_uris == [
        URI,
        URI + "/",
    ]
    assert [item["near_misses"] for item in send(web, "get", "/redirect-uris")["items"]] == [0]
    assert send(
        web,
        "put",
        f"/clients/{client.pk}/redirect-uris/plan",
        {"redirect_uris": [URI]},
        409,
        **{"If-Match": "*"},
    )


def test_a_change_by_hand_is_noted_when_all_acts_are_ticked(setup: Setup) -> None:
    deployment = setup.deployment("staging")
    client = clients.prepare(
        setup.by,
        deployment,
        clients.ClientMetadata(
            "Ferries",
            ("t@gannet.example",),
            redirect_uris=(URI,),
            scopes=frozenset({"manifest.read"}),
        ),
    )
    clients.enter_client_id(setup.by, client, "c-17")
    web, address = setup.web(), f"/clients/{client.pk}/redirect-uris"
    version = Client.objects.get().version
    assert send(
        web,
        "put",
        f"{address}/plan",
        {"redirect_uris": ["http://desk.gannet.example/x"]},
        422,
        **{"If-Match": f'"{version}"'},
    )["errors"]
    send(web, "put", f"{address}/plan", {"redirect_uris": [OTHER]}, **{"If-Match": f'"{version}"'})
    bench = send(web, "get", address)
    assert bench["planned"] == [OTHER]
    assert bench["registered"][0]["uri"] == URI  # the record still says what stands there
    assert [act["copy_text"] for act in bench["acts"][1:3]] == [OTHER, URI]
    assert send(web, "post", f"{address}/plan/done", status=409)["code"] == "steps-left"
    for act in bench["acts"]:
        send(
            web, "post", f"/clients/{client.pk}/completed-steps", {"key": act["key"], "done": True}
        )
    assert all(act["done"] for act in send(web, "get", address)["acts"])
    send(web, "post", f"{address}/plan/done")
    found = Client.objects.get()
    assert (found.redirect_uris, found.planned) == ([OTHER], None)
    assert Entry.objects.filter(did="recorded a change").last().details["changes"] == [
        f"redirect URIs: {OTHER} added, {URI} taken away"
    ]
    send(web, "put", f"{address}/plan", {"redirect_uris": [URI]}, **{"If-Match": "*"})
    send(web, "put", f"{address}/plan", {"redirect_uris": None})
    assert Client.objects.get().planned is None


# Scopes


def test_the_matrix_and_the_trim_of_a_client(setup: Setup) -> None:
    connection = setup.latched("manifest.read", "berth.read")
    client, web = connection.client, setup.web()
    assert client is not None
    use(setup, "Night run", "GET /manifests")
    use(setup, "Customs", "PUT /manifests/{number}")
    found = send(web, "get", f"/clients/{client.pk}/scopes")
    rows = {row["name"]: row for row in found["rows"]}
    assert [column["name"] for column in found["columns"]] == ["Night run", "Customs"]
    assert rows["manifest.read"]["cells"] == ["needed", ""]
    assert rows["manifest.write"]["cells"] == ["serves", "lacks"]
    assert (
        rows["berth.read"]["permitted"],
        rows["berth.read"]["requested"],
        rows["berth.read"]["granted"],
    ) == (True, ["sandbox/cargo"], ["sandbox/cargo"])
    # manifest.write alone serves both, for it lists manifests too.
    assert (found["trim"]["scopes"], found["trim"]["can_go"], found["trim"]["missing"]) == (
        ["manifest.write"],
        ["berth.read", "manifest.read"],
        ["manifest.write"],
    )
    assert found["trim"]["kept"][0]["needed_by"] == [
        {"workload": "Night run", "operation": "GET /manifests"},
        {"workload": "Customs", "operation": "PUT /manifests/{number}"},
    ]
    assert (found["trim"]["weight"], found["trim"]["held_weight"]) == ("3.25", "2")
    row = send(web, "get", "/scopes")["items"][0]
    assert (row["can_go"], row["missing"], row["workloads"]) == (2, 1, 2)


def test_a_token_from_before_a_change_is_marked_and_made_anew(setup: Setup) -> None:
    client = setup.client(
        setup.deployment(), "manifest.read", grants=("client_credentials",), redirect_uris=()
    )
    connection = setup.connection(client, "manifest.read", scheme=CLIENT)
    assert setup.test(connection).passed
    web, address = setup.web(), f"/clients/{client.pk}/scopes"
    assert [connection["stale"] for connection in send(web, "get", address)["connections"]] == [
        False
    ]
    version = Client.objects.get().version
    send(
        web,
        "patch",
        f"/clients/{client.pk}",
        {"scopes": ["manifest.read", "berth.read"]},
        **{"If-Match": f'"{version}"'},
    )
    send(
        web,
        "patch",
        "/connections/sandbox/cargo",
        {"scopes": ["manifest.read", "berth.read"]},
        **{"If-Match": "*"},
    )
    assert [
        (connection["stale"], connection["granted"])
        for connection in send(web, "get", address)["connections"]
    ] == [(True, ["manifest.read"])]
    after = send(web, "post", "/connections/sandbox/cargo/tokens")
    assert [
        (connection["stale"], connection["granted"]) for connection in after["connections"]
    ] == [(False, ["berth.read", "manifest.read"])]
    setup.stand_ins.fault("refuse", "sandbox", count=5)
    send(web, "post", "/connections/sandbox/cargo/tokens", status=502)
    assert TokenSet.objects.get().granted == [
        "berth.read",
        "manifest.read",
    ]  # what was held is kept


def test_consent_is_asked_for_by_a_signed_link_that_serves_once(setup: Setup) -> None:
    connection = setup.latched("manifest.read")
    client, web, stranger = connection.client, setup.web(), WebClient()
    assert client is not None
    use(setup, "Customs", "PUT /manifests/{number}")
    asked = send(
        web,
        "post",
        f"/clients/{client.pk}/consent-requests",
        {"scopes": ["manifest.write"], "asked_of": "Harbour office"},
        201,
    )
    token = asked["link"].rpartition("/")[2]
    assert "/asked/consent/" in asked["link"]
    seen = send(stranger, "get", f"/links/consents/{token}")
    assert (seen["application"], seen["scopes"][0]["name"], seen["scopes"][0]["why"]) == (
        "Cargo manifests",
        "manifest.write",
        ["Customs: PUT /manifests/{number}"],
    )
    assert [
        row["consent_state"]
        for row in send(web, "get", f"/clients/{client.pk}/scopes")["rows"]
        if row["name"] == "manifest.write"
    ] == ["asked"]
    for changed in (token[:-2], token + "x", "nonsense"):
        send(stranger, "get", f"/links/consents/{changed}", status=404)
    assert send(
        stranger,
        "post",
        f"/links/consents/{token}/answers",
        {"given": ["manifest.write"], "name": " "},
        422,
    )["errors"]["name"]
    assert send(
        stranger,
        "post",
        f"/links/consents/{token}/answers",
        {"given": ["customs.file"], "name": "Una Flett"},
        422,
    )["errors"]["given"]
    done = send(
        stranger,
        "post",
        f"/links/consents/{token}/answers",
        {"given": ["manifest.write"], "name": "Una Flett", "says": "For a year"},
    )
    assert done["answered_by"] == "Una Flett"
    assert Client.objects.get().consents["manifest.write"]["who"] == "Una Flett, by link"
    assert (
        send(
            stranger,
            "post",
            f"/links/consents/{token}/answers",
            {"given": [], "name": "Una Flett"},
            410,
        )["code"]
        == "request-answered"
    )
    entry = Entry.objects.get(did="answered a request for consent")
    assert (entry.who, entry.details["name given"]) == (
        "by link",
        "Una Flett",
    )  # M7: a name that is typed is nobody's log-in
    assert Entry.objects.get(did="recorded consent").who == "by link"
    row = next(
        row
        for row in send(web, "get", f"/clients/{client.pk}/scopes")["rows"]
        if row["name"] == "manifest.write"
    )
    assert (row["consent_state"], row["consent"]["who"]) == ("given", "Una Flett, by link")
    # A refusal notes nothing, a link that ended or was withdrawn serves nobody, and only scopes
    # that want it can be asked for.
    for end in ("refused", "ended", "withdrawn"):
        link = send(
            web, "post", f"/clients/{client.pk}/consent-requests", {"scopes": ["customs.file"]}, 201
        )
        token = link["link"].rpartition("/")[2]
        if end == "refused":
            send(
                stranger,
                "post",
                f"/links/consents/{token}/answers",
                {"given": [], "name": "Una Flett", "says": "Not this year"},
            )
        elif end == "ended":
            with time_machine.travel(timezone.now() + timedelta(days=15)):
                send(
                    stranger,
                    "post",
                    f"/links/consents/{token}/answers",
                    {"given": ["customs.file"], "name": "Una"},
                    410,
                )
        else:
            send(web, "post", f"/consent-requests/{link['id']}/withdrawals")
            send(stranger, "get", f"/links/consents/{token}", status=410)
    assert "customs.file" not in Client.objects.get().consents
    assert ConsentRequest.objects.filter(withdrawn=True).count() == 1
    send(web, "post", f"/clients/{client.pk}/consent-requests", {"scopes": ["berth.read"]}, 422)
    send(
        setup.web("reader"),
        "post",
        f"/clients/{client.pk}/consent-requests",
        {"scopes": ["customs.file"]},
        403,
    )
    assert not any(
        request["link"]
        for request in send(setup.web("reader"), "get", f"/clients/{client.pk}/scopes")["requests"]
    )


def test_lists_of_benches_take_a_constant_number_of_queries(setup: Setup) -> None:
    def count(address: str) -> int:
        web = setup.web()
        with CaptureQueriesContext(
            database,
        ) as queries:
            send(web, "get", address)
        return len(queries)

    setup.latched()
    use(setup, "Night run", "GET /manifests")
    few = {address: count(address) for address in ("/redirect-uris", "/scopes", "/workloads")}
    for number in range(5):
        setup.latched("manifest.read", name=f"cargo-{number}")
        use(setup, f"Job {number}", "GET /manifests", ref=f"sandbox/cargo-{number}")
    assert {address: count(address) for address in few} == few


# Workloads


def test_workloads_stand_by_themselves_and_are_warned_of_what_is_not_set_up(setup: Setup) -> None:
    setup.latched()
    web = setup.web()
    made = send(
        web,
        "post",
        "/workloads",
        {
            "name": "Night run",
            "environment": "staging",
            "owner": "Freight",
            "windows": ["Mon-Fri 20:00-23:00"],
            "notice_days": 3,
        },
        201,
    )
    assert made["next_window"]
    assert send(web, "post", "/workloads", {"name": "Night run", "environment": "staging"}, 422)[
        "errors"
    ]["name"]
    wrong = send(
        web,
        "post",
        "/workloads",
        {"name": "", "environment": "staging", "kind": "robot", "windows": ["whenever"]},
        422,
    )["errors"]
    assert {"name", "kind", "windows"} <= set(wrong)
    address = f"/workloads/{made['id']}"
    found = send(
        web,
        "post",
        f"{address}/uses",
        {"application": "cargo-manifests", "operations": ["GET /manifests"]},
        201,
    )
    assert [warning["says"] for warning in found["warnings"]] == [
        (
            "Night run runs in Staging, where Cargo manifests is not set up. It is set up only "
            "as sandbox/cargo."
        )
    ]
    send(web, "patch", address, {"environment": "sandbox"}, **{"If-Match": f'"{made["version"]}"'})
    found = send(web, "get", address)
    assert (found["warnings"][0]["act"], found["warnings"][0]["ref"]) == ("choose", "sandbox/cargo")
    found = send(
        web, "patch", f"{address}/uses/{found['uses'][0]['id']}", {"connection": "sandbox/cargo"}
    )
    assert found["warnings"] == []
    assert [
        workload["name"]
        for workload in send(web, "get", "/connections/sandbox/cargo")["workloads_of"]
    ] == ["Night run"]
    refused = send(web, "patch", address, {"owner": "Quays"}, 412, **{"If-Match": '"1"'})
    assert refused["meanwhile"][0]["changes"] == ["environment: staging became sandbox"]
    for words, count in (
        ("night", 1),
        ("env:sandbox kind:job", 1),
        ("env:production", 0),
        ("-owner:freight", 0),
        ("app:cargo connection:cargo", 1),
        ("warned:yes", 0),
    ):
        assert (
            len(send(web, "get", f"/workloads?words={words.replace(' ', '%20')}")["items"]) == count
        ), words
    send(web, "delete", address, status=204)
    assert not Workload.objects.exists()


def test_operations_from_what_a_workload_was_seen_to_call(setup: Setup) -> None:
    setup.latched()
    use(setup, "Night run", "GET /berths")
    web, workload = setup.web(), Workload.objects.get()
    line = f"/workloads/{workload.pk}/uses/{workload.uses.get().pk}"
    root = fresh().values["api_base"]
    log = (
        f'203.0.113.9 - - [x] "GET {root}/manifests HTTP/1.1" 200 12\n203.0.113.9 - - [x] "PUT '
        f'{root}/manifests/7 HTTP/1.1" 201 12\n"GET /elsewhere HTTP/1.1"\nrubbish'
    )
    seen = send(web, "post", f"{line}/logs", {"text": log})
    assert ([operation["name"] for operation in seen["operations"]], seen["not_seen"]) == (
        ["GET /manifests", "PUT /manifests/{number}"],
        ["GET /berths"],
    )
    assert (seen["lines"], seen["unread"], seen["others"]) == (
        4,
        1,
        [{"name": "GET /elsewhere", "count": 1}],
    )
    taken = send(web, "post", f"{line}/observed-operations", {"text": log, "only_seen": True})
    assert taken["uses"][0]["operations"] == ["GET /manifests", "PUT /manifests/{number}"]
    assert taken["uses"][0]["seen"] == {"GET /manifests": 1, "PUT /manifests/{number}": 1}
    send(web, "post", f"{line}/observed-operations", {"text": "nothing here"}, 422)


def test_operations_come_from_the_description_and_by_hand(setup: Setup) -> None:
    deployment = setup.deployment()
    application = deployment.application
    known = [operation.name for operation in application.read_profile().operations]
    assert "POST /manifests/{number}/customs" in known  # out of the stand-in's OpenAPI document
    profile = {
        **application.profile,
        "operations": [
            *application.profile["operations"],
            {"method": "GET", "path": "/tides", "alternatives": [["berth.read"]]},
        ],
    }
    applications.change(setup.by, application, {"profile": profile})
    connection = setup.connection(setup.client(deployment, "berth.read"))
    use(setup, "Tides", "GET /tides", ref=connection.ref)
    assert fresh().uses.get().operations == ["GET /tides"]
