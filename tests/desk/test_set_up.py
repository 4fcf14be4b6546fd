"""Setting up beside the browser: profiles and their versions, intake that keeps nothing,
certificates, changing the way in, copies.
"""

from __future__ import annotations

import base64
import json
import os
import ssl
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
import time_machine
import yaml
from django.db import connection as database
from django.db import transaction
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.applications.shipped import shipped
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import fixes, halves, naming, setting_up
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common import settling
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.pages.connections.shaping import row
from tests.refused import refused_with

from .conftest import SERVICE, Setup
from .test_workbenches import send

CERTS = Path(__file__).parent.parent / "vectors" / "certs"


def post(web: WebClient, address: str, body: Any, **headers: str) -> Any:
    return web.post(address, json.dumps(body), content_type="application/json", headers=headers)


def deployment_of(
    setup: Setup, profile: str, values: dict[str, str], environment: str = "sandbox"
) -> Deployment:
    kept = shipped()[profile]
    return applications.add_manually(setup.by, kept["name"], environment, values, kept["profile"])


def fares(setup: Setup) -> Connection:
    deployment = deployment_of(setup, "fare-kiosks", {"api_base": setup.stand_ins.secured("fares")})
    return setting_up.begin(setup.by, deployment, "api_key")


def test_an_application_by_its_description_alone(setup: Setup) -> None:
    """OpenAPI 3.1: security schemes, roles in security requirements, servers."""
    for key, scheme, roles in (
        ("fares", "api_key", {"reader", "clerk"}),
        ("tickets", "basic", {"viewer", "agent", "manager"}),
        ("lost", "bearer", {"reader", "clerk"}),
    ):
        root = "/workshop" if key == "tickets" else ""
        address = f"{setup.stand_ins.secured(key)}{root}/openapi.json"
        deployment = applications.add_from_description(
            setup.by, "", "sandbox", applications.Description(address)
        )
        profile = deployment.application.read_profile()
        assert [scheme.key for scheme in profile.schemes] == [scheme]
        assert {role.name for role in profile.roles} == roles
        assert deployment.api_base == f"{setup.stand_ins.secured(key)}{root}"
        assert profile.operations[0].method == "GET"
    fares = Application.objects.get(key="fare-kiosks").read_profile().schemes[0]
    assert (fares.settings["placement"], fares.settings["name"]) == ("header", "X-Kiosk-Key")
    with refused_with("invalid-fields") as raised:
        applications.add_from_description(
            setup.by,
            "X",
            "sandbox",
            applications.Description(f"{setup.stand_ins.secured('tides')}/openapi.json"),
        )
    assert "no supported authentication scheme" in raised.value.errors["description_address"]


def test_an_application_by_a_description_that_was_pasted(setup: Setup) -> None:
    """F14: where it is published nowhere."""
    base, web = setup.stand_ins.secured("fares"), setup.web()
    published = httpx.get(
        f"{base}/openapi.json",
        verify=ssl.create_default_context(cafile=os.environ["NEATLATCH_TRUST"]),
    ).json()
    seen = send(web, "post", "/intakes", {"text": json.dumps(published)})
    assert seen["kind"] == "description"
    for text in (json.dumps(published), yaml.safe_dump(published)):
        made = send(
            web,
            "post",
            "/applications",
            {"environment": "sandbox", "name": f"Fares {len(text)}", "description": text},
            201,
        )
        assert (made["deployments"][0]["api_base"], made["schemes"][0]["key"]) == (base, "api_key")
    relative = {**published, "servers": [{"url": "/v2"}]}
    told = send(
        web,
        "post",
        "/applications",
        {"environment": "sandbox", "description": json.dumps(relative)},
        422,
    )
    assert "/v2" in told["errors"]["api_base"]
    told = send(
        web, "post", "/applications", {"environment": "sandbox", "description": "openapi: [3"}, 422
    )
    assert list(told["errors"]) == ["description"]


def tickets(setup: Setup) -> Connection:
    deployment = deployment_of(
        setup, "repair-tickets", {"api_base": f"{setup.stand_ins.secured('tickets')}/workshop"}
    )
    return setting_up.begin(setup.by, deployment, "basic")


def test_a_weak_password_is_said(setup: Setup) -> None:
    """F20: taken without a word."""
    connection = tickets(setup)
    connection, _ = connections.change(
        setup.by, connection, {"values": {"username": "svc-website"}}
    )
    web = setup.web()
    for weak in ("changeme", "svc-website", "svc-website1", "Ab9-xyz"):
        told = send(
            web,
            "post",
            f"/connections/{connection.ref}/secrets",
            {"secret": weak, "key": "password"},
        )
        assert any(
            "anybody would try" in item or "15 needed" in item for item in told["notes"]["password"]
        ), told["notes"]
    listed = send(web, "get", "/credentials")["items"]
    marks = {mark["key"] for item in listed if item["connections"] for mark in item["marks"]}
    assert "weak" in marks
    told = send(
        web,
        "post",
        f"/connections/{connection.ref}/secrets",
        {"secret": "linen harbour otter quill", "key": "password"},
    )
    assert not any("try" in item or "needed" in item for item in told["notes"].get("password", []))


def test_a_missing_secret_is_listed_while_no_client_is_named(setup: Setup) -> None:
    """F17."""
    web, connection = setup.web(), tickets(setup)
    assert connection.client is None
    assert (
        "We have no password."
        in send(web, "get", f"/connections/{connection.ref}/set-up")["missing"]
    )


def test_one_token_in_two_applications(setup: Setup) -> None:
    """F19: each named one holder, and nothing said that two share it."""
    web, found = setup.web(), []
    for key, name in (("lost-property", "lost"), ("fare-kiosks", "fares")):
        connection = setting_up.begin(
            setup.by,
            deployment_of(setup, key, {"api_base": setup.stand_ins.secured(name)}),
            profile_scheme(key),
        )
        connections.put_secret(setup.by, connection, "tok-9f3b7c5d1e8a4b60", None, "")
        found.append(connection)
    [one, two] = [Credential.objects.get(holders__connection=each) for each in found]
    told = send(web, "get", f"/credentials/{one.pk}")
    assert (told["connections"], told["also_held_by"]) == ([found[0].ref], [found[1].ref])
    assert [mark["says"] for mark in told["marks"] if mark["key"] == "shared"] == [
        "Fare kiosks and Lost property share it."
    ]
    assert send(web, "get", f"/credentials/{two.pk}")["also_held_by"] == [found[0].ref]


def profile_scheme(key: str) -> str:
    return str(shipped()[key]["profile"]["schemes"][0]["key"])


def test_the_secrets_id_that_came_with_it_is_known_afterwards(setup: Setup) -> None:
    """F17: the ID pasted as the value was not noticed where a client was entered manually."""
    connection = setup.connection(
        setup.client(setup.deployment(), "manifest.read"), account=SERVICE
    )
    web = setup.web()
    send(
        web,
        "post",
        f"/connections/{connection.ref}/intakes",
        {"text": "Client secret: w8Gk2qLrT5vX9zBn\nSecret ID: 7c1d-44aa"},
    )
    assert Credential.objects.get(holders__connection=connection).secret_id == "7c1d-44aa"
    send(web, "post", f"/connections/{connection.ref}/secrets", {"secret": "7c1d-44aa"})
    pin = next(
        pin
        for pin in send(web, "get", f"/connections/{connection.ref}")["pins"]
        if pin["key"] == "secret"
    )
    assert (pin["fit"], "the ID of the secret" in pin["why"]) == ("differs", True)


def test_two_ways_in_one_application(setup: Setup) -> None:
    """A connection changes from one to the other: what both have stays, what belongs to the old way
    goes.
    """
    deployment = deployment_of(
        setup, "lost-property", {"api_base": setup.stand_ins.secured("lost")}
    )
    profile = deployment.application.profile
    both = {**profile, "schemes": [*profile["schemes"], {"key": "basic"}]}
    applications.change(setup.by, deployment.application, {"profile": both})
    deployment = Deployment.objects.select_related("application", "environment").get(
        pk=deployment.pk
    )
    connection = setting_up.begin(setup.by, deployment, "bearer")
    connections.put_secret(setup.by, connection, "tok-123456789", None, "token")
    connection = connections.change_scheme(setup.by, connection, "basic")
    assert connection.scheme == "basic"
    assert connection.values == {"api_base": setup.stand_ins.secured("lost"), "username": ""}
    assert connection.secrets() == {}
    assert Credential.objects.count() == 1  # still in the safe
    web = setup.web()
    told = web.get(f"/api/connections/{connection.ref}").json()
    assert [scheme["key"] for scheme in told["schemes"]] == ["bearer", "basic"]
    assert (
        post(web, f"/api/connections/{connection.ref}/schemes", {"scheme": "oauth1"}).status_code
        == 422
    )


def test_profiles_have_versions_and_a_change_says_what_it_means(setup: Setup) -> None:
    connection, web = fares(setup), setup.web()
    workloads.use_connection(
        setup.by, connection, workloads.WorkloadFields("Loader"), ["PUT /fares/{number}"]
    )
    application = Application.objects.get(key="fare-kiosks")
    text = web.get("/api/applications/fare-kiosks/profile-texts").json()["text"]
    assert "X-Kiosk-Key" in text
    same = post(web, "/api/applications/fare-kiosks/profile-previews", {"text": text}).json()
    assert same["meanings"] == []
    gone = post(
        web,
        "/api/applications/fare-kiosks/profile-previews",
        {
            "text": text.replace("key: api_key\n", "key: bearer\n")
            .replace("  settings:\n    name: X-Kiosk-Key\n", "")
            .replace("api_key: Admin", "token: Admin")
        },
    ).json()
    assert gone["meanings"][0]["why"].startswith("Its authentication scheme would be removed")
    assert (
        Application.objects.get(key="fare-kiosks").version == application.version
    )  # nothing was saved
    bad = post(
        web, "/api/applications/fare-kiosks/profile-previews", {"text": "schemes:\n  - key: [\n"}
    )
    assert "line" in bad.json()["errors"]["profile"]
    changed = web.patch(
        "/api/applications/fare-kiosks",
        json.dumps({"text": text.replace("Administration,", "The office,")}),
        content_type="application/json",
        headers={"If-Match": f'"{application.version}"'},
    )
    assert changed.status_code == 200
    assert changed.json()["versions"][0]["number"] == application.version
    old = web.get(
        f"/api/applications/fare-kiosks/profile-texts?version={application.version}"
    ).json()["text"]
    assert old == text
    assert web.get("/api/applications/fare-kiosks/profile-texts?version=99").status_code == 404


def test_intake_keeps_nothing_and_answers_no_secret(setup: Setup) -> None:
    connection, web = fares(setup), setup.web()
    planted = "planted-kiosk-key-77aa-QUAY"
    looked = post(
        web,
        "/api/intakes",
        {"text": f"API_KEY = ' {planted}'\nCOLOUR=red\n", "connection": connection.ref},
    )
    told = looked.json()
    assert told["placed"][0]["key"] == "api_key"
    assert told["placed"][0]["shown"] == "•••• …QUAY"
    assert told["left"] == ["COLOUR"]
    assert planted not in looked.content.decode()
    assert Credential.objects.count() == 0
    taken = post(
        web, f"/api/connections/{connection.ref}/intakes", {"text": f"API_KEY={planted}\n"}
    )
    assert taken.status_code == 200
    assert planted not in taken.content.decode()
    # One act: one version, and no entry of the journal that says “changed” where nothing but the
    # secret was.
    assert Connection.objects.get(ref=connection.ref).version == connection.version + 1
    written = (
        Entry.objects.filter(noun="connection", ref=connection.ref)
        .order_by("number")
        .values_list("did", flat=True)
    )
    assert list(written)[-2:] == ["put in a secret", "took in"]
    assert "changed" not in list(written)
    assert Credential.objects.get().open().reveal() == planted
    again = post(web, "/api/intakes", {"text": planted}).json()
    assert again["known"] == [f"…QUAY is held by {connection.ref}"]  # known by its fingerprint
    with database.cursor() as cursor:
        cursor.execute("PRAGMA wal_checkpoint(PASSIVE)")
    file = Path(database.settings_dict["NAME"])
    assert all(
        planted.encode() not in path.read_bytes()
        for path in file.parent.iterdir()
        if path.is_file()
    )


@pytest.mark.parametrize(
    ("body", "says"),
    [
        ({"text": ""}, "nothing in it"),
        ({"base64": "%%%"}, "did not arrive whole"),
        ({"text": "{"}, "not JSON"),
        ({"text": "a: &x 1\nb: *x\n"}, "alias"),
        ({"text": "x" * 7_000_000}, "not read"),
        ({"base64": base64.b64encode(b"caf\xe9 \xff").decode()}, "UTF-8"),
    ],
)
def test_what_intake_cannot_read_is_told(setup: Setup, body: dict[str, str], says: str) -> None:
    answer = post(setup.web(), "/api/intakes", body)
    assert answer.status_code == 422
    assert says in answer.json()["errors"]["text"]


def test_a_certificate_arrives_in_any_form(setup: Setup) -> None:
    deployment = deployment_of(setup, "crew-roster", {"api_base": setup.stand_ins.secured("crew")})
    connection, web = setting_up.begin(setup.by, deployment, "certificate"), setup.web()
    address = f"/api/connections/{connection.ref}/certificates"
    file = base64.b64encode((CERTS / "leaf-good.p12").read_bytes()).decode()
    assert "password" in post(web, address, {"base64": file}).json()["errors"]
    told = post(web, address, {"base64": file, "password": "changeit"}).json()
    assert told["certificate"]["subject"] == "www.good.example"
    assert any("private key, sealed" in item for item in told["notes"]["certificate"])
    # openssl x509 -enddate, and the SHA-256 that openssl pkey -pubout and dgst give for its public
    # key
    credential = connection.held_secrets.get(key="private_key").credential
    assert credential.ends == datetime(2026, 12, 31, 23, 59, 59, tzinfo=UTC)
    assert credential.hint == "…nLBM"
    pin = next(pin for pin in told["pins"] if pin["key"] == "certificate")
    assert pin["fit"] == "differs"
    assert "clientAuth" in pin["why"]  # a server's certificate where a client's belongs
    key = (CERTS / "leaf-good.key.pem").read_text()
    assert key.splitlines()[1] not in json.dumps(told)
    wrong = post(web, address, {"pem": (CERTS / "leaf-expired.pem").read_text()}).json()
    assert (
        "not this certificate's"
        in next(pin for pin in wrong["pins"] if pin["key"] == "certificate")["why"]
    )
    credential.refresh_from_db()
    assert credential.ends == datetime(
        2026, 12, 31, 23, 59, 59, tzinfo=UTC
    )  # another key's certificate says nothing of it
    assert post(web, address, {"pem": "hello"}).status_code == 422


def test_the_page_says_what_is_missing_until_nothing_is(setup: Setup) -> None:
    connection, web = fares(setup), setup.web()
    address = f"/api/connections/{connection.ref}/set-up"
    told = web.get(address).json()
    assert told["next"] == "prepare"
    assert "The provider's side is not prepared: name it, or begin it here." in told["missing"]
    client = clients.prepare_other(setup.by, connection.deployment, "Ferries", "api_key")
    connections.choose_client(setup.by, connection, client)
    for step in clients.steps(client):
        client = clients.tick(setup.by, client, step.key, True)
    clients.record_facts(
        setup.by, client, {"rights": ["reader"], "account": "svc-fares", "account_kind": "service"}
    )
    told = web.get(address).json()
    assert told["next"] == "ours"
    assert told["environments_left"] == ["Staging", "Production"]
    assert told["copies_to"] == []  # it has no addresses there yet
    with refused_with("invalid-fields"):
        setting_up.copy(setup.by, connection, "staging")


def test_notes_of_the_provider_side_are_checked(setup: Setup) -> None:
    connection, web = fares(setup), setup.web()
    client = clients.prepare_other(setup.by, connection.deployment, "Ferries", "api_key")
    address = f"/api/clients/{client.pk}/facts"
    wrong = post(
        web, address, {"rights": ["king"], "allow_list": ["sea"], "account_kind": "dog"}
    ).json()["errors"]
    assert set(wrong) == {"rights", "allow_list", "account_kind"}
    told = post(
        web,
        address,
        {
            "rights": ["clerk"],
            "allow_list": ["198.51.100.0/24"],
            "account": "svc-fares",
            "account_kind": "service",
        },
    ).json()
    assert (told["rights"], told["state"], told["account"]) == (["clerk"], "live", "svc-fares")
    assert (
        setup.web("reader").post(address, "{}", content_type="application/json").status_code == 403
    )


def test_a_kept_row_is_never_out_of_date(setup: Setup) -> None:
    """After every kind of change the list says what working it out anew says."""
    web = setup.web()
    connection = setup.latched("manifest.read", "berth.read")
    other = fares(setup)

    def check(what: str) -> None:
        listed = {item["ref"]: item for item in web.get("/api/connections").json()["items"]}
        for connection in halves.with_everything(Connection.objects.all()):
            fresh = asdict(row(connection, halves.work_out(connection, timezone.now())))
            told = listed[connection.ref]["tested_at"]
            assert {
                **listed[connection.ref],
                "tested_at": told and datetime.fromisoformat(told),
            } == fresh, what

    def again(ref: str = "sandbox/cargo") -> Connection:
        return Connection.objects.select_related("client", "deployment__application").get(ref=ref)

    check("at first")
    setup.test(connection)
    check("a test that passed")
    connections.change(
        setup.by, again(), {"values": {"redirect_uri": "http://127.0.0.1:8600/return/"}}
    )
    check("a change of ours")
    setup.test(again())
    check("a test that failed")
    fixes.act(setup.by, again(), "redirect_uri", "register_ours", "http://127.0.0.1:8600/return/")
    check("an act at the provider")
    use = workloads.use_connection(
        setup.by, again(), workloads.WorkloadFields("Customs"), ["PUT /manifests/{number}"]
    )
    check("a workload")
    workloads.stop_using(setup.by, use)
    check("no workload")
    setup.sign_in(again(), "m.orr@gannet.example")
    check("another account")
    client = again().client
    assert client is not None
    clients.record_consent(setup.by, client, "manifest.write", True)
    check("consent")
    application = again().deployment.application
    profile = application.profile
    applications.change(
        setup.by,
        application,
        {
            "profile": {
                **profile,
                "scopes": [{**scope, "administrator": True} for scope in profile["scopes"]],
            }
        },
    )
    check("a profile")
    deployment = deployment_of(
        setup, "fare-kiosks", {"api_base": setup.stand_ins.secured("fares", "staging")}, "staging"
    )
    staged = setting_up.begin(setup.by, deployment, "api_key")
    for entry in (other, staged):
        connections.put_secret(setup.by, entry, "the-very-same-key-1234", None, "api_key")
        check("a secret, used in two environments")
    for flags in ({"wants_service_account": True}, {"name": "Test bed"}, {"look": "hatched"}):
        Environment.objects.filter(key="sandbox").update(**flags)  # as the inventory changes it
        check(f"an environment: {flags}")
    Credential.objects.filter(kind="api_key").update(ends=timezone.now() + timedelta(minutes=10))
    connections.change(setup.by, other, {"pace": 5})
    connections.change(setup.by, staged, {"pace": 5})
    check("a secret that will end")
    with time_machine.travel(timezone.now() + timedelta(minutes=11)):
        check("a secret that has ended")
    connections.remove(setup.by, staged)
    check("the other environment gone")


def test_a_filter_by_pins_looks_at_the_whole_list(setup: Setup) -> None:
    """What fits may stand on a later page than the first; pages are full, and the last has none
    that follows.
    """
    web, first = setup.web(), fares(setup)
    with transaction.atomic():
        for number in range(260):
            Connection.objects.create(
                **naming.named(first.deployment, f"kiosk-{number:03}"),
                deployment=first.deployment,
                scheme="api_key",
                values=first.values,
                changed_at=timezone.now(),
            )
    settling.catch_up()  # as the worker does with what is more than a block
    last = setup.connection(setup.client(setup.deployment(), "manifest.read"), name="zz-last")
    connections.change(
        setup.by, last, {"values": {"redirect_uri": "http://127.0.0.1:8600/return/"}}
    )
    found = web.get("/api/connections?words=pin:redirect").json()
    assert [item["ref"] for item in found["items"]] == ["sandbox/zz-last"]
    assert found["next"] is None
    cursor, seen, pages = "", [], []
    while cursor is not None:
        told = web.get(f"/api/connections?words=-pin:redirect&cursor={cursor}").json()
        seen += [item["ref"] for item in told["items"]]
        cursor = told["next"]
        pages.append(len(told["items"]))
    assert pages == [100, 100, 61]
    assert len(set(seen)) == 261
