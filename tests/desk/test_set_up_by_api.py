"""A set-up from nothing to latched, and on to the next environment, by the API alone; and what it
refuses at each step.
"""

from __future__ import annotations

import json
import re
from typing import Any

import httpx
import pytest
from django.test import Client as WebClient

from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.applications.shipped import shipped
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.journal.models import Entry
from tests.harness import NOBODY, wait_until

from .conftest import Setup

KINDS = [  # profile, office, root folder, role, what the office calls what it hands out
    ("fare-kiosks", "fares", "", "clerk", {"API key": "api_key"}, {}),
    ("passenger-messages", "messages", "", "sender", {"API key": "api_key"}, {}),
    ("lost-property", "lost", "", "clerk", {"Token": "token"}, {}),
    (
        "repair-tickets",
        "tickets",
        "/workshop",
        "agent",
        {"User name": "username", "Password": "password"},
        {"username": "User name"},
    ),
    (
        "tide-tables",
        "tides",
        "",
        "read-and-write",
        {
            "Client key": "client_key",
            "Client secret": "client_secret",
            "Token": "token_id",
            "Token secret": "token_secret",
        },
        {"client_key": "Client key", "token_id": "Token"},
    ),
]


def post(web: WebClient, address: str, body: Any = None, wanted: int = 200, **headers: str) -> Any:
    answer = web.post(
        address, json.dumps(body or {}), content_type="application/json", headers=headers
    )
    assert answer.status_code == wanted, answer.content
    return answer.json()


def deployment(
    setup: Setup, profile: str, office: str, root: str = "", environment: str = "sandbox"
) -> None:
    kept = shipped()[profile]
    applications.add_manually(
        setup.by,
        kept["name"],
        environment,
        {"api_base": setup.stand_ins.secured(office, environment) + root},
        kept["profile"],
    )


def hand_out(setup: Setup, office: str, role: str, environment: str = "sandbox") -> dict[str, str]:
    base = setup.stand_ins.office(office, environment)
    page = httpx.post(
        f"{base}/make",
        data={"name": "api", "account": f"svc-{office}", "role": role},
        verify=NOBODY,
    ).text
    if code := re.search(r"id=slip>(\d+)<", page):
        key = re.search(r"name=key value='([^']+)'", page)
        assert key is not None
        page = httpx.post(f"{base}/show", data={"key": key[1], "code": code[1]}, verify=NOBODY).text
    return dict(re.findall(r"<th>([^<]+)<td><code>([^<]+)</code>", page))


def run_test(web: WebClient, ref: str, last: str = "") -> dict[str, Any]:
    begun = post(web, f"/api/connections/{ref}/tests{f'?last={last}' if last else ''}", {}, 202)
    wait_until(
        lambda: web.get(f"/api/tests/{begun['id']}").json()["state"] == "done", what="the test"
    )
    found: dict[str, Any] = web.get(f"/api/tests/{begun['id']}").json()
    return found


@pytest.mark.parametrize(
    ("profile", "office", "root", "role", "values", "facts"), KINDS, ids=[kind[0] for kind in KINDS]
)
def test_from_nothing_to_latched(
    setup: Setup,
    profile: str,
    office: str,
    root: str,
    role: str,
    values: dict[str, str],
    facts: dict[str, str],
) -> None:
    deployment(setup, profile, office, root)
    web = setup.web()
    scheme = web.get(f"/api/applications/{profile}").json()["schemes"][0]["key"]
    begun = post(
        web,
        "/api/set-ups",
        {"application": profile, "environment": "sandbox", "scheme": scheme, "name": ""},
        201,
    )
    ref = begun["ref"]
    assert ref == f"sandbox/{profile}"
    assert Connection.objects.get(
        ref=ref
    ).paused  # nobody wants a round to fail on what is half set up

    client = post(
        web,
        "/api/clients",
        {
            "application": profile,
            "environment": "sandbox",
            "name": "Ferries",
            "scheme": scheme,
            "by_protocol": False,
        },
        201,
    )
    post(web, f"/api/connections/{ref}/clients", {"client": client["id"]})
    shown = hand_out(setup, office, role)
    noted = {
        "rights": [role],
        "account": f"svc-{office}",
        "account_kind": "service",
        "facts": {key: shown[label] for key, label in facts.items()},
    }
    post(web, f"/api/clients/{client['id']}/facts", noted)
    for step in client["steps"]:
        post(
            web, f"/api/clients/{client['id']}/completed-steps", {"key": step["key"], "done": True}
        )
    before = web.get(f"/api/connections/{ref}/set-up").json()
    assert before["next"] == "ours"
    text = "\n".join(f"{key}={shown[label]}" for label, key in values.items())
    looked = post(web, "/api/intakes", {"text": text, "connection": ref})
    assert {item["key"] for item in looked["placed"]} == set(values.values())
    taken = post(web, f"/api/connections/{ref}/intakes", {"text": text})
    secrets = [
        credential.open().reveal()
        for credential in Credential.objects.filter(holders__connection__ref=ref)
    ]
    assert secrets
    assert not any(secret in json.dumps([looked, taken]) for secret in secrets)
    assert web.get(f"/api/connections/{ref}/set-up").json()["next"] == "test"

    alone = run_test(web, ref, "sign_in")
    assert [rung["rung"] for rung in alone["rungs"]] == ["find", "reach", "secure", "sign_in"]
    assert (
        web.get(f"/api/connections/{ref}/set-up").json()["next"] == "test"
    )  # the credential alone does not prove the whole ladder
    whole = run_test(web, ref)
    assert [rung["passed"] for rung in whole["rungs"]] == [True] * 6
    assert not any(secret in json.dumps(whole) for secret in secrets)
    told = web.get(f"/api/connections/{ref}").json()
    assert told["state"] == "latched"
    assert {pin["fit"] for pin in told["pins"]} <= {"fits", "not_asked"}
    after = web.get(f"/api/connections/{ref}/set-up").json()
    assert (
        next(section for section in after["sections"] if section["key"] == "test")["standing"]
        == "done"
    )
    assert after["missing"] == [
        "Who will use it",
        "Staging is not set up yet",
        "Production is not set up yet",
    ]
    assert {"began", "took in"} <= set(Entry.objects.values_list("did", flat=True))
    assert not any(secret in repr(list(Entry.objects.values())) for secret in secrets)


def test_on_to_the_next_environment(setup: Setup) -> None:
    """What can be carried over is; what must be new is asked for; an environment without addresses
    is pointed at.
    """
    deployment(setup, "fare-kiosks", "fares")
    web = setup.web()
    ref = post(
        web,
        "/api/set-ups",
        {"application": "fare-kiosks", "environment": "sandbox", "scheme": "api_key", "name": ""},
        201,
    )["ref"]
    post(
        web,
        f"/api/connections/{ref}/secrets",
        {"secret": "a-key-of-the-sandbox-1234", "key": "api_key"},
    )
    post(
        web,
        f"/api/connections/{ref}/workloads",
        {"name": "Night fares", "kind": "job", "operations": ["GET /fares"]},
        201,
    )
    refused = post(web, f"/api/connections/{ref}/copies", {"environment": "staging"}, 422)
    assert "no addresses there yet" in refused["errors"]["environment"]
    deployment(setup, "fare-kiosks", "fares", "", "staging")
    told = web.get(f"/api/connections/{ref}/set-up").json()
    assert told["environments_left"] == ["Staging", "Production"]
    assert told["copies_to"] == [{"key": "staging", "name": "Staging"}]
    copied = post(web, f"/api/connections/{ref}/copies", {"environment": "staging"}, 201)
    assert copied["new"] == ["account", "api key"]
    assert "workloads" in copied["carried"]
    made = web.get(f"/api/connections/{copied['ref']}").json()
    assert made["values"]["api_base"] == setup.stand_ins.secured(
        "fares", "staging"
    )  # the next environment's own address
    assert [workload["name"] for workload in made["workloads_of"]] == ["Night fares"]
    pins = {pin["key"]: pin["fit"] for pin in made["pins"]}
    assert pins["api_key"] == "missing"
    assert (
        "already"
        in post(web, f"/api/connections/{ref}/copies", {"environment": "sandbox"}, 422)["errors"][
            "environment"
        ]
    )


def test_what_beginning_refuses(setup: Setup) -> None:
    deployment(setup, "fare-kiosks", "fares")
    web, body = (
        setup.web(),
        {
            "application": "fare-kiosks",
            "environment": "sandbox",
            "scheme": "api_key",
            "name": "kiosks",
        },
    )
    assert (
        "authentication schemes"
        in post(web, "/api/set-ups", body | {"scheme": "basic"}, 422)["errors"]["scheme"]
    )
    post(web, "/api/set-ups", body | {"application": "nobody"}, 404)
    post(web, "/api/set-ups", body | {"environment": "moon"}, 404)
    assert "name" in post(web, "/api/set-ups", body | {"name": "No Spaces!"}, 422)["errors"]
    first = post(web, "/api/set-ups", body, 201, **{"Idempotency-Key": "once"})
    again = post(web, "/api/set-ups", body, 201, **{"Idempotency-Key": "once"})
    assert first["ref"] == again["ref"]
    assert Connection.objects.count() == 1
    assert "name" in post(web, "/api/set-ups", body, 422)["errors"]  # taken
    for role in ("reader", "operator", "auditor"):
        post(setup.web(role), "/api/set-ups", body | {"name": "other"}, 403)
    assert Connection.objects.count() == 1


def test_what_intake_refuses_and_leaves(setup: Setup) -> None:
    deployment(setup, "repair-tickets", "tickets", "/workshop")
    web = setup.web()
    ref = post(
        web,
        "/api/set-ups",
        {"application": "repair-tickets", "environment": "sandbox", "scheme": "basic", "name": ""},
        201,
    )["ref"]
    address = f"/api/connections/{ref}/intakes"
    assert (
        post(web, address, {"text": "colour: red\nsize: 4\n"}, 422)["code"] == "nothing-recognised"
    )
    # Two different passwords: which one is asked, none is taken.
    two = "PASSWORD=one-of-them-123\nOLD_PASSWORD=the-other-456\n"
    looked = post(web, "/api/intakes", {"text": two, "connection": ref})
    assert [item["key"] for item in looked["open"]] == ["password"] or [
        item["key"] for item in looked["placed"]
    ] == ["password"]
    assert (
        "not in what was pasted"
        in post(web, address, {"text": two, "choices": {"password": "NEW_PASSWORD"}}, 422)[
            "errors"
        ]["choices"]
    )
    assert Credential.objects.count() == 0
    post(web, address, {"text": two, "choices": {"password": "OLD_PASSWORD"}})
    assert Credential.objects.get().open().reveal() == "the-other-456"
    # A colon in a user name cannot be sent (RFC 7617 §2): it is kept, and said before anybody
    # tries.
    post(web, address, {"text": "username=a:b\n", "only": ["username"]}, 200)
    last = run_test(web, ref)["rungs"][-1]
    assert (last["rung"], last["passed"]) == ("sign_in", False)
    assert "cannot be sent" in last["says"]
    for role in ("reader", "operator", "auditor"):
        post(setup.web(role), address, {"text": "username=x\n"}, 403)


def test_the_lists_that_forms_are_made_from(setup: Setup) -> None:
    """Nothing is hard-coded per application: the kinds with their values, and the profiles that
    come with Neat Latch.
    """
    web = setup.web("reader")
    kinds = {item["key"]: item for item in web.get("/api/schemes").json()}
    assert {
        "oauth2_code",
        "oauth2_client",
        "oauth2_jwt",
        "oauth1",
        "api_key",
        "key_pair",
        "basic",
        "bearer",
        "certificate",
        "stream",
    } <= set(kinds)
    for kind in kinds.values():
        assert kind["label"]
        assert all(value["label"] and value["help"] for value in kind["values"])
    names = {item["name"] for item in web.get("/api/shipped-profiles").json()}
    assert len(names) == 12
    assert {"Vessel positions", "Harbour returns", "Tide tables"} <= names


def test_a_vendors_shared_client_is_refused_for_production(setup: Setup) -> None:
    """For trying things out, never for production (common practice, no source): refused when it is
    chosen, pointed at when it is noted later.
    """
    for environment in ("sandbox", "production"):
        deployment(setup, "passenger-messages", "messages", "", environment)
    web = setup.web()
    made = {}
    for environment in ("sandbox", "production"):
        body = {
            "application": "passenger-messages",
            "environment": environment,
            "scheme": "api_key",
        }
        ref = post(web, "/api/set-ups", body | {"name": ""}, 201)["ref"]
        client = post(
            web,
            "/api/clients",
            body
            | {
                "name": "Starter key",
                "by_protocol": False,
                "vendor_shared": environment == "sandbox",
            },
            201,
        )
        made[environment] = (ref, client["id"])
    (tried, starter), (real, own) = made["sandbox"], made["production"]
    post(web, f"/api/connections/{tried}/clients", {"client": starter})
    refused = post(web, f"/api/connections/{real}/clients", {"client": starter}, 422)
    assert "never for production" in refused["errors"]["client"]
    post(web, f"/api/connections/{real}/clients", {"client": own})
    post(web, f"/api/clients/{own}/facts", {"vendor_shared": True})
    pins = {pin["key"]: pin for pin in web.get(f"/api/connections/{real}").json()["pins"]}
    assert pins["environment"]["fit"] == "differs"
    assert pins["environment"]["why"].startswith("A vendor's shared client")
    draft = {
        "application": "passenger-messages",
        "environment": "production",
        "scheme": "api_key",
        "client": own,
        "name": "another",
        "values": {"api_base": setup.stand_ins.secured("messages", "production")},
    }
    assert "never for production" in post(web, "/api/connections", draft, 422)["errors"]["client"]
