"""The API: roles, versions, repeated requests, problems, cookies and headers, a constant number of
queries.
"""

from __future__ import annotations

import importlib
import inspect
import json
import logging
import pkgutil
import threading
from datetime import timedelta
from typing import Any

import pytest
from django.conf import settings
from django.db import OperationalError, connection, connections
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext, override_settings
from django.utils import timezone

from neatlatch.cli import main
from neatlatch.desk import pages
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.journal import services as journal
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people import services as people
from neatlatch.desk.ground.people.models import Person, Session
from neatlatch.desk.ground.people.sessions import digest
from neatlatch.desk.work import offboarding
from neatlatch.desk.work.rounds.tasks import keep_house
from tests.refused import refused_with

from .conftest import PASSWORD, Setup

GETS = [
    "/api/today",
    "/api/applications",
    "/api/applications/cargo-manifests",
    "/api/clients?application=cargo-manifests",
    "/api/connections",
    "/api/connections/sandbox/cargo",
    "/api/connections/sandbox/cargo/tests",
    "/api/credentials",
    "/api/rounds",
    "/api/people",
    "/api/environments",
    "/api/search?words=cargo",
]
ROLES = ("reader", "operator", "administrator", "auditor")


def post(web: WebClient, address: str, body: Any = None, **headers: str) -> Any:
    return web.post(
        address, json.dumps(body or {}), content_type="application/json", headers=headers
    )


def patch(web: WebClient, address: str, body: Any, **headers: str) -> Any:
    return web.patch(address, json.dumps(body), content_type="application/json", headers=headers)


@pytest.mark.parametrize(
    ("address", "body", "field"),
    [
        ("/api/teams", {"name": "x" * 2001, "people": []}, "name"),
        ("/api/teams", {"name": "x", "people": ["y" * 2001]}, "people"),
        ("/api/connections/sandbox/cargo/sign-ins", {"back": "z" * 2001}, "back"),
    ],
)
def test_a_text_that_is_too_long_is_told_by_its_field(
    setup: Setup, address: str, body: Any, field: str
) -> None:
    setup.latched()
    told = post(setup.web(), address, body)
    assert (told.status_code, told.json()["errors"]) == (
        422,
        {field: "It is longer than 2000 characters."},
    )


@pytest.mark.parametrize("role", ROLES)
def test_what_each_role_may(setup: Setup, role: str) -> None:
    """DOMAIN §17: a reader looks, an operator tests, an administrator changes, an auditor reads the
    journal.
    """
    setup.latched()
    web = setup.web(role)
    assert {address: web.get(address).status_code for address in GETS} == dict.fromkeys(GETS, 200)
    assert web.get("/api/journal").status_code == (
        200 if role in ("auditor", "administrator") else 403
    )
    assert web.get("/api/journal/chain").status_code == (
        200 if role in ("auditor", "administrator") else 403
    )
    tested = post(web, "/api/rounds").status_code
    assert tested == (202 if role in ("operator", "administrator") else 403)
    change = {"values": {"redirect_uri": "https://x.example/r"}}
    assert patch(
        web, "/api/connections/sandbox/cargo", change, **{"If-Match": "*"}
    ).status_code == (200 if role == "administrator" else 403)
    for address, body in (
        ("/api/people", {"username": "x", "role": "reader", "password": PASSWORD}),
        ("/api/redirect-uris/lint", {"uri": "x"}),
    ):
        allowed = role == "administrator" or "lint" in address
        assert (post(web, address, body).status_code < 300) == allowed, address


def test_nobody_sees_nothing(setup: Setup) -> None:
    setup.latched()
    web = WebClient()
    for address in [*GETS, "/api/journal"]:
        answer = web.get(address)
        assert answer.status_code == 401, address
        assert answer["Content-Type"] == "application/problem+json"
    assert web.get("/api/session").json()["person"] is None


def test_nothing_of_the_api_is_kept_by_a_browser(setup: Setup) -> None:
    """L13."""
    setup.latched()
    web = setup.web()
    for address in [*GETS, "/api/session", "/api/nothing", "/api/openapi.json"]:
        assert web.get(address)["Cache-Control"] in ("no-store", "no-cache, no-store"), address
    assert WebClient().get("/api/openapi.json").status_code == 401
    assert "paths" in web.get("/api/openapi.json").json()


def test_two_administrators_do_not_overwrite_each_other(setup: Setup) -> None:
    setup.latched()
    Person.objects.create_user("other", password=PASSWORD, role="administrator")
    first, second = setup.web(), setup.web("other")
    seen = first.get("/api/connections/sandbox/cargo")["ETag"]
    assert second.get("/api/connections/sandbox/cargo")["ETag"] == seen
    assert (
        patch(
            second, "/api/connections/sandbox/cargo", {"pace": 9}, **{"If-Match": seen}
        ).status_code
        == 200
    )
    refused = patch(first, "/api/connections/sandbox/cargo", {"pace": 5}, **{"If-Match": seen})
    assert refused.status_code == 412
    assert refused.json()["detail"].startswith(
        "other: pace: 10.0 became 9.0. Nothing of yours was saved"
    )
    assert [(item["by"], item["changes"]) for item in refused.json()["meanwhile"]] == [
        ("other", ["pace: 10.0 became 9.0"])
    ]
    assert patch(first, "/api/connections/sandbox/cargo", {"pace": 5}).status_code == 428
    for no_tag in (
        seen.strip('"'),
        f"{seen[:-1]}",
        f"{seen} {seen}",
        "",
    ):  # nobody changed anything meanwhile, so it does not say so
        assert (
            patch(
                first, "/api/connections/sandbox/cargo", {"pace": 5}, **{"If-Match": no_tag}
            ).status_code
            == 400
        )
    # compared strongly (RFC 9110 §13.1.1)
    weak = f"W/{second.get('/api/connections/sandbox/cargo')['ETag']}"
    assert (
        patch(
            first, "/api/connections/sandbox/cargo", {"pace": 5}, **{"If-Match": weak}
        ).status_code
        == 412
    )
    assert Connection.objects.get().pace == 9


def test_two_administrators_editing_the_same_client(setup: Setup) -> None:
    client = setup.client(setup.deployment(), "manifest.read")
    Person.objects.create_user("other", password=PASSWORD, role="administrator")
    first, second = setup.web(), setup.web("other")
    address = f"/api/clients/{client.pk}"
    seen = first.get(address)["ETag"]
    wide = ["http://127.0.0.1:8600/return", "https://desk.gannet.example/return"]
    assert patch(second, address, {"redirect_uris": wide}, **{"If-Match": seen}).status_code == 200
    newer = second.get(address)["ETag"]
    assert (
        patch(
            second, address, {"scopes": ["manifest.read", "berth.read"]}, **{"If-Match": newer}
        ).status_code
        == 200
    )
    refused = patch(
        first, address, {"redirect_uris": ["http://127.0.0.1:8600/return"]}, **{"If-Match": seen}
    )
    assert refused.status_code == 412
    assert [item["changes"] for item in refused.json()["meanwhile"]] == [
        ["redirect URIs: https://desk.gannet.example/return added"],
        ["scopes: berth.read added"],
    ]
    assert (
        "other: redirect URIs: https://desk.gannet.example/return added. other: scopes: "
        "berth.read added." in refused.json()["detail"]
    )
    # The application holds the same: reading it back from there finds nothing that differs.
    read = post(first, f"{address}/readings").json()
    assert (read["redirect_uris"], sorted(read["scopes"]), read["version"]) == (
        wide,
        ["berth.read", "manifest.read"],
        client.version + 2,
    )


def test_creation_can_be_repeated(setup: Setup) -> None:
    client = setup.client(setup.deployment(), "manifest.read")
    web = setup.web()
    draft = web.get(
        f"/api/connections/drafts/cargo-manifests/sandbox/oauth2_code?client={client.pk}"
    ).json()
    body = {
        "name": draft["name"],
        "application": "cargo-manifests",
        "environment": "sandbox",
        "scheme": "oauth2_code",
        "client": str(client.pk),
        "values": draft["values"],
        "scopes": ["manifest.read"],
    }
    answers = [post(web, "/api/connections", body, **{"Idempotency-Key": "k1"}) for _ in range(2)]
    assert [answer.status_code for answer in answers] == [201, 201]
    assert answers[0].json()["ref"] == answers[1].json()["ref"] == "sandbox/cargo-manifests"
    assert Connection.objects.count() == 1
    other = post(web, "/api/connections", {**body, "name": "x"}, **{"Idempotency-Key": "k1"})
    assert other.status_code == 422
    taken = post(web, "/api/connections", body)
    assert taken.json()["errors"]["name"] == "The name sandbox/cargo-manifests is taken."
    now = timezone.now()
    assert (
        guard.forget_old(now + timedelta(days=6)),
        guard.forget_old(now + timedelta(days=8)),
    ) == (0, 1)
    assert (
        post(web, "/api/connections", body, **{"Idempotency-Key": "k1"}).status_code == 422
    )  # it is a new wish by then


def test_sessions_that_ended_are_cleared_away(setup: Setup) -> None:
    living, ended = setup.web(), setup.web()
    Session.objects.filter(pk=digest(ended.cookies[settings.SESSION_COOKIE_NAME].value)).update(
        expire_date=timezone.now() - timedelta(minutes=1)
    )
    keep_house()
    assert [session.pk for session in Session.objects.all()] == [
        digest(living.cookies[settings.SESSION_COOKIE_NAME].value)
    ]


def test_what_is_wrong_is_said_by_field_and_what_was_sent_is_not_repeated(setup: Setup) -> None:
    setup.deployment()
    web = setup.web()
    body = {
        "name": "Not A Name",
        "application": "cargo-manifests",
        "environment": "sandbox",
        "scheme": "oauth2_code",
        "scopes": ["a b"],
        "secrets": {"client_secret": "hush"},
    }
    answer = post(web, "/api/connections", body)
    assert answer.status_code == 422
    assert {"name", "issuer", "scopes", "redirect_uri"} <= set(answer.json()["errors"])
    answer = post(
        web, "/api/connections", {**body, "secrets": {"client_secret": {"hush": "hush-value"}}}
    )
    assert answer.status_code == 422
    assert "hush-value" not in answer.content.decode()
    assert web.get("/api/connections/sandbox/none").json()["code"] == "not-found"
    assert web.get("/api/nowhere").status_code == 404


def test_a_field_that_is_not_known_is_refused_by_name(setup: Setup) -> None:
    """A mistyped name would change nothing and look as if it had."""
    setup.latched()
    web = setup.web()
    answer = patch(
        web, "/api/connections/sandbox/cargo", {"values": {}, "time_limitt": 9}, **{"If-Match": "*"}
    )
    assert (answer.status_code, answer.json()["errors"]) == (
        422,
        {"time_limitt": "There is no field “time_limitt”."},
    )
    rule = {"effect": "allow", "who": "*", "operation": "read", "origin": ["10.0.0.0/8"]}
    told = web.put(
        "/api/access-rules/cargo-manifests/sandbox",
        json.dumps({"rules": [rule]}),
        content_type="application/json",
        headers={"If-Match": "*"},
    )
    assert told.json()["errors"] == {"rules.0.origin": "There is no field “origin”."}


def test_an_answer_names_no_more_than_some_of_many_wrong_fields(setup: Setup) -> None:
    setup.deployment()
    web = setup.web()
    many = {f"{'k' * 5_000}{number}": 1 for number in range(101)}
    answer = post(web, "/api/redirect-uris/lint", many)
    assert (answer.status_code, list(answer.json()["errors"].values())) == (
        422,
        ["There are more than 100 fields."],
    )
    answer = post(web, "/api/redirect-uris/lint", dict(list(many.items())[:99]))
    assert answer.status_code == 422
    assert len(answer.content) < 20_000
    told = web.put(
        "/api/access-rules/cargo-manifests/sandbox",
        json.dumps({"rules": [1] * 5_000}),
        content_type="application/json",
        headers={"If-Match": "*"},
    )
    assert (told.status_code, len(told.json()["errors"])) == (422, 50)


@pytest.mark.parametrize(
    ("ends", "says"),
    [
        ("2027-01-01", "Say its zone as well: 2027-01-31T12:00:00Z."),
        ("2027-01-01T09:00:00", "Say its zone as well: 2027-01-31T12:00:00Z."),
        ("0001-01-01T00:00:00+14:00", "Choose a moment between 1971 and 2199."),
        ("9999-12-31T23:00:00-14:00", "Choose a moment between 1971 and 2199."),
    ],
)
def test_a_moment_is_wanted_with_its_zone_and_within_reason(
    setup: Setup, ends: str, says: str
) -> None:
    setup.latched()
    answer = post(
        setup.web(),
        "/api/connections/sandbox/cargo/secrets",
        {"secret": "s3cret-of-nobody", "ends": ends},
    )
    assert (answer.status_code, answer.json()["errors"]) == (422, {"ends": says})


@pytest.mark.parametrize("method", ["get", "post"])
@pytest.mark.parametrize(
    "address",
    [
        "/api/x",
        "/draw/",
        "/draw/a/b/c",
        "/relay",
        "/relay/",
        "/house",
        "/house/sandbox/tokn",
        "/.well-known/x",
        "/static/x.js",
    ],
)
def test_a_mistyped_address_of_programs_is_not_answered_with_a_page(
    db: None, address: str, method: str
) -> None:
    answer = getattr(WebClient(enforce_csrf_checks=True), method)(address)
    assert (answer.status_code, answer["Content-Type"]) == (404, "application/problem+json")


@pytest.mark.parametrize("mib", [1, 9])  # above what is read, and above Django's own limit
def test_a_body_that_is_too_large_is_refused_in_the_words_of_the_protocol(
    setup: Setup, mib: int
) -> None:
    answer = WebClient().post(
        "/house/sandbox/token",
        b"grant_type=" + b"x" * (mib << 20),
        content_type="application/x-www-form-urlencoded",
    )
    assert (answer.status_code, answer.json()["error_description"]) == (
        400,
        "The body is too large",
    )


def test_adding_by_a_bad_address_says_why(setup: Setup) -> None:
    web = setup.web()
    body = {"name": "X", "environment": "sandbox"}
    for address, said in (
        ("ids.example", "scheme"),
        ("https://localhost:9/", "could not be reached"),
        ("http://169.254.169.254/", "could not be reached"),
        (f"{setup.stand_ins.issuer()}/nowhere", "answered 404"),
    ):
        answer = post(web, "/api/applications", {**body, "metadata_address": address})
        assert answer.status_code == 422, answer.content
        assert said in answer.json()["errors"]["metadata_address"], address
    answer = post(
        web,
        "/api/applications",
        {
            **body,
            "issuer": "https://a.example",
            "token_endpoint": "http://a.example/t",
            "api_base": "",
        },
    )
    assert set(answer.json()["errors"]) == {"token_endpoint", "api_base"}


def test_an_application_is_added_by_hand(setup: Setup) -> None:
    web = setup.web()
    body = {
        "name": "Tide tables",
        "environment": "sandbox",
        "issuer": "https://t.example",
        "token_endpoint": "https://t.example/t",
        "api_base": "https://t.example/api",
    }
    answer = post(web, "/api/applications", body)
    assert answer.status_code == 201
    assert [scheme["key"] for scheme in answer.json()["schemes"]] == ["oauth2_client"]
    assert (
        post(web, "/api/applications", body)
        .json()["errors"]["environment"]
        .startswith("Tide tables is in Sandbox already")
    )


@pytest.mark.parametrize(
    "address",
    [
        "/api/connections",
        "/api/today",
        "/api/credentials",
        "/api/applications",
        "/api/rounds",
        "/api/clients?application=cargo-manifests",
        "/api/search?words=c",
    ],
)
def test_lists_take_a_constant_number_of_queries(setup: Setup, address: str) -> None:
    web, counts = setup.web(), []
    setup.latched(name="c1")
    for more in ((), ("c2", "c3", "c4")):
        for name in more:
            setup.latched(name=name)
        with CaptureQueriesContext(connection) as seen:
            assert web.get(address).status_code == 200
        counts.append(len(seen))
    assert counts[0] == counts[1]


def test_the_filter_takes_plain_and_field_words(setup: Setup) -> None:
    setup.latched(name="north")
    setup.latched(name="south")
    web = setup.web()
    patch(
        web,
        "/api/connections/sandbox/south",
        {"values": {"redirect_uri": "https://x.example/r"}},
        **{"If-Match": "*"},
    )

    def refs(words: str) -> list[str]:
        return [
            item["ref"] for item in web.get("/api/connections", {"words": words}).json()["items"]
        ]

    assert refs("") == ["sandbox/north", "sandbox/south"]
    assert refs("nor") == ["sandbox/north"]
    assert refs("env:sandbox pin:redirect") == ["sandbox/south"]
    assert refs("state:not cargo") == ["sandbox/north", "sandbox/south"]
    assert refs("env:production") == []


def test_pages_follow_one_another(setup: Setup) -> None:
    web = setup.web()
    for number in range(105):
        journal.write(setup.by, "counted", "thing", str(number))
    first = web.get("/api/journal").json()
    second = web.get("/api/journal", {"cursor": first["next"]}).json()
    numbers = [item["number"] for item in first["items"] + second["items"]]
    assert numbers == list(range(Entry.objects.count(), 0, -1))
    assert second["next"] is None
    assert web.get("/api/journal", {"cursor": "é"}).status_code == 422


# Logging in


def log_in(web: WebClient, password: str, username: str = "morag") -> Any:
    return post(web, "/api/session", {"username": username, "password": password})


def test_lock_out_after_repeated_wrong_passwords(setup: Setup) -> None:
    web = WebClient()
    statuses = [log_in(web, "wrong").status_code for _ in range(6)]
    assert statuses[0] == 401
    assert statuses[-1] == 429
    refused = log_in(web, PASSWORD)
    assert refused.status_code == 429
    assert refused.json()["code"] == "too-many-wrong-passwords"
    assert (
        Entry.objects.filter(did="locked out", ref="morag").count() == 1
    )  # and not one for each try (M11)


def test_cookies_and_headers(setup: Setup) -> None:
    with override_settings(SESSION_COOKIE_SECURE=True, CSRF_COOKIE_SECURE=True):
        web = WebClient()
        answer = log_in(web, PASSWORD)
    assert answer.status_code == 200
    session = web.cookies["neatlatch"]
    assert session["httponly"]
    assert session["secure"]
    assert session["samesite"] == "Lax"
    page = web.get("/")
    policy = page["Content-Security-Policy"]
    assert "script-src 'self'" in policy
    assert "unsafe" not in policy
    assert "default-src 'none'" in policy
    assert page["X-Frame-Options"] == "DENY"
    assert page["X-Content-Type-Options"] == "nosniff"


def test_a_request_from_another_page_is_refused(setup: Setup) -> None:
    web = WebClient(enforce_csrf_checks=True)
    assert log_in(web, PASSWORD).status_code == 403
    token = web.get("/api/session").json()["csrf"]
    web.post(
        "/api/session",
        json.dumps({"username": "morag", "password": PASSWORD}),
        content_type="application/json",
        headers={"X-CSRFToken": token},
    )
    refused = post(web, "/api/rounds")
    assert refused.status_code == 403
    assert refused["Content-Type"] == "application/problem+json"


def test_plain_http_is_refused_but_on_loopback() -> None:
    import subprocess
    import sys

    code = (
        "import os; os.environ['NEATLATCH_URL'] = 'http://latch.gannet.example'; import "
        "neatlatch.desk.settings"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert "must be https" in done.stderr


# People


def test_two_administrators_cannot_end_each_other_in_one_moment(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Who is the last is asked while nobody else can write."""
    other = Person.objects.create_user("ann", password=PASSWORD, role="administrator")
    asked, tried = threading.Event(), threading.Event()
    asks = people.is_last_administrator

    def slowly(person: Person) -> bool:
        answer = asks(person)
        asked.set()
        assert tried.wait(60)
        return answer

    monkeypatch.setattr(people, "is_last_administrator", slowly)
    first = threading.Thread(
        target=lambda: (offboarding.leave(setup.by, other), connections.close_all())
    )
    first.start()
    assert asked.wait(60)
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA busy_timeout=1")
        with pytest.raises(OperationalError, match="locked"):
            people.change(other, setup.by, "reader", None)
    connection.close()  # the next one is as patient as usual
    tried.set()
    first.join()
    with refused_with("invalid-fields"):
        people.change(other, setup.by, "reader", None)
    assert [
        person.username for person in Person.objects.filter(role="administrator", is_active=True)
    ] == ["morag"]


def test_the_last_administrator_remains(setup: Setup) -> None:
    web = WebClient()
    web.force_login(setup.by, backend="django.contrib.auth.backends.ModelBackend")
    answer = patch(web, "/api/people/morag", {"role": "reader"})
    assert "last administrator" in answer.json()["errors"]["role"]
    assert (
        "last administrator"
        in patch(web, "/api/people/morag", {"active": False}).json()["errors"]["role"]
    )
    weak = post(web, "/api/people", {"username": "ann", "role": "reader", "password": "ann"})
    assert "password" in weak.json()["errors"]
    assert (
        post(
            web, "/api/people", {"username": "ann", "role": "reader", "password": PASSWORD}
        ).status_code
        == 201
    )
    assert "ann" in [item["username"] for item in web.get("/api/people").json()["items"]]
    again = post(web, "/api/people", {"username": "ANN", "role": "king", "password": PASSWORD})
    assert set(again.json()["errors"]) == {"username", "role"}


def test_the_command_line_adds_a_person(
    setup: Setup, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("NLATCH_PASSWORD", "short")
    assert main(["person", "add", "rhona", "--role", "auditor"]) == 2
    monkeypatch.setenv("NLATCH_PASSWORD", PASSWORD)
    assert main(["person", "add", "rhona", "--role", "auditor"]) == 0
    assert "as an auditor" in capsys.readouterr().out


def test_an_unforeseen_error_is_not_told_to_the_caller(
    setup: Setup, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def stumble(*args: Any) -> None:
        raise KeyError("inner detail")

    setup.latched()
    monkeypatch.setattr("neatlatch.desk.pages.today.ending.soonest", stumble)
    web = setup.web()
    web.raise_request_exception = False
    with caplog.at_level(logging.CRITICAL):
        answer = web.get("/api/today")
    assert (answer.status_code, answer.json()["code"]) == (500, "internal-error")
    assert "inner detail" not in answer.content.decode()


def test_a_change_at_the_provider_makes_its_connections_not_proven(setup: Setup) -> None:
    made = setup.latched()
    assert setup.test(made).passed
    web, client = setup.web(), Connection.objects.get().client
    assert Connection.objects.get().state == "latched"
    answer = patch(
        web, f"/api/clients/{client.pk}", {"scopes": ["manifest.read"]}, **{"If-Match": "*"}
    )
    assert answer.status_code == 200, answer.content
    found = web.get("/api/connections/sandbox/cargo").json()
    assert found["state"] == "not_proven"
    assert {pin["key"] for pin in found["pins"] if pin["fit"] == "differs"} == {"scopes"}


@pytest.mark.parametrize(
    "path", ["/api/session", "/draw", "/relay/x/y", "/house/sandbox/jwks", "/"]
)
def test_another_hosts_name_is_refused_in_words(db: None, path: str) -> None:
    answer = WebClient().get(path, headers={"Host": "elsewhere.example"})
    assert (answer.status_code, answer["Content-Type"]) == (400, "application/problem+json")
    assert "127.0.0.1" not in answer.content.decode()  # ours is not told


def test_no_two_shapes_of_the_api_have_the_same_name(db: None) -> None:
    """The description knows shapes by name alone: one would be described as the other."""
    where: dict[str, set[str]] = {}
    for info in pkgutil.walk_packages(pages.__path__, f"{pages.__name__}."):
        module = importlib.import_module(info.name)
        for name, found in vars(module).items():
            if inspect.isclass(found) and found.__module__ == module.__name__ and name[0] != "_":
                where.setdefault(name, set()).add(module.__name__)
    assert len(where) > 200
    assert {name: modules for name, modules in where.items() if len(modules) > 1} == {}
