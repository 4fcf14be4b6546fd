"""People whose rights hold for some environments, applications and teams only."""

from __future__ import annotations

import json
from typing import Any

import pytest
from django.test import Client as WebClient

from neatlatch.core.schemes import CODE
from neatlatch.desk.estate import reaches
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import accounts
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.reaches import Limits
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people import services as people
from neatlatch.desk.ground.people.models import Person, Team

from .conftest import PASSWORD, Setup
from .operations import operations, who_may
from .test_delegated import LogIn
from .test_every_operation import code, listed, send

JSON: Any = {"content_type": "application/json"}
# Bodies of these name where they act, and the samples name sandbox; these compute only.
IN_BODY = {"POST /api/connections", "POST /api/set-ups", "POST /api/clients", "POST /api/workloads"}
COMPUTES = {"POST /api/intakes", "POST /api/leaks"}
# A file is looked at object by object.
BY_FILE = {"POST /api/inventory/previews", "POST /api/inventory/imports"}
NOTES: dict[str, Any] = {"tags": ["a"], "notes": "", "links": []}
LOOKS = ("look", "own", "anybody", "journal")


def is_held(answer: Any) -> bool:
    """Whether an act was refused because of the limits."""
    return (answer.status_code, code(answer)) == (403, "rights-limited")


class Limited:
    """An administrator with limits, in a browser."""

    def __init__(self, setup: Setup, name: str = "isla", **limits: tuple[str, ...]) -> None:
        self.setup = setup
        self.person = Person.objects.create_user(name, password=PASSWORD, role="administrator")
        self.limit(**limits)
        self.log_in()

    def log_in(self) -> WebClient:
        self.person.refresh_from_db()
        self.web = WebClient(raise_request_exception=False)
        self.web.force_login(self.person, backend="django.contrib.auth.backends.ModelBackend")
        return self.web

    def limit(self, **limits: tuple[str, ...]) -> None:
        reaches.set_limits(self.setup.by, self.person, Limits(**limits))

    def send(self, method: str, path: str, body: Any = None, **headers: str) -> Any:
        return self.web.generic(
            method,
            f"/api{path}",
            json.dumps({} if body is None else body),
            headers={"If-Match": "*"} | headers,
            **JSON,
        )


@pytest.mark.parametrize(
    "limits",
    [{"environments": ("production",)}, {"applications": ("berths",)}, {"teams": ("Nobody's",)}],
)
def test_every_act_elsewhere_or_nowhere_is_refused_and_every_look_is_not(setup, limits):
    isla, table, wrong = Limited(setup, **limits), who_may(), {}
    for operation in operations():
        who = table[operation.name].rstrip("*")
        if operation.name in BY_FILE:
            continue
        answer = send(isla.log_in(), operation)  # some end the session
        refused = is_held(answer)
        if operation.name in IN_BODY and "environments" not in limits:
            expected = refused  # some samples name no application: they are refused, too
            assert answer.status_code in (403, 404, 422), operation.name
        else:
            expected = who not in LOOKS and operation.name not in COMPUTES
        if refused is not expected or answer.status_code >= 500:
            wrong[operation.name] = (who, answer.status_code, answer.content[:200])
    assert not wrong, listed(wrong)


def test_what_is_within_is_done_and_what_is_beside_it_is_not(setup):
    connection = setup.latched()
    workload = workloads.use_connection(
        setup.by, connection, workloads.WorkloadFields("Night run", "", "job", "Freight", ""), []
    )
    assert workload is not None
    known = Workload.objects.get(name="Night run")
    client, held = connection.client, connection.secrets()["client_secret"]
    acts = [
        ("PATCH", "/connections/sandbox/cargo", {"pace": 3}),
        ("POST", "/connections/sandbox/cargo/tests", None),
        ("POST", "/connections/sandbox/cargo/secrets", {"secret": "s" * 30}),
        ("POST", f"/clients/{client.pk}/facts", {"account": "svc"}),
        ("PUT", f"/credentials/{held.pk}/owner", {"owner": "Quays"}),
        ("PATCH", f"/workloads/{known.pk}", {"runs": "nightly"}),
        ("PUT", "/annotations/connections/sandbox/cargo", NOTES),
        ("POST", f"/workloads/{known.pk}/keys", {"kind": "key"}),
    ]
    isla = Limited(setup, environments=("sandbox",), applications=("cargo-manifests",))
    for method, path, body in acts:
        answer = isla.send(method, path, body)
        assert answer.status_code in (200, 201, 202), (path, answer.content)
    for limits in ({"environments": ("staging",)}, {"applications": ("berths",)}):
        isla.limit(**limits)
        for method, path, body in acts:
            assert is_held(isla.send(method, path, body)), (limits, path)
    assert isla.web.get("/api/connections/sandbox/cargo").status_code == 200
    assert isla.web.get("/api/connections").json()["items"]
    # Lifted, everything is as before.
    isla.limit()
    assert isla.send("PATCH", "/connections/sandbox/cargo", {"pace": 4}).status_code == 200


def test_a_body_is_held_to_the_limits_before_anything_is_made(setup):
    deployment = setup.deployment()
    client = setup.client(deployment, "manifest.read")
    body = {
        "application": "cargo-manifests",
        "environment": "sandbox",
        "name": "isla-made",
        "scheme": "oauth2_code",
        "client": str(client.pk),
        "values": connections.defaults(deployment, _scheme(deployment), client, "http://a/return"),
        "scopes": ["manifest.read"],
    }
    isla = Limited(setup, environments=("staging",))
    assert is_held(isla.send("POST", "/connections", body))
    isla.limit(environments=("sandbox",), applications=("berths",))
    assert is_held(isla.send("POST", "/connections", body))
    assert not Connection.objects.exists()
    isla.limit(environments=("sandbox",), applications=("cargo-manifests",))
    answer = isla.send("POST", "/connections", body)
    assert answer.status_code == 201, answer.content
    # A workload has no application of its own: it comes with a connection.
    new = {"name": "Tally", "environment": "sandbox", "kind": "job", "owner": "", "runs": ""}
    assert is_held(isla.send("POST", "/workloads", new))
    isla.limit(environments=("sandbox",))
    assert isla.send("POST", "/workloads", new).status_code == 201
    assert is_held(isla.send("POST", "/workloads", new | {"environment": "staging", "name": "x"}))


def _scheme(deployment: Any) -> Any:
    return deployment.application.read_profile().scheme("oauth2_code")


def test_a_client_of_another_environment_is_not_brought_in(setup):
    connection = setup.latched()
    other = clients.prepare_other(setup.by, setup.deployment("staging"), "Elsewhere", CODE)
    isla = Limited(setup, environments=("sandbox",))
    answer = isla.send("POST", "/connections/sandbox/cargo/clients", {"client": str(other.pk)})
    assert is_held(answer), answer.content
    assert Connection.objects.get(pk=connection.pk).client_id == connection.client_id


def test_nobody_lifts_their_own_limits_or_goes_round_them(setup):
    setup.deployment()
    isla = Limited(setup, environments=("sandbox",))
    nothing: dict[str, list[str]] = {"environments": [], "applications": [], "teams": []}
    program = {
        "name": "Pipe",
        "environment": "sandbox",
        "rights": ["change", "people"],
        "environments": None,
    }
    person = {"username": "other", "role": "administrator", "password": PASSWORD}
    for method, path, body in [
        ("PUT", "/people/isla/limits", nothing),
        ("POST", "/people", person),
        ("POST", "/programs", program),
        ("PATCH", "/applications/cargo-manifests", {"purpose": "x"}),
        ("POST", "/rounds", None),
    ]:
        assert is_held(isla.send(method, path, body)), path
    file = "neat_latch_inventory: 3\napplications: {cargo-manifests: {purpose: x}}"
    for path in ("previews", "imports"):
        more = {"standing": ""} if path == "imports" else {}
        answer = isla.send("POST", f"/inventory/{path}", {"text": file} | more)
        assert code(answer) == "file-beyond-reach", answer.content
    assert Application.objects.get(key="cargo-manifests").purpose != "x"
    isla.limit(applications=("cargo-manifests",))
    changed = isla.send("PATCH", "/applications/cargo-manifests", {"purpose": "Freight"})
    assert changed.status_code == 200, changed.content


def test_a_command_line_in_their_name_has_the_same_limits(setup):
    setup.latched()
    log_in = LogIn(setup, "administrator")
    path = "/connections/sandbox/cargo"
    body = {"pace": 2}
    assert log_in.call("PATCH", path, body, **{"If-Match": "*"}).status_code == 200
    person = Person.objects.get(username="administrator")
    Person.objects.create_user("keeper", password=PASSWORD, role="administrator")
    reaches.set_limits(setup.by, person, Limits(environments=("staging",)))
    assert is_held(log_in.call("PATCH", path, body, **{"If-Match": "*"}))
    assert log_in.call("GET", path).status_code == 200


def test_a_team_stands_for_the_applications_that_it_owns(setup):
    setup.latched()
    team = accounts.save_team(setup.by, "Freight office", [])
    isla = Limited(setup, teams=("Freight office",))
    change = ("PATCH", "/connections/sandbox/cargo", {"pace": 3})
    assert is_held(isla.send(*change))
    application = Application.objects.get(key="cargo-manifests")
    application.owner = owners.named("team/Freight office")
    application.save()
    assert isla.send(*change).status_code == 200
    accounts.save_team(setup.by, "Freight desk", [], team)
    isla.person.refresh_from_db()
    assert isla.person.limits == {"teams": ["Freight desk"]}
    assert isla.send(*change).status_code == 200
    accounts.remove_team(setup.by, Team.objects.get(name="Freight desk"))
    assert is_held(isla.send(*change))


def test_limits_are_set_by_an_administrator_without_and_one_always_remains(setup):
    setup.deployment()
    Person.objects.update(is_active=False)
    chief = Limited(setup, "chief")
    isla = Limited(setup)

    def put(username: str, **limits: list[str]) -> Any:
        return chief.send("PUT", f"/people/{username}/limits", limits)

    wrong = put("isla", environments=["nowhere"], applications=["none"], teams=["x"])
    assert set(wrong.json()["errors"]) == {"environments", "applications", "teams"}
    done = put("isla", environments=["sandbox"], applications=["cargo-manifests"])
    assert done.json()["limits"]["environments"] == ["sandbox"]
    assert "limited" in str(list(Entry.objects.values()))
    assert code(put("chief", environments=["sandbox"])) == "own-access"
    # isla is no administrator who could lift it again.
    refused = chief.send("PATCH", "/people/chief", {"role": "reader"})
    assert people.LAST_ADMINISTRATOR in refused.content.decode()
    assert put("isla").json()["limits"]["environments"] == []
    Person.objects.filter(pk=isla.person.pk).update(is_active=False)
    with pytest.raises(Problem) as raised:
        reaches.limit(setup.by, chief.person, Limits(environments=("sandbox",)))
    assert raised.value.errors == {"environments": people.LAST_ADMINISTRATOR}
