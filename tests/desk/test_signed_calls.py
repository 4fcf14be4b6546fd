"""Calls that an application signs: checked for a workload, with secrets that stay in the safe."""

from __future__ import annotations

import base64
import json
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from queue import Queue
from typing import Any

import httpx
import pytest
from django.db import connection as database
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone
from standardwebhooks.webhooks import Webhook

from neatlatch.demo.visitor import OfficeVisitor
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.connections import summaries
from neatlatch.desk.estate.credentials.services import show
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.drawing import services
from neatlatch.desk.work.drawing.models import CheckedCalls, Drawn, SeenCall
from tests.harness import StandIns

from .conftest import forget_the_journal, load_once
from .test_every_operation import code

JSON: Any = {"content_type": "application/json"}
REF = "production/repair-tickets"
SECRET = "whsec_" + base64.b64encode(b"a signing secret of ours").decode()
NEXT = "whsec_" + base64.b64encode(b"the one that follows it!").decode()


@pytest.fixture
def web(transactional_db: None, stand_ins: StandIns) -> Iterator[WebClient]:
    load_once(stand_ins.port, only=("repair-tickets",), with_benches=False)
    client = WebClient()
    client.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    yield client
    forget_the_journal()


def morag() -> Person:
    return Person.objects.get(username="morag")


def found() -> Connection:
    return Connection.objects.get(ref=REF)


@pytest.fixture
def key(web: WebClient) -> str:
    """The key of a workload that may only relay, and the signing secret as it is known here."""
    connections.put_secret(morag(), found(), SECRET, key="signing_secret")
    workload = Workload.objects.get(name="Engine alarms")
    _, handover = services.give(morag(), workload, "key", "relay")
    assert handover is not None
    return show(morag(), handover)[1]


def signed(
    body: str = '{"type": "tickets.changed"}',
    id: str = "call_1",
    secret: str = SECRET,
    at: datetime | None = None,
) -> tuple[dict[str, str], bytes]:
    """A call, as the reference library signs it."""
    at = at or datetime.now(UTC)
    headers = {
        "Content-Type": "application/json",
        "Webhook-Id": id,
        "Webhook-Timestamp": str(int(at.timestamp())),
        "Webhook-Signature": Webhook(secret).sign(id, at, body),
    }
    return headers, body.encode()


def check(key: str, headers: dict[str, str], body: bytes, name: str = "repair-tickets") -> Any:
    sent = {"headers": headers, "body": base64.b64encode(body).decode()}
    return WebClient().post(
        f"/draw/{name}/signed-calls",
        json.dumps(sent),
        headers={"Authorization": f"Bearer {key}"},
        **JSON,
    )


def post(web: WebClient, address: str, status: int = 200, **body: Any) -> Any:
    answer = web.post(f"/api{address}", json.dumps(body), **JSON)
    assert answer.status_code == status, answer.content
    return answer.json()


def test_one_that_the_application_signed_and_every_way_in_which_it_did_not(web, key):
    state, version = found().state, found().version
    answer = check(key, *signed())
    assert answer.status_code == 200, answer.content
    assert answer.json()["id"] == "call_1"
    assert answer.json()["seen_at"] is None
    again = check(key, *signed()).json()
    assert datetime.fromisoformat(again["seen_at"]) <= timezone.now()
    headers, body = signed(id="call_2")
    long_ago = signed(id="call_3", at=datetime.now(UTC) - timedelta(minutes=6))
    for sent, reason in [
        ((headers, body + b" "), "wrong"),
        (signed(secret=NEXT), "wrong"),
        (({}, body), "unsigned"),
        ((headers | {"Webhook-Timestamp": ""}, body), "unreadable"),
        (long_ago, "too-old"),
    ]:
        refused = check(key, *sent)
        assert code(refused) == "call-rejected", refused.content
        assert refused.json()["reason"] == reason
        assert SECRET not in refused.content.decode()
    # What was rejected is not taken for seen.
    assert check(key, headers, body).json()["seen_at"] is None
    told = web.get(f"/api/connections/{REF}/signed-calls").json()
    assert (told["accepted"], told["rejected"]) == (3, 5)
    assert told["rejected_says"].startswith("It was signed at ")
    assert told["rejected_says"].endswith("Checked for Engine alarms.")
    assert [row["name"] for row in told["checked_for"]] == ["Engine alarms"]
    assert [secret["put_in_by"] for secret in told["held"]] == ["morag"]
    # It is no draw of the connection, and nothing that tests have shown is in question.
    assert web.get(f"/api/connections/{REF}/draws").json() == []
    assert not Drawn.objects.filter(way="check", credential="").exists()
    assert (found().state, found().version) == (state, version)


def test_who_may_have_a_call_checked(web, key):
    headers, body = signed()
    assert check("nlk_production_nobody", headers, body).status_code == 401
    assert code(check(key, headers, body, "fare-kiosks")) == "connection-not-used"
    Workload.objects.get(name="Engine alarms").uses.all().delete()
    assert code(check(key, headers, body)) == "connection-not-used"
    assert not SeenCall.objects.filter(digest__startswith="call").exists()


NO_CALLS = [
    b"",
    b"[]",
    b"{}",
    b'{"headers": {}, "body": "%"}',
    b'{"headers": [], "body": ""}',
    b'{"headers": {"a": 1}, "body": ""}',
    b'{"headers": null, "body": null}',
    b"[" * 100_000,
    json.dumps({"headers": {str(n): "" for n in range(201)}, "body": ""}).encode(),
    json.dumps({"headers": {"a": "x" * 8193}, "body": ""}).encode(),
]


def test_what_is_no_call_is_refused_by_a_sentence(web, key):
    for sent in NO_CALLS:
        answer = WebClient().post(
            "/draw/repair-tickets/signed-calls",
            sent,
            headers={"Authorization": f"Bearer {key}"},
            **JSON,
        )
        assert code(answer) == "bad-signed-call", (sent[:60], answer.content)
    answer = check(key, {}, b"x" * (4 * 1024 * 1024))
    assert code(answer) == "too-large"
    asked = WebClient().get(
        "/draw/repair-tickets/signed-calls", headers={"Authorization": f"Bearer {key}"}
    )
    assert code(asked) == "method-not-allowed"


def test_without_a_secret_or_with_one_that_is_over_nobody_can_tell(web, key):
    secret = found().secrets()["signing_secret"]
    Credential.objects.filter(pk=secret.pk).update(ends=timezone.now() - timedelta(days=2))
    assert code(check(key, *signed())) == "no-signing-secret"
    summaries.work_out([found().pk])
    told = web.get("/api/today").json()["breaks"]["items"]
    due = next(row for row in told if row["ref"] == REF)
    assert "calls that are signed with it are rejected" in due["why"]
    assert due["act"] == "put_signing_secret"
    found().held_secrets.filter(key="signing_secret").delete()
    assert code(check(key, *signed())) == "no-signing-secret"
    application = Application.objects.get(key="repair-tickets")
    application.profile.pop("signed_calls")
    application.save()
    assert code(check(key, *signed())) == "calls-not-signed"
    assert web.get(f"/api/connections/{REF}").json()["signs_calls"] is False


def test_the_same_call_checked_by_many_at_once_is_new_to_one(web, key):
    call = signed(id="call_of_many")

    def one(_: int) -> Any:
        try:
            return check(key, *call).json()["seen_at"]
        finally:
            database.close()

    with ThreadPoolExecutor(6) as pool:
        seen = list(pool.map(one, range(12)))
    assert seen.count(None) == 1
    assert CheckedCalls.objects.get(connection=found()).accepted == 12
    assert SeenCall.objects.filter(connection=found()).count() == 1


def test_what_is_kept_of_calls_ends_and_a_check_costs_the_same_however_many_there_are(web, key):
    now = timezone.now()
    SeenCall.objects.bulk_create(
        SeenCall(
            connection=found(),
            digest=f"{n:064d}",
            at=now - timedelta(days=4),
            ends=now + timedelta(days=-1 if n < 200 else 1),
        )
        for n in range(2000)
    )
    with CaptureQueriesContext(
        database,
    ) as few:
        assert check(key, *signed(id="call_a")).status_code == 200
    with CaptureQueriesContext(database) as again:
        assert check(key, *signed(id="call_b")).status_code == 200
    assert abs(len(few) - len(again)) <= 1
    for n in range(2):
        check(key, *signed(id=f"call_{n}_more"))
    assert SeenCall.objects.filter(ends__lte=now).count() == 0


def test_one_secret_is_replaced_by_another_side_by_side(web, key):
    old = found().secrets()["signing_secret"]
    shown = web.get(f"/api/credentials/{old.pk}/replacement-previews").json()["ways"]
    assert [(way["way"], way["overlaps"]) for way in shown] == [("hand", True)]
    made = post(web, f"/credentials/{old.pk}/replacements", 201, way="hand")
    at = f"/replacements/{made['id']}"
    assert "send a call" in made["acts"][2]
    post(web, f"{at}/new-credentials", value=NEXT)
    assert "no call that was signed with it" in post(web, f"{at}/proofs")["said"]
    # Both are accepted from the moment the second is here.
    assert check(key, *signed(id="call_old")).status_code == 200
    assert check(key, *signed(id="call_new", secret=NEXT)).status_code == 200
    assert "was accepted at" in post(web, f"{at}/proofs")["said"]
    state = found().state
    post(web, f"{at}/switches")
    assert found().state == state
    assert check(key, *signed(id="call_late")).status_code == 200
    refused = post(web, f"{at}/retirements", 409)
    assert "Somebody used the old one" in refused["detail"]
    assert post(web, f"{at}/retirements", anyway=True)["outcome"] == "open"
    assert check(key, *signed(id="call_gone")).json()["reason"] == "wrong"
    assert "are rejected here" in post(web, f"{at}/refusal-proofs")["said"]
    assert check(key, *signed(id="call_now", secret=NEXT)).status_code == 200
    held = web.get(f"/api/connections/{REF}/signed-calls").json()["held"]
    assert [secret["hint"] for secret in held] == [f"…{NEXT[-4:]}"]


def test_a_replacement_that_is_rolled_back_accepts_the_old_one_only(web, key):
    old = found().secrets()["signing_secret"]
    made = post(web, f"/credentials/{old.pk}/replacements", 201, way="hand")
    post(web, f"/replacements/{made['id']}/new-credentials", value=NEXT)
    post(web, f"/replacements/{made['id']}/rollbacks")
    assert check(key, *signed(id="call_new", secret=NEXT)).json()["reason"] == "wrong"
    assert check(key, *signed(id="call_old")).status_code == 200


def test_it_is_put_in_listed_and_kept_like_other_credentials(web, key):
    answer = web.post(
        f"/api/connections/{REF}/secrets",
        json.dumps({"secret": "not-one", "key": "signing_secret"}),
        **JSON,
    )
    assert "begins with whsec_" in answer.json()["errors"]["signing_secret"]
    state = found().state
    saved = post(
        web,
        f"/connections/{REF}/secrets",
        secret=f" {NEXT}\n",
        key="signing_secret",
        ends="2027-03-01T00:00:00Z",
    )
    assert saved["state"] == state
    assert any(row["what"].startswith("Signing secret") for row in saved["due"])
    held = found().secrets()["signing_secret"]
    assert (held.kind, held.sent_to, held.client) == ("signing_secret", [], None)
    listed = web.get("/api/credentials", {"words": "kind:signing_secret"}).json()["items"]
    assert str(held.pk) in [row["id"] for row in listed]
    assert [pin["key"] for pin in saved["pins"] if pin["key"] == "signing_secret"] == []
    leak = post(web, "/leaks", text=f"it was {NEXT} in a log")
    assert NEXT not in json.dumps(leak)
    assert str(held.pk) in json.dumps(leak)
    exported = web.get("/api/inventory").content.decode()
    assert NEXT not in exported
    for row in Entry.objects.values():
        assert NEXT not in str(row)


def test_one_is_made_here_where_the_application_lets_us_choose(web, key):
    refused = web.post(f"/api/connections/{REF}/signing-secrets", **JSON)
    assert code(refused) == "signing-secret-held"
    found().held_secrets.filter(key="signing_secret").delete()
    made = post(web, f"/connections/{REF}/signing-secrets", 201)
    shown = post(web, f"/handovers/{made['handover']}/revelations")["value"]
    assert check(key, *signed(secret=shown)).status_code == 200
    post(web, f"/handovers/{made['handover']}/confirmations")
    assert check(key, *signed(id="call_2", secret=shown)).status_code == 200
    waiting = web.get("/api/handovers").json()
    assert made["handover"] in json.dumps(waiting)


class _Receiver(BaseHTTPRequestHandler):
    """A program of the firm that is called, and asks whether it was the application."""

    got: Queue[tuple[dict[str, str], bytes]]

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"]))
        self.got.put((dict(self.headers), body))
        self.send_response(204)
        self.end_headers()

    def log_message(self, *_: Any) -> None:
        pass


def test_the_application_itself_calls_when_a_ticket_changes(web, key, stand_ins):
    _Receiver.got = Queue()
    server = HTTPServer(("127.0.0.1", 0), _Receiver)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        screens = stand_ins.office("tickets", "production").rpartition("/")[0]
        office = OfficeVisitor(screens, "production")
        secret = office.make_signing_secret()
        connections.put_secret(morag(), found(), secret, key="signing_secret")
        office.web.post(
            f"{screens}/production/calls",
            data={"do": "save", "address": f"http://127.0.0.1:{server.server_port}/tickets"},
        )
        relayed = httpx.put(
            f"{found().values['api_base']}/tickets/7",
            json={"title": "Pump", "vessel": "Gannet"},
            auth=(found().values["username"], found().secrets()["password"].open().reveal()),
            verify=False,
        )
        assert relayed.status_code == 201, relayed.text
        headers, body = _Receiver.got.get(timeout=20)
    finally:
        server.shutdown()
    assert json.loads(body)["data"]["title"] == "Pump"
    assert check(key, headers, body).json()["id"].startswith("call_")
    assert check(key, headers, body.replace(b"Pump", b"Bomb")).json()["reason"] == "wrong"
