"""Access rules against the stand-in of Vessel positions: kept, brought in and out, pushed, read
back, and obeyed there.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from django.test import Client as WebClient

from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.rounds import services as rounds
from tests.harness import NOBODY, PORTS, StandIns

from .conftest import forget_the_journal, load_once
from .test_workbenches import send

ADDRESS = "/access-rules/vessel-positions/production"
HEADING = "effect,who,operation,resource,match,from\n"


@pytest.fixture
def web(transactional_db: None, stand_ins: StandIns) -> Iterator[WebClient]:
    """Vessel positions and Repair tickets as the demo has them."""
    load_once(stand_ins.port, only=("vessel-positions", "repair-tickets"), with_benches=False)
    client = WebClient()
    client.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    yield client
    forget_the_journal()


def rule(effect: str, who: str, operation: str, resource: str, **more: Any) -> dict[str, Any]:
    return {"effect": effect, "who": who, "operation": operation, "resource": resource, **more}


def test_rules_are_pushed_read_back_and_obeyed_there(web: WebClient, stand_ins: StandIns) -> None:
    connection = Connection.objects.get(ref="production/vessel-positions")
    by = Person.objects.get(username="morag")
    send(web, "post", f"{ADDRESS}/readings")  # whatever other tests left there is taken away
    send(web, "post", f"{ADDRESS}/pushes?confirm=Production")
    read = send(web, "post", f"{ADDRESS}/readings")
    assert (read["resources"], read["rules"], read["there"]["nothing"]) == (
        ["arrivals", "positions"],
        [],
        True,
    )
    assert "svc-positions" in read["principals"]
    assert read["cells"][read["principals"].index("svc-positions")][0][0]["verdict"] == "no"

    wanted = {
        "groups": {"boards": ["svc-positions"]},
        "rules": [
            rule("allow", "group:boards", "read", "", match="prefix"),
            rule("deny", "*", "read", "positions"),
        ],
    }
    saved = (
        send(web, "put", ADDRESS, wanted, **{"If-Match": '"0"'})
        if read["version"] == 0
        else send(web, "put", ADDRESS, wanted, **{"If-Match": "*"})
    )
    mine = saved["cells"][saved["principals"].index("svc-positions")]
    verdicts = {
        resource: mine[number][saved["operations"].index("read")]["verdict"]
        for number, resource in enumerate(saved["resources"])
    }
    assert (verdicts["arrivals"], verdicts["positions"]) == ("yes", "no")
    assert saved["there"]["added"] == []
    assert len(saved["there"]["gone"]) == 2  # seen from ours, they are not there yet
    pushed = send(web, "post", f"{ADDRESS}/pushes")
    assert pushed["there"]["nothing"]
    # The application does what the rules say.
    test = rounds.run(rounds.begin_test(by, Connection.objects.get(pk=connection.pk)))
    assert "1 streams are there: arrivals" in next(
        rung["says"] for rung in test.rungs if rung["rung"] == "allowed"
    )

    # Somebody changes them there by hand.
    screens = f"http://127.0.0.1:{stand_ins.port + PORTS['positions']}/production/register/rules"
    httpx.post(
        f"{screens}/add",
        data={"effect": "allow", "who": "r.oake", "operation": "send", "resource": "arrivals"},
        verify=NOBODY,
    )
    refused = send(web, "post", f"{ADDRESS}/pushes", status=409)
    assert refused["code"] == "provider-rules-changed"
    seen = send(web, "post", f"{ADDRESS}/readings")
    assert seen["by_hand"]["added"] == ["allow r.oake send on arrivals"]
    assert [
        (right["principal"], right["operation"], right["after"])
        for right in seen["by_hand"]["rights"]
    ] == [("r.oake", "send", "yes")]
    # Pushing ours takes a right away, which is said and confirmed.
    says = send(web, "post", f"{ADDRESS}/pushes", status=422)
    assert says["code"] == "rights-lost"
    assert "1 right of r.oake stops at once" in says["detail"]
    assert send(web, "post", f"{ADDRESS}/pushes?confirm=Production")["there"]["nothing"]
    assert "r.oake" not in httpx.get(screens, verify=NOBODY).text
    httpx.post(
        f"{screens}/add",
        data={"effect": "allow", "who": "r.oake", "operation": "send", "resource": "arrivals"},
        verify=NOBODY,
    )
    send(web, "post", f"{ADDRESS}/readings")
    taken = send(web, "post", f"{ADDRESS}/adoptions", **{"If-Match": "*"})
    assert [item["says"] for item in taken["rules"]][-1] == "allow r.oake send on arrivals"
    assert Entry.objects.filter(did="took the application's access rules").exists()


def test_rules_come_in_with_a_preview_and_go_out(web: WebClient) -> None:
    text = (
        HEADING
        + "member,group:boards,svc-positions,,,\n"
        + "allow,group:boards,read,positions,exact,203.0.113.0/24\n" * 2
    )
    told = send(web, "post", f"{ADDRESS}/previews", {"text": text, "format": "csv"})
    assert told["difference"]["groups"] == ["group boards added: svc-positions"]
    assert [
        (right["operation"], right["before"], right["after"])
        for right in told["difference"]["rights"]
    ] == [("read", "no", "some")]
    assert send(web, "get", ADDRESS)["rules"] == []  # a preview keeps nothing
    taken = send(
        web, "post", f"{ADDRESS}/imports", {"text": text, "format": "csv"}, **{"If-Match": '"0"'}
    )
    assert [item["idle"] for item in taken["rules"]] == [False, True]
    for form in ("csv", "json"):
        out = web.get(f"/api{ADDRESS}/exports?format={form}").content.decode()
        assert send(web, "post", f"{ADDRESS}/previews", {"text": out, "format": form})[
            "difference"
        ]["nothing"]
    wrong = send(
        web,
        "post",
        f"{ADDRESS}/imports",
        {"text": text + "allow,x,fly,a,exact,\n", "format": "csv"},
        422,
        **{"If-Match": '"1"'},
    )
    assert wrong["errors"]["text"].startswith("Line 5: 'fly' is no operation here")
    stale = send(
        web,
        "post",
        f"{ADDRESS}/imports",
        {"text": HEADING, "format": "csv"},
        412,
        **{"If-Match": '"0"'},
    )
    assert "group boards added" in " ".join(stale["meanwhile"][0]["changes"])
    found = send(
        web,
        "post",
        f"{ADDRESS}/decisions",
        {
            "principal": "svc-positions",
            "operation": "read",
            "resource": "positions",
            "address": "203.0.113.9",
        },
    )
    assert (found["allowed"], found["rule"]) == (True, 0)
    found = send(
        web,
        "post",
        f"{ADDRESS}/decisions",
        {"principal": "svc-positions", "operation": "read", "resource": "positions"},
    )
    assert "no rule means no" in found["says"]
    send(
        web,
        "post",
        f"{ADDRESS}/decisions",
        {"principal": "x", "operation": "read", "resource": "y", "address": "nowhere"},
        422,
    )
    send(
        web,
        "put",
        ADDRESS,
        {"rules": [rule("allow", "group:nobody", "read", "a")]},
        422,
        **{"If-Match": "*"},
    )


def test_roles_are_rules_that_cannot_be_edited_here(web: WebClient) -> None:
    address = "/access-rules/repair-tickets/production"
    found = send(web, "get", address)
    assert found["derived"]
    row = found["cells"][found["principals"].index("svc-tickets")]
    rights = {
        (resource, operation): row[a][b]["verdict"]
        for a, resource in enumerate(found["resources"])
        for b, operation in enumerate(found["operations"])
    }
    assert (rights["/tickets", "GET"], rights["/tickets/{number}", "PUT"]) == (
        "yes",
        "yes",
    )  # an agent is a viewer too
    assert found["rules"][0]["says"] == "allow group viewer GET on /tickets"
    send(web, "put", address, {"rules": []}, 409, **{"If-Match": "*"})
    send(web, "post", f"{address}/readings", status=409)
    rows = {
        (item["application_name"], item["environment"]["name"]): item
        for item in send(web, "get", "/access-rules")["items"]
    }
    assert rows["Repair tickets", "Production"]["derived"]
    assert not rows["Vessel positions", "Production"]["derived"]


def test_where_no_connection_holds_the_credential_it_says_so(web: WebClient) -> None:
    assert (
        "is required"
        in send(web, "post", "/access-rules/vessel-positions/staging/readings", status=409)[
            "detail"
        ]
    )  # its register password was lost
