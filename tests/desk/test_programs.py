"""Programs call the API with tokens of their own."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import time_machine
import yaml
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from django.db import connection as database
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone
from prometheus_client.parser import text_string_to_metric_families

from neatlatch import cli, local_desk
from neatlatch.core import house_key
from neatlatch.desk.authority.house import issuing, programs
from neatlatch.desk.authority.records.house.models import ProgramScope, RejectedRequest
from neatlatch.desk.estate.credentials import services as credentials
from neatlatch.desk.estate.records.applications.models import Application, Environment
from neatlatch.desk.estate.records.clients.models import Client, ProgramClient
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common import settling
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.actors import actor_of
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.drawing.models import Drawn
from neatlatch.desk.work.inventory import services as inventory
from neatlatch.desk.work.metrics import figures
from tests.refused import refused_with

from .conftest import Setup
from .test_workbenches import send

PUBLIC_KEY = (
    ec.generate_private_key(ec.SECP256R1())
    .public_key()
    .public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
    .decode()
)


class Token:
    """A program's token, and calls with it."""

    def __init__(self, setup: Setup, *rights: str, name: str = "Nightly", **more: Any) -> None:
        fields = programs.ProgramFields(name, rights, **more)
        environment = Environment.objects.get(key="sandbox")
        self.client, self.handover = programs.register(setup.by, environment, fields)
        self.text = credentials.show(setup.by, self.handover)[1]
        self.credential = self.handover.credential

    def call(self, method: str, path: str, body: Any = None, **headers: str) -> Any:
        web = WebClient(enforce_csrf_checks=True)
        return web.generic(
            method,
            f"/api{path}",
            b"" if body is None else json.dumps(body),
            content_type="application/json",
            headers={"Authorization": f"Bearer {self.text}"} | headers,
        )


def test_a_token_reads_and_its_use_is_recorded(setup: Setup) -> None:
    setup.latched()
    token = Token(setup, "read", owner="Quays")
    assert token.text.startswith("nlp_sandbox_")
    assert house_key.read(token.text).kind == house_key.PROGRAM_TOKEN
    answer = token.call("GET", "/connections/sandbox/cargo")
    assert (answer.status_code, answer.json()["ref"]) == (200, "sandbox/cargo")
    (row,) = send(setup.web(), "get", "/programs")["items"]
    assert (row["name"], row["rights"], row["owner"]) == ("Nightly", ["read"], "Quays")
    assert row["last_used_from"] == "127.0.0.1"
    assert row["hints"] == [f"…{token.text[-4:]}"]
    # It is a credential like any other, in the list with its owner and its findings.
    (listed,) = send(setup.web(), "get", "/credentials?words=owner:quays")["items"]
    assert listed["id"] == str(token.credential.pk)
    assert Credential.objects.get(pk=token.credential.pk).digest == house_key.digest(token.text)


def test_what_a_program_did_bears_its_name(setup: Setup) -> None:
    connection = setup.latched()
    token = Token(setup, "change")
    seen = token.call("GET", "/connections/sandbox/cargo")["ETag"]
    answer = token.call("PATCH", "/connections/sandbox/cargo", {"pace": 5}, **{"If-Match": seen})
    assert answer.status_code == 200, answer.content
    connection.refresh_from_db()
    assert (connection.pace, connection.changed_by) == (5, "program/Nightly")
    assert Entry.objects.filter(noun="connection").latest("number").who == "program/Nightly"
    assert actor_of("program/Nightly").username == "program/Nightly"


def test_a_program_registers_a_client_by_protocol(setup: Setup) -> None:
    """What the application answered is saved from facts that name who asked."""
    deployment = setup.deployment()
    token = Token(setup, "change")
    answer = token.call(
        "POST",
        "/clients",
        {
            "application": deployment.application.key,
            "environment": "sandbox",
            "name": "By a pipeline",
            "scopes": ["manifest.read"],
            "redirect_uris": ["https://desk.gannet.example/return"],
        },
    )
    assert answer.status_code == 201, answer.content
    handover = Handover.objects.get(credential__client__name="By a pipeline")
    assert (handover.made_by, handover.maker) == (None, "program/Nightly")
    shown = token.call("POST", f"/handovers/{handover.pk}/revelations")
    assert shown.status_code == 200, shown.content


def test_a_secret_is_put_in(setup: Setup) -> None:
    connection = setup.latched()
    reads, puts = Token(setup, "read"), Token(setup, "put-secrets", name="Pipeline")
    body = {"key": "client_secret", "secret": "s" * 30}
    address = "/connections/sandbox/cargo/secrets"
    answer = reads.call("POST", address, body)
    assert (answer.status_code, answer.json()["code"]) == (403, "token-forbids")
    assert "put-secrets" in answer.json()["detail"]
    answer = puts.call("POST", address, body)
    assert answer.status_code == 200, answer.content
    held = HeldSecret.objects.get(connection=connection, key="client_secret")
    assert held.credential.put_in_by == "program/Pipeline"


def _other_address(token: Token) -> dict[str, str]:
    ProgramClient.objects.update(allow_list=["203.0.113.0/24"])
    return {}


def _revoked(token: Token) -> dict[str, str]:
    issuing.revoke(actor_of("morag"), token.credential, "lost")
    return {}


def _expired(token: Token) -> dict[str, str]:
    Credential.objects.filter(pk=token.credential.pk).update(
        ends=timezone.now() - timedelta(seconds=1)
    )
    return {}


def _cut(token: Token) -> dict[str, str]:
    return {"Authorization": f"Bearer {token.text[:-3]}"}


def _forged(token: Token) -> dict[str, str]:
    """The ID of a token that is known, with another secret and a right check."""
    kind, where, identity, secret, _ = token.text.split("_")
    start = f"{kind}_{where}_{identity}_{secret[::-1]}"
    return {"Authorization": f"Bearer {start}_{house_key.check_of(start)}"}


def _of_a_workload(token: Token) -> dict[str, str]:
    """A key of another kind, whatever its scopes say."""
    start = f"nlk{token.text[3:].rpartition('_')[0]}"
    return {"Authorization": f"Bearer {start}_{house_key.check_of(start)}"}


HOW = {
    _other_address: "token from an address that is not allowed",
    _revoked: "token revoked",
    _expired: "token ended",
    _forged: "token wrong",
    _of_a_workload: "token wrong",
}


@pytest.fixture
def token(setup: Setup) -> Token:
    return Token(setup, "read", "test", "change", "put-secrets", "people")


@pytest.mark.parametrize("how", [*HOW, _cut], ids=lambda how: how.__name__.strip("_"))
def test_a_refused_token_is_told_the_same_and_logged_apart(token: Token, how: Any) -> None:
    headers = how(token)
    answer = token.call("GET", "/connections", **headers)
    assert (answer.status_code, answer.json()["code"]) == (401, "token-refused")
    assert answer["WWW-Authenticate"].startswith("Bearer ")
    unknown = token.call("GET", "/connections", Authorization="Bearer nlp_x")
    assert (unknown.status_code, unknown.content) == (answer.status_code, answer.content)
    kept = [row.what for row in RejectedRequest.objects.filter(endpoint="api")]
    assert kept == ([HOW[how]] if how in HOW else [])
    assert Credential.objects.get(pk=token.credential.pk).last_used is None


def test_a_refused_token_is_not_replaced_by_a_session(setup: Setup) -> None:
    web = setup.web()
    assert web.get("/api/connections").status_code == 200
    refused = web.get("/api/connections", headers={"Authorization": "Bearer nlp_x"})
    assert refused.status_code == 401


@pytest.mark.parametrize(
    ("method", "path"),
    [
        ("POST", "/programs"),
        ("POST", "/clients/{client}/secrets"),
        ("POST", "/handovers/{handover}/revelations"),
        ("POST", "/handovers/{handover}/links"),
        ("POST", "/handovers/{handover}/files"),
    ],
)
def test_a_program_gets_no_token_of_a_program(
    setup: Setup, token: Token, method: str, path: str
) -> None:
    """With every right that there is: else it could give itself any, for as long as it likes."""
    other, handover = programs.register(
        setup.by, Environment.objects.get(key="sandbox"), programs.ProgramFields("Other", ["read"])
    )
    body = {
        "name": "More",
        "environment": "sandbox",
        "rights": ["people"],
        "to": "me",
        "key": PUBLIC_KEY,
        "ends": None,
    }
    wanted = {
        "programs": ("name", "environment", "rights"),
        "secrets": ("ends",),
        "revelations": (),
        "links": ("to",),
        "files": ("to", "key"),
    }[path.rpartition("/")[2]]
    address = path.format(client=other.pk, handover=handover.pk)
    answer = token.call(method, address, {name: body[name] for name in wanted})
    assert (answer.status_code, answer.json()["code"]) == (403, "person-required")
    handover.refresh_from_db()
    assert (handover.shown, handover.link) == (None, "")
    assert Credential.objects.filter(client__kind="program").count() == 2


def test_the_rights_of_a_program_are_fixed(setup: Setup, token: Token) -> None:
    for web in (setup.web(), None):
        seen = token.call("GET", f"/clients/{token.client.pk}")["ETag"]
        address, body = f"/clients/{token.client.pk}", {"scopes": ["read", "people"]}
        if web is None:
            answer = token.call("PATCH", address, body, **{"If-Match": seen})
        else:
            answer = web.patch(
                f"/api{address}", body, content_type="application/json", headers={"If-Match": seen}
            )
        assert (answer.status_code, answer.json()["code"]) == (409, "program-fixed")


def test_no_file_changes_a_program(setup: Setup, token: Token) -> None:
    file = yaml.safe_load(inventory.export(setup.by))
    (key,) = (key for key in file["clients"] if key.startswith("neat-latch/"))
    inventory.apply(setup.by, yaml.safe_dump(file))  # as it is
    file["clients"][key]["scopes"] = ["people"]
    with refused_with("inventory-mistakes") as refused:
        inventory.apply(setup.by, yaml.safe_dump(file))
    assert "other rights" in refused.value.detail
    assert ProgramClient.objects.get().scopes == token.client.scopes


def test_a_token_without_the_right_draws_nothing(token: Token) -> None:
    web = WebClient(headers={"Authorization": f"Bearer {token.text}"})
    for path in ("/draw/cargo", "/relay/cargo/berths"):
        answer = web.get(path)
        assert (answer.status_code, answer.json()["code"]) == (403, "token-forbids"), path


def test_a_token_is_replaced_side_by_side_and_revoked(setup: Setup, token: Token) -> None:
    handover = issuing.add_secret(setup.by, token.client)
    newer = credentials.show(setup.by, handover)[1]
    assert newer.startswith("nlp_")
    assert token.call("GET", "/connections").status_code == 200
    answer = token.call("POST", f"/credentials/{token.credential.pk}/revocations", {"why": "old"})
    assert answer.status_code in (200, 201, 204), answer.content
    assert token.call("GET", "/connections").status_code == 401
    token.text = newer
    assert token.call("GET", "/connections").status_code == 200


def test_a_leaked_token_is_known(setup: Setup, token: Token) -> None:
    found = send(setup.web(), "post", "/leaks", {"text": f"TOKEN={token.text} # oops"})
    assert [item["id"] for item in found["credentials"]] == [str(token.credential.pk)]


def test_a_repeated_request_is_answered_to_its_own_caller(setup: Setup, token: Token) -> None:
    body = {"name": "Night run", "environment": "sandbox"}
    first = token.call("POST", "/workloads", body, **{"Idempotency-Key": "a"})
    again = token.call("POST", "/workloads", body, **{"Idempotency-Key": "a"})
    assert (first.status_code, first.content) == (201, again.content)
    # A person with the same key asks for something of their own, which is there already.
    theirs = setup.web().post(
        "/api/workloads", body, content_type="application/json", headers={"Idempotency-Key": "a"}
    )
    assert theirs.status_code != 201


def test_a_token_for_one_environment_sees_and_changes_that_alone(setup: Setup) -> None:
    setup.latched()
    setup.deployment("staging")
    elsewhere, _ = programs.register(
        setup.by, Environment.objects.get(key="staging"), programs.ProgramFields("Other", ["read"])
    )
    work = workloads.add(setup.by, workloads.WorkloadFields("Report", "staging"))
    mine = workloads.add(setup.by, workloads.WorkloadFields("Mine", "sandbox"))
    token = Token(setup, "read", "test", "change", "put-secrets", environments=["sandbox"])
    everywhere = Token(setup, "read", name="Everywhere")
    for path in ("/connections", "/clients?application=cargo-manifests", "/workloads"):
        assert "staging" not in token.call("GET", path).content.decode(), path
    assert "staging" in everywhere.call("GET", "/workloads").content.decode()
    seen = {item["id"] for item in token.call("GET", "/credentials").json()["items"]}
    assert seen == {
        str(key)
        for key in Credential.objects.filter(
            client__deployment__environment__key="sandbox"
        ).values_list("pk", flat=True)
    }
    assert token.call("GET", "/connections/sandbox/cargo").status_code == 200
    for method, path, body in (
        ("GET", f"/clients/{elsewhere.pk}", None),
        ("DELETE", f"/clients/{elsewhere.pk}", None),
        ("GET", f"/workloads/{work.pk}", None),
        ("GET", f"/credentials/{elsewhere.credentials.get().pk}", None),
        ("POST", "/workloads", {"name": "X", "environment": "staging"}),
        ("POST", "/connections/sandbox/cargo/copies", {"environment": "staging"}),
        ("PATCH", f"/workloads/{mine.pk}", {"environment": "staging"}),
        ("POST", f"/workloads/{mine.pk}/uses", {"connection": "staging/cargo"}),
        ("GET", "/connections/drafts/cargo-manifests/staging/oauth2_code", None),
        ("GET", "/today", None),
        ("GET", "/inventory", None),
    ):
        answer = token.call(method, path, body)
        assert answer.status_code == 403, (path, answer.content)
        assert answer.json()["code"] == "token-narrowed", path
    # The next request of the same thread is not held to anything.
    assert everywhere.call("GET", f"/clients/{elsewhere.pk}").status_code == 200
    Environment.objects.filter(key="sandbox").update(key="elsewhere")
    assert token.call("GET", "/connections/sandbox/cargo").status_code == 403


def test_the_workload_tells_which_programs_draw_for_it(setup: Setup) -> None:
    workload = _night_run(setup, setup.latched())
    token = Token(setup, "draw", name="Pipe", draws_for=["sandbox/Night run"])
    Token(setup, "read", name="Other")

    def told() -> list[str]:
        found = setup.web().get(f"/api/workloads/{workload.pk}").json()["programs"]
        return [program["name"] for program in found]

    assert told() == ["Pipe"]
    issuing.revoke(setup.by, token.credential, "test")
    assert told() == []


def _night_run(setup: Setup, connection: Connection) -> Workload:
    fields = workloads.WorkloadFields("Night run", "", "job", "Freight", "daily")
    workloads.use_connection(setup.by, connection, fields, ["GET /manifests"])
    return Workload.objects.select_related("environment").get(name="Night run")


def _draw(token: Token, path: str = "/draw/cargo", **headers: str) -> Any:
    return WebClient().get(path, headers={"Authorization": f"Bearer {token.text}"} | headers)


def test_a_program_draws_for_the_workloads_that_it_names(setup: Setup) -> None:
    connection = setup.latched("manifest.read")
    workload = _night_run(setup, connection)
    workloads.add(setup.by, workloads.WorkloadFields("Other job", "sandbox"))
    token = Token(setup, "draw", draws_for=["sandbox/Night run"])
    answer = _draw(token)
    assert answer.status_code == 200, answer.content
    assert answer.json()["headers"]["Authorization"].startswith("Bearer ")
    assert _draw(token, "/relay/cargo/manifests").status_code == 200
    # It is the workload's draw, and the token's use.
    assert set(Drawn.objects.values_list("workload", "way")) == {
        (workload.pk, "draw"),
        (workload.pk, "relay"),
    }
    token.credential.refresh_from_db()
    assert token.credential.last_used_from == "127.0.0.1"
    other = {"Neatlatch-Workload": "sandbox/Other%20job"}
    answer = _draw(token, **other)
    assert (answer.status_code, answer.json()["code"]) == (403, "token-draws-for-others")
    assert "sandbox/Other job" in answer.json()["title"]
    (row,) = send(setup.web(), "get", "/programs")["items"]
    assert row["draws_for"] == ["sandbox/Night run"]
    # It may nothing else.
    assert token.call("GET", "/connections").json()["code"] == "token-forbids"
    workloads.remove(setup.by, workload)
    assert _draw(token).json()["code"] == "token-draws-for-others"


def test_a_program_that_draws_for_several_names_one(setup: Setup) -> None:
    connection = setup.latched("manifest.read")
    _night_run(setup, connection)
    workloads.add(setup.by, workloads.WorkloadFields("Other job", "sandbox"))
    both = ["sandbox/Night run", "sandbox/Other job"]
    token = Token(setup, "draw", draws_for=both)
    answer = _draw(token)
    assert (answer.status_code, answer.json()["code"]) == (422, "workload-not-named")
    assert _draw(token, **{"Neatlatch-Workload": "sandbox/Night%20run"}).status_code == 200
    # The other one does not use the connection.
    answer = _draw(token, **{"Neatlatch-Workload": "sandbox/Other job"})
    assert (answer.status_code, answer.json()["code"]) == (404, "connection-not-used")


def test_who_may_not_draw_with_a_token(setup: Setup) -> None:
    connection = setup.latched("manifest.read")
    _night_run(setup, connection)
    reads = Token(setup, "read", name="Reader")
    assert _draw(reads).json()["code"] == "token-forbids"
    elsewhere = Token(
        setup, "draw", name="E", environments=["staging"], draws_for=["sandbox/Night run"]
    )
    answer = _draw(elsewhere)
    assert (answer.status_code, answer.json()["code"]) == (403, "token-draws-for-others")
    token = Token(setup, "draw", draws_for=["sandbox/Night run"])
    issuing.revoke(actor_of("morag"), token.credential, "lost")
    answer = _draw(token)
    assert (answer.status_code, answer.json()["code"]) == (401, "credential-refused")
    assert RejectedRequest.objects.latest("id").what == "token revoked"


def test_metrics_are_read_with_a_token_for_them(setup: Setup) -> None:
    setup.latched()
    settling.catch_up()
    token, reads = Token(setup, "metrics"), Token(setup, "read", name="Reader")

    def get(text: str) -> Any:
        return WebClient().get("/metrics", headers={"Authorization": f"Bearer {text}"})

    answer = get(token.text)
    assert answer.status_code == 200
    assert answer["Content-Type"].startswith("text/plain")
    read = {
        (sample.name, *sorted(sample.labels.values())): sample.value
        for family in text_string_to_metric_families(answer.content.decode())
        for sample in family.samples
    }
    assert read["neatlatch_connections", "cargo-manifests", "not_proven"] == 1
    assert read["neatlatch_connections", "cargo-manifests", "unlatched"] == 0
    assert read["neatlatch_credentials_expiring", "0"] == 0
    assert read["neatlatch_health", "database"] == 0
    assert read["neatlatch_database_bytes",] > 100_000
    assert get(reads.text).json()["code"] == "token-forbids"
    assert WebClient().get("/metrics").json()["code"] == "token-refused"
    assert setup.web().get("/metrics").json()["code"] == "token-refused"
    assert WebClient().post("/metrics").status_code == 405


def test_metrics_take_as_many_statements_however_much_there_is(setup: Setup) -> None:
    setup.latched()
    with CaptureQueriesContext(database) as few:
        list(figures(timezone.now()))
    setup.latched(name="second")
    setup.deployment("staging")
    with CaptureQueriesContext(database) as more:
        list(figures(timezone.now()))
    assert len(few) == len(more) <= 16


def _added_to(file: str, kind: str, key: str, fields: dict[str, Any]) -> str:
    content = yaml.safe_load(file)
    content[kind] = {**(content.get(kind) or {}), key: fields}
    return yaml.safe_dump(content, sort_keys=False)


def test_a_program_applies_an_inventory(setup: Setup) -> None:
    setup.latched()
    token, reads = Token(setup, "change"), Token(setup, "read", name="Reader")
    file = token.call("GET", "/inventory").content.decode()
    wanted = file.replace("Cargo manifests", "Cargo lists")
    assert wanted != file
    body = {"text": wanted, "prune": False, "standing": ""}
    assert reads.call("POST", "/inventory/imports", body).json()["code"] == "token-forbids"
    shown = token.call("POST", "/inventory/previews", {"text": wanted}).json()
    assert shown["changes_count"] == 1
    answer = token.call("POST", "/inventory/imports", body | {"standing": shown["standing"]})
    assert answer.status_code == 200, answer.content
    assert Application.objects.get(key="cargo-manifests").name == "Cargo lists"
    (listed,) = send(setup.web(), "get", "/inventory/imports")["items"]
    assert (listed["by"], listed["state"]) == ("program/Nightly", "applied")
    undo = f"/inventory/imports/{listed['id']}/undo"
    back = token.call("POST", f"{undo}-previews").json()
    answer = token.call("POST", f"{undo}s", {"standing": back["standing"]})
    assert answer.status_code == 200, answer.content
    assert Application.objects.get(key="cargo-manifests").name == "Cargo manifests"
    assert Entry.objects.filter(noun="inventory").latest("number").who == "program/Nightly"


def test_a_token_for_one_environment_imports_what_is_in_it(setup: Setup) -> None:
    connection = setup.latched()
    setup.deployment("staging")
    token = Token(setup, "change", environments=["sandbox"])

    def try_(file: str, path: str = "imports", **more: Any) -> Any:
        text = f"neat_latch_inventory: 3\n{file}"
        body = {"text": text, **more} | ({"standing": ""} if path == "imports" else {})
        return token.call("POST", f"/inventory/{path}", body)

    held = connection.secrets()["client_secret"].pk
    paced = "connections: {sandbox/cargo: {pace: 4}}"
    assert try_(paced, "previews").json()["changes_count"] == 1
    answer = try_(paced)
    assert answer.status_code == 200, answer.content
    connection.refresh_from_db()
    assert connection.pace == 4
    identity = answer.json()["plan"]["id"]
    assert token.call("GET", f"/inventory/imports/{identity}").status_code == 200
    for file, more in [
        ("connections: {staging/cargo: {pace: 4}}", {}),
        ("applications: {cargo-manifests: {purpose: x}}", {}),
        ("environments: {sandbox: {name: Ours}}", {}),
        ("people: {morag: {role: reader}}", {}),
        (f"{paced}\nworkloads: {{Tally/staging: {{name: Tally, environment: staging}}}}", {}),
        ("workloads: {Tally/sandbox: {name: Tally, environment: staging}}", {}),
        ("connections: {sandbox/cargo: {client: cargo-manifests/staging/Ferries}}", {}),
        (f"connections: {{sandbox/cargo: {{secrets: {{client_secret: 'safe:{held}'}}}}}}", {}),
        (paced, {"prune": True}),
    ]:
        for path in ("previews", "imports"):
            refused = try_(file, path, **more)
            assert refused.json().get("code") == "file-beyond-reach", (file, refused.content)
    whole = token.call("POST", "/inventory/previews", {"text": inventory.export(setup.by)})
    assert whole.json()["code"] == "file-beyond-reach"
    assert (
        token.call("POST", f"/inventory/imports/{identity}/undos", {"standing": "x"}).json()["code"]
        == "token-narrowed"
    )
    elsewhere = Token(setup, "change", name="Elsewhere", environments=["staging"])
    seen = elsewhere.call("GET", f"/inventory/imports/{identity}")
    assert seen.json()["code"] == "token-narrowed"


def test_people_in_an_inventory_require_the_right_for_them(setup: Setup) -> None:
    setup.latched()
    token = Token(setup, "change")
    both = Token(setup, "change", "people", name="Both")
    file = token.call("GET", "/inventory").content.decode()
    joined = {"name": "Una Flett", "email": "una@gannet.example", "role": "administrator"}
    for kind, key, fields in (
        ("people", "una", joined),
        ("teams", "Quays", {"people": ["morag"]}),
    ):
        body = {"text": _added_to(file, kind, key, fields), "standing": ""}
        for path, sent in (("previews", {"text": body["text"]}), ("imports", body)):
            answer = token.call("POST", f"/inventory/{path}", sent)
            assert answer.status_code == 403, answer.content
            assert answer.json()["code"] == "token-forbids"
            assert "people" in answer.json()["detail"]
        assert both.call("POST", "/inventory/imports", body).status_code == 200
    assert Person.objects.get(username="una").role == "administrator"
    undone = both.call("GET", "/inventory/imports").json()["items"][-1]["id"]
    answer = token.call("POST", f"/inventory/imports/{undone}/undo-previews")
    assert answer.json()["code"] == "token-forbids"


def test_a_token_without_a_scope_holds_nowhere(setup: Setup) -> None:
    setup.latched()
    token = Token(setup, "read", environments=["sandbox"])
    ProgramScope.objects.get().environments.clear()
    assert token.call("GET", "/connections/sandbox/cargo").status_code == 403
    assert token.call("GET", "/connections").json()["items"] == []
    ProgramScope.objects.all().delete()
    assert token.call("GET", "/connections").json()["items"] == []


@pytest.mark.parametrize(
    ("wrong", "field"),
    [
        ({"environments": []}, "environments"),
        ({"environments": ["nowhere"]}, "environments"),
        ({"rights": ["people"], "environments": ["sandbox"]}, "rights"),
        ({"rights": []}, "rights"),
        ({"rights": ["everything"]}, "rights"),
        ({"rights": ["metrics"], "environments": ["sandbox"]}, "rights"),
        ({"rights": ["draw"]}, "rights"),
        ({"draws_for": ["sandbox/Night run"]}, "draws_for"),
        ({"rights": ["draw"], "draws_for": ["sandbox/Night run"]}, "draws_for"),
        ({"name": ""}, "name"),
        ({"name": "a/b"}, "name"),
        ({"name": "x" * 81}, "name"),
        ({"allow_list": ["here"]}, "allow_list"),
        ({"owner": "person/nobody"}, "owner"),
        ({"ends": "2020-01-01T00:00:00Z"}, "ends"),
    ],
)
def test_what_cannot_be_registered(setup: Setup, wrong: dict[str, Any], field: str) -> None:
    body = {"name": "Nightly", "environment": "sandbox", "rights": ["read"]} | wrong
    told = send(setup.web(), "post", "/programs", body, status=422)
    assert field in told["errors"]
    assert not Client.objects.filter(kind="program").exists()


def test_a_name_is_had_once_and_no_login_name_is_a_programs(setup: Setup) -> None:
    Token(setup, "read")
    with refused_with("invalid-fields"):
        Token(setup, "read")
    body = {"username": "program/Nightly", "name": "X", "role": "reader", "password": "p" * 20}
    told = send(setup.web(), "post", "/people", body, status=422)
    assert "username" in told["errors"]


def test_an_application_of_an_earlier_version_learns_the_rights(setup: Setup) -> None:
    Token(setup, "read")
    own = Application.objects.get(key=issuing.OWN_KEY)
    own.profile["scopes"] = [
        {"name": "draw", "meaning": "As somebody wrote it", "kind": "read"},
    ]
    own.save()
    Token(setup, "test", name="Later")
    own.refresh_from_db()
    assert own.profile["scopes"][0]["meaning"] == "As somebody wrote it"
    assert {"draw", "relay", "read", "people"} <= {scope["name"] for scope in own.profile["scopes"]}


def command(*words: str) -> int:
    return cli.main(["program", *words])


@pytest.fixture
def _here(monkeypatch: pytest.MonkeyPatch) -> None:
    """The command finds the desk of the tests."""
    monkeypatch.setattr(local_desk, "set_up", lambda: None)


@pytest.mark.usefixtures("_here")
def test_by_command(setup: Setup, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    file = tmp_path / "token"
    words = ("add", "Nightly", "--environment", "sandbox", "--right", "read", "--days", "30")
    assert command(*words, "--token-file", str(file)) == 0
    assert file.stat().st_mode & 0o077 == 0
    token = file.read_text().strip()
    assert token not in capsys.readouterr().out
    web = WebClient(headers={"Authorization": f"Bearer {token}"})
    assert web.get("/api/connections").status_code == 200
    assert Credential.objects.get(client__kind="program").value is None, "kept no longer"
    assert command("list") == 0
    assert "Nightly" in capsys.readouterr().out
    assert command("revoke", "Nightly") == 0
    assert web.get("/api/connections").status_code == 401


@pytest.mark.usefixtures("_here")
@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("add", "A", "--environment", "nowhere", "--right", "read"), "no such environment"),
        (("add", "A", "--environment", "sandbox"), "Choose at least one right"),
        (("add", "A", "--environment", "sandbox", "--right", "all"), "no right “all”"),
        (("add", "A", "--environment", "sandbox", "--right", "read", "--days", "999"), "an end"),
        (("add", "A", "--environment", "sandbox", "--right", "read", "--as", "nobody"), "--as"),
        (("revoke", "A"), "no such program"),
    ],
)
def test_what_a_command_refuses(
    setup: Setup,
    tmp_path: Path,
    capsys: pytest.CaptureFixture[str],
    words: tuple[str, ...],
    says: str,
) -> None:
    more = ("--token-file", str(tmp_path / "token")) if words[0] == "add" else ()
    assert command(*words, *more) == 2
    assert says in capsys.readouterr().err
    assert not list(tmp_path.iterdir())
    assert not ProgramClient.objects.exists()


@pytest.mark.usefixtures("_here")
@pytest.mark.parametrize("where", ["token", "nowhere/token"])
def test_no_token_is_made_that_has_nowhere_to_go(
    setup: Setup, tmp_path: Path, capsys: pytest.CaptureFixture[str], where: str
) -> None:
    (tmp_path / "token").write_text("another")
    words = ("add", "A", "--environment", "sandbox", "--right", "read")
    assert command(*words, "--token-file", str(tmp_path / where)) == 2
    assert "Name another file" in capsys.readouterr().err
    assert (tmp_path / "token").read_text() == "another"
    assert not ProgramClient.objects.exists()


@pytest.fixture(autouse=True)
def _still() -> Iterator[None]:
    """What is recorded once a minute is recorded within the test."""
    with time_machine.travel(timezone.now(), tick=True):
        yield
