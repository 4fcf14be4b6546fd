"""Over every operation of the OpenAPI document: who may do it, that no other page can have it done,
and that no text breaks it.
"""

from __future__ import annotations

import json
from typing import Any
from urllib.parse import quote

import pytest
from django.conf import settings
from django.test import Client as WebClient

from neatlatch.core.program_tokens import ProgramRight
from neatlatch.desk.authority.house import programs
from neatlatch.desk.estate.credentials import services as credentials
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.estate.workloads.services import WorkloadFields
from neatlatch.desk.ground.common.request_bodies import LONGEST, USUAL
from neatlatch.desk.ground.people.models import Person

from .conftest import PASSWORD, Setup
from .operations import UNSAFE, Operation, operations, put, texts, who_may

EVERY = operations()
ALL = {"reader", "operator", "administrator", "auditor"}
WITH_A_TOKEN = {f"a program that may {right}" for right in ProgramRight}
# Programs whose token lets them read: these rights imply it.
READS = WITH_A_TOKEN - {f"a program that may {right}" for right in ("people", "draw", "metrics")}
MAY = {
    "anybody": {"nobody", "a program", *ALL, *WITH_A_TOKEN},
    "own": ALL,
    "look": ALL | READS,
    "test": {"operator", "administrator", "a program that may test"},
    "change": {"administrator", "a program that may change"},
    "people": {"administrator", "a program that may people"},
    "secrets": {"administrator", "a program that may put-secrets"},
    "both": {"administrator"},
    "journal": {"administrator", "auditor", *READS},
}
REFUSED = {"not-logged-in", "role-forbids", "token-forbids", "token-refused", "person-required"}


def may(who: str, caller: str) -> bool:
    """Whether a line of the table names a caller."""
    return caller in MAY[who.rstrip("*")] and not (who.endswith("*") and caller in WITH_A_TOKEN)


def send(
    web: WebClient, operation: Operation, body: Any = None, address: str = "", **headers: str
) -> Any:
    text = json.dumps(operation.body() if body is None else body)
    return web.generic(
        operation.method.upper(),
        address or operation.address,
        text,
        content_type="application/json",
        headers={"If-Match": "*"} | headers,
    )


def code(answer: Any) -> str:
    return (
        str(answer.json().get("code", ""))
        if answer.headers.get("Content-Type", "").startswith("application/problem+json")
        else ""
    )


def listed(wrong: dict[str, Any]) -> str:
    """One line for each, so that a failed test names them all."""
    return "\n" + "\n".join(f"{name}: {told}" for name, told in wrong.items())


def logged_in(role: str, **how: Any) -> WebClient:
    person = Person.objects.filter(role=role).first() or Person.objects.create_user(
        role, password=PASSWORD, role=role
    )
    client = WebClient(**how)
    client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
    return client


def test_every_operation_has_a_line_in_the_table_and_no_line_is_left_over() -> None:
    assert {operation.name for operation in EVERY} == set(who_may())


@pytest.mark.parametrize("caller", ["nobody", "a program", *sorted(ALL), *sorted(WITH_A_TOKEN)])
def test_who_may_do_what(setup: Setup, caller: str) -> None:
    """Each operation as each caller, at things that are not there: who may not is told so before
    anything else is looked at.
    """
    table, wrong = who_may(), {}
    headers: dict[str, str] = {}
    if caller == "a program":
        headers["Authorization"] = (
            "Bearer nl_a-key-of-a-program-which-the-api-for-people-does-not-know"
        )
    elif caller in WITH_A_TOKEN:
        headers["Authorization"] = f"Bearer {token_of(setup, caller.rpartition(' ')[2])}"
    for operation in EVERY:
        web = WebClient(raise_request_exception=False)
        if caller in ALL:
            web = logged_in(caller, raise_request_exception=False)
        answer = send(web, operation, **headers)
        refused = code(answer) in REFUSED
        if refused is may(table[operation.name], caller) or answer.status_code >= 500:
            wrong[operation.name] = (
                answer.status_code,
                table[operation.name],
                answer.content[:160],
            )
    assert not wrong, listed(wrong)


# What names no environment in its address: lists show the caller's own, and look-ups ask.
OPEN_TO_NARROWED = {
    "GET /api/connections",
    "POST /api/connections",
    "POST /api/set-ups",
    "GET /api/clients",
    "POST /api/clients",
    "GET /api/workloads",
    "POST /api/workloads",
    "GET /api/credentials",
    "GET /api/schemes",
    "GET /api/shipped-profiles",
    "GET /api/account-statuses",
    "POST /api/account-links",
    # A file is looked at object by object, and an import is shown to whose it is.
    "POST /api/inventory/previews",
    "POST /api/inventory/imports",
    "GET /api/inventory/imports/{identity}",
}


def test_a_token_for_one_environment_is_refused_every_operation_of_another(setup: Setup) -> None:
    table, wrong = who_may(), {}
    token = token_of(setup, *SOMEWHERE, only_in=["sandbox"])
    for operation in EVERY:
        if table[operation.name] == "anybody" or operation.name in OPEN_TO_NARROWED:
            continue
        address = operation.address.replace("sandbox", "staging")
        answer = send(WebClient(), operation, address=address, Authorization=f"Bearer {token}")
        if (answer.status_code, code(answer)) != (403, "token-narrowed"):
            wrong[operation.name] = (answer.status_code, answer.content[:160])
    assert not wrong, listed(wrong)


# Rights that can hold in some environments only, and name no workload.
SOMEWHERE = ["read", "test", "change", "put-secrets"]


def token_of(setup: Setup, *rights: str, only_in: list[str] | None = None) -> str:
    """A program's token with these rights, in all environments or some."""
    environment = Environment.objects.get(key="sandbox")
    draws_for = []
    if "draw" in rights:
        workloads.add(setup.by, WorkloadFields("Night run", "sandbox"))
        draws_for = ["sandbox/Night run"]
    fields = programs.ProgramFields(
        f"Program to {', '.join(rights)}", rights, only_in, draws_for=draws_for
    )
    _, handover = programs.register(setup.by, environment, fields)
    return credentials.show(setup.by, handover)[1]


@pytest.mark.parametrize(
    "how", ["no token", "a wrong token", "the right token from another origin"]
)
def test_no_other_page_can_have_anything_done(setup: Setup, how: str) -> None:
    """Every operation that may change something, sent by a browser that is logged in, from
    elsewhere.
    """
    web = logged_in("administrator", enforce_csrf_checks=True, raise_request_exception=False)
    right = web.get("/api/session").json()["csrf"]
    headers = {
        "no token": {},
        "a wrong token": {"X-CSRFToken": "x" * len(right)},
        "the right token from another origin": {
            "X-CSRFToken": right,
            "Origin": "https://elsewhere.example",
        },
    }[how]
    done = {}
    for operation in EVERY:
        if operation.method in UNSAFE:
            answer = send(web, operation, **headers)
            if answer.status_code != 403:
                done[operation.name] = (answer.status_code, answer.content[:160])
    assert not done, listed(done)
    # The same with the right token of our own page is let through to the operation itself.
    assert (
        send(
            web,
            next(
                operation for operation in EVERY if operation.name == "PUT /api/session/preferences"
            ),
            **{"X-CSRFToken": right},
        ).status_code
        == 200
    )


WITH_TEXTS = [
    (operation, path) for operation in EVERY if operation.schema for path in texts(operation.schema)
]
STRANGE = {
    "too long": lambda field: "x" * (LONGEST.get(field, USUAL) + 1),
    "lone surrogate": lambda _: "a\ud800b",
    "NUL": lambda _: "a\0b",
}


@pytest.mark.parametrize("kind", STRANGE)
def test_no_text_of_a_body_breaks_an_operation(setup: Setup, kind: str) -> None:
    """4xx, and a problem that names the field; whatever else is right or wrong with the body."""
    web, wrong = logged_in("administrator", raise_request_exception=False), {}
    for one, path in WITH_TEXTS:
        if "session" in one.path and one.method == "delete":
            continue
        field = str(path[0])
        if kind == "too long" and LONGEST.get(field, USUAL) > 1_000_000:
            continue  # longer than any body: the next test
        answer = send(web, one, put(one.body(whole=True), path, STRANGE[kind](field)))
        if answer.status_code not in (413, 422) or not code(answer):
            wrong[f"{one.name} {path}"] = (answer.status_code, answer.content[:160])
    assert not wrong, listed(wrong)
    assert len(WITH_TEXTS) > 150


def test_a_body_above_all_limits_is_refused(setup: Setup) -> None:
    web = logged_in("administrator", raise_request_exception=False)
    one = next(operation for operation in EVERY if operation.name == "POST /api/intakes")
    answer = send(web, one, {"text": "x" * (settings.DATA_UPLOAD_MAX_MEMORY_SIZE + 1)})
    assert answer.status_code == 413
    assert code(answer)


@pytest.mark.parametrize(
    "text",
    [
        "x" * 3_000,
        "%00",
        "%ED%A0%80",
        quote("\U0010ffff"),
        "%25%00" * 40,
        quote('"') + "-" * 500,
        quote("a " * 1500),
        "99999999999999999999",
    ],
)
def test_no_text_of_an_address_breaks_an_operation(setup: Setup, text: str) -> None:
    """In the path and in the query: an answer, or 4xx, and never 5xx."""
    web, wrong = logged_in("administrator", raise_request_exception=False), {}
    for operation in EVERY:
        for told in operation.told.get("parameters", []):
            if operation.method != "get" and told["in"] == "query":
                continue
            before, _, query = operation.address.partition("?")
            if told["in"] == "query":
                address = f"{before}?{told['name']}={text}"
            else:
                address = operation.path.replace(f"{{{told['name']}}}", text)
                for other in operation.told["parameters"]:
                    address = address.replace(
                        f"{{{other['name']}}}",
                        "nothing"
                        if other["schema"].get("format") != "uuid"
                        else "00000000-0000-0000-0000-000000000000",
                    )
                address += f"?{query}" if query else ""
            answer = send(web, operation, address=address)
            if answer.status_code >= 500:
                wrong[f"{operation.name} {told['name']}"] = (
                    answer.status_code,
                    answer.content[:160],
                )
    assert not wrong, listed(wrong)
