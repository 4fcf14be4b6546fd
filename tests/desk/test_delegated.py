"""Calling the API in a person's name: what a log-in at the command line gets, and when it ends."""

from __future__ import annotations

import base64
import hashlib
import json
from datetime import timedelta
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import pytest
import time_machine
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.desk.authority.house import delegated
from neatlatch.desk.authority.records.house.models import Access, RejectedRequest
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people import log_in
from neatlatch.desk.ground.people import services as people
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work import offboarding

from .conftest import PASSWORD, Setup

VERIFIER = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"  # RFC 7636 App. B
URI = "http://127.0.0.1:51234/login"


class LogIn:
    """What the command line holds after somebody allowed it."""

    def __init__(self, setup: Setup, role: str = "administrator", *rights: str) -> None:
        self.web = setup.web(role)
        told = WebClient().get("/api/command-line").json()
        path = urlsplit(told["metadata"]).path
        metadata = WebClient().get(path).json()
        self.token_path = urlsplit(metadata["token_endpoint"]).path
        digest = hashlib.sha256(VERIFIER.encode()).digest()
        asked = self.web.get(
            urlsplit(metadata["authorization_endpoint"]).path,
            {
                "response_type": "code",
                "client_id": told["client_id"],
                "redirect_uri": URI,
                "scope": " ".join(rights or ("read", "test", "change", "put-secrets")),
                "state": "s",
                "code_challenge": base64.urlsafe_b64encode(digest).rstrip(b"=").decode(),
                "code_challenge_method": "S256",
            },
        )
        identity = asked["Location"].rpartition("/")[2]
        answered = self.web.post(
            f"/api/house/requests/{identity}/answers",
            json.dumps({"allow": True}),
            content_type="application/json",
        ).json()
        back = urlsplit(answered["location"])
        assert back._replace(query="").geturl() == URI
        code = parse_qs(back.query)["code"][0]
        self.client_id = told["client_id"]
        self.given = self.token(
            grant_type="authorization_code", code=code, redirect_uri=URI, code_verifier=VERIFIER
        ).json()

    def token(self, **form: str) -> Any:
        return WebClient().post(
            self.token_path,
            urlencode({**form, "client_id": self.client_id}),
            content_type="application/x-www-form-urlencoded",
        )

    def renew(self) -> Any:
        return self.token(grant_type="refresh_token", refresh_token=self.given["refresh_token"])

    def call(self, method: str, path: str, body: Any = None, **headers: str) -> Any:
        return WebClient(enforce_csrf_checks=True).generic(
            method,
            f"/api{path}",
            b"" if body is None else json.dumps(body),
            content_type="application/json",
            headers={"Authorization": f"Bearer {self.given['access_token']}"} | headers,
        )


def test_what_is_done_bears_the_persons_name(setup: Setup) -> None:
    setup.latched()
    log_in_there = LogIn(setup)
    seen = log_in_there.call("GET", "/connections/sandbox/cargo")
    assert seen.status_code == 200, seen.content
    change = {"pace": 5}
    answer = log_in_there.call(
        "PATCH", "/connections/sandbox/cargo", change, **{"If-Match": seen["ETag"]}
    )
    assert answer.status_code == 200, answer.content
    by = Person.objects.get(role="administrator", grants_given__isnull=False)
    assert Entry.objects.filter(noun="connection").latest("number").who == by.username
    made = {"name": "Night run", "environment": "sandbox"}
    for _ in range(2):  # created once, however often the same request comes
        answer = log_in_there.call("POST", "/workloads", made, **{"Idempotency-Key": "k"})
        assert answer.status_code == 201, answer.content


def test_both_the_role_and_what_was_granted_bound_it(setup: Setup) -> None:
    setup.latched()
    reads = LogIn(setup, "administrator", "read")
    assert reads.call("GET", "/connections").status_code == 200
    answer = reads.call("POST", "/connections/sandbox/cargo/tests")
    assert (answer.status_code, answer.json()["code"]) == (403, "token-forbids")
    reader = LogIn(setup, "reader")
    assert reader.call("GET", "/connections").status_code == 200
    answer = reader.call("POST", "/connections/sandbox/cargo/tests")
    assert (answer.status_code, answer.json()["code"]) == (403, "role-forbids")


def test_what_requires_a_session_is_refused(setup: Setup) -> None:
    there = LogIn(setup)
    for method, path, body in (
        ("GET", "/session/sessions", None),
        ("POST", "/programs", {"name": "x", "environment": "sandbox", "rights": ["read"]}),
        ("GET", "/accounts", None),
        ("POST", "/session/passwords", {"password": PASSWORD, "new_password": "x" * 20}),
    ):
        answer = there.call(method, path, body)
        assert (answer.status_code, answer.json()["code"]) == (403, "person-required"), path
    # Rights to draw are for workloads, and nobody is asked for them.
    assert "draw" not in Client.objects.get(client_id="nlatch").scopes


def _password(person: Person) -> None:
    person.set_password("another-lantern-hawser")
    person.save()


def _role(person: Person) -> None:
    people.change(Person.objects.get(username="morag"), person, "reader", None)


def _access(person: Person) -> None:
    offboarding.change(Person.objects.get(username="morag"), person, None, False)


def _everywhere(person: Person) -> None:
    log_in.end_sessions(person, person)


def _revoked(_: Person) -> None:
    Access.objects.update(revoked=timezone.now())


ENDS = {
    "another password": (_password, "token of a log-in that ended"),
    "another role": (_role, "token of a log-in that ended"),
    "no access": (_access, "token revoked"),
    "logged out everywhere": (_everywhere, "token of a log-in that ended"),
    "revoked": (_revoked, "token revoked"),
}


@pytest.mark.parametrize("how", ENDS)
def test_it_ends_with_the_log_in(setup: Setup, how: str) -> None:
    ends, logged = ENDS[how]
    there = LogIn(setup, "operator")
    assert there.call("GET", "/connections").status_code == 200
    ends(Person.objects.get(role="operator"))
    answer = there.call("GET", "/connections")
    assert (answer.status_code, answer.json()["code"]) == (401, "token-refused")
    assert RejectedRequest.objects.latest("id").what == logged
    if how != "revoked":
        renewed = there.renew()
        assert (renewed.status_code, renewed.json()["error"]) == (400, "invalid_grant")


def test_it_ends_by_itself_and_is_renewed(setup: Setup) -> None:
    there = LogIn(setup)
    with time_machine.travel(timezone.now() + timedelta(seconds=901), tick=False):
        assert there.call("GET", "/connections").json()["code"] == "token-refused"
        there.given = there.renew().json()
        assert there.call("GET", "/connections").status_code == 200
    # A refresh token serves once; the second use ends the whole log-in.
    used = there.given["refresh_token"]
    there.given = there.renew().json()
    answer = there.token(grant_type="refresh_token", refresh_token=used)
    assert answer.status_code == 400
    assert there.call("GET", "/connections").status_code == 401


def test_tokens_of_others_do_not_call_the_api(setup: Setup) -> None:
    """One for another application, and one that nobody granted."""
    there = LogIn(setup)
    row = Access.objects.get()
    cargo = setup.client(setup.deployment())
    Access.objects.filter(pk=row.pk).update(client=cargo)
    assert there.call("GET", "/connections").status_code == 401
    assert RejectedRequest.objects.latest("id").what == "token for another application"
    Access.objects.filter(pk=row.pk).update(client=row.client, grant=None)
    assert there.call("GET", "/connections").status_code == 401
    assert RejectedRequest.objects.latest("id").what == "token of no person"
    answer = WebClient().get("/api/connections", headers={"Authorization": "Bearer a.b.c"})
    assert (answer.status_code, answer.json()["code"]) == (401, "token-refused")


def test_it_logs_in_where_most_is_at_stake(setup: Setup) -> None:
    environment = delegated.environment_of_logins()
    assert environment is not None
    assert environment.production
    Environment.objects.exclude(pk=environment.pk).delete()
    told = WebClient().get("/api/command-line").json()
    assert told["metadata"].endswith(f"/house/{environment.key}")
    assert "draw" not in told["scopes"]
