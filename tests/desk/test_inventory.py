"""Out and in: the whole inventory of the demo's applications, by page and by command line; nothing
is lost, nothing overwritten.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
import yaml
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.cli import main
from neatlatch.core import openapi
from neatlatch.desk.authority.records.certificates.models import Authority
from neatlatch.desk.estate.connections import accounts, sign_in
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import (
    Connection,
    HeldSecret,
    SetAside,
    TokenSet,
)
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common import heavy
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person, Team
from neatlatch.desk.work.inventory import planning, services
from neatlatch.desk.work.inventory.models import ImportPlan, Origin
from neatlatch.desk.work.rounds.models import Sample, Test
from tests.harness import StandIns
from tests.refused import refused_with

from .conftest import PERSON, Setup, forget_the_journal, load_once
from .test_workbenches import send


@pytest.fixture
def by(transactional_db: None, stand_ins: StandIns) -> Iterator[Person]:
    """Three applications as the demo has them: OAuth by protocol and manually, a certificate, a
    stream with two endpoints.
    """
    load_once(stand_ins.port, only=("cargo-manifests", "crew-roster", "vessel-positions"))
    yield Person.objects.get(username="morag")
    forget_the_journal()


def web_of(person: Person) -> WebClient:
    client = WebClient()
    client.force_login(person, backend="django.contrib.auth.backends.ModelBackend")
    return client


def wipe() -> None:
    """Everything that an inventory holds goes; people, who log in, stay."""
    for model in (
        Test,
        Sample,
        HeldSecret,
        TokenSet,
        Workload,
        Connection,
        Credential,
        Client,
        Deployment,
        Application,
        Team,
        Origin,
    ):
        model.objects.all().delete()
    Authority.objects.exclude(root=None).delete()
    Authority.objects.all().delete()
    Environment.objects.all().delete()


def test_export_wipe_apply_export_gives_the_same_file(by: Person) -> None:
    first = services.export(by)
    secrets = [credential.open().reveal() for credential in Credential.objects.exclude(value=None)]
    assert secrets
    assert not any(secret in first for secret in secrets)
    assert "-----BEGIN CERTIFICATE" in first  # certificates are public
    assert "PRIVATE KEY" not in first
    wipe()
    services.apply(by, first)
    second = services.export(by)
    assert second == first
    assert services.apply(by, first).outcome.nothing
    assert Connection.objects.count() == len(yaml.safe_load(first)["connections"])
    # Secrets are not in the file: they are awaited, and a connection says so.
    page = send(web_of(by), "get", "/connections/production/cargo-manifests")
    secret = next(pin for pin in page["pins"] if pin["key"] == "secret")
    assert secret["fit"] == "missing"
    _, notes = connections.put_secret(
        by, Connection.objects.get(ref="production/cargo-manifests"), "a-new-secret-value-1234"
    )
    assert (
        Connection.objects.get(ref="production/cargo-manifests")
        .secrets()["client_secret"]
        .open()
        .reveal()
        == "a-new-secret-value-1234"
    )


def test_applying_what_stands_changes_nothing_and_keeps_the_secrets(by: Person) -> None:
    before = {
        credential.pk: bytes(credential.value)
        for credential in Credential.objects.exclude(value=None)
    }
    stood = dict(Connection.objects.values_list("ref", "version"))
    text = services.export(by)
    assert services.apply(by, text).outcome.nothing
    assert dict(Connection.objects.values_list("ref", "version")) == stood
    assert {
        credential.pk: bytes(credential.value)
        for credential in Credential.objects.exclude(value=None)
    } == before
    assert TokenSet.objects.exists()


def edited(text: str, *pairs: tuple[str, str]) -> str:
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new, 1)
    return text


def test_an_edited_file_is_previewed_in_words_then_applied_once(
    by: Person, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    text = services.export(by)
    plain = yaml.safe_load(text)
    plain["connections"]["production/cargo-manifests"]["pace"] = 3.0
    plain["workloads"]["Customs return/production"]["owner"] = "Customs desk"
    plain["workloads"]["Quay lights/production"] = {
        "name": "Quay lights",
        "environment": "production",
        "windows": ["daily 02:00-03:00"],
        "uses": [
            {
                "application": "cargo-manifests",
                "connection": "production/cargo-manifests",
                "operations": ["GET /berths"],
            }
        ],
    }
    file = tmp_path / "inventory.yaml"
    file.write_text(yaml.safe_dump(plain, sort_keys=False))
    web = web_of(by)
    seen = send(web, "post", "/inventory/previews", {"text": file.read_text()})
    told = {
        (change["kind"], change["key"]): (change["act"], change["says"])
        for change in seen["changes"]
    }
    assert told["connections", "production/cargo-manifests"] == (
        "change",
        ["pace: 10.0 became 3.0"],
    )
    assert told["workloads", "Customs return/production"] == (
        "change",
        ["owner: R. Oake became Customs desk"],
    )
    assert told["workloads", "Quay lights/production"][0] == "add"
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 10.0
    assert main(["inventory", "preview", str(file)]) == 0
    assert "3 changes would be made." in capsys.readouterr().out
    assert main(["inventory", "import", str(file)]) == 0
    assert "pace: 10.0 became 3.0" in capsys.readouterr().out
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 3.0
    assert Workload.objects.get(name="Quay lights").uses.get().operations == ["GET /berths"]
    assert TokenSet.objects.filter(
        connection__ref="production/cargo-manifests"
    ).exists()  # the pace is no reason to sign in again
    assert main(["inventory", "import", str(file)]) == 0
    assert capsys.readouterr().out == "Nothing to change.\n"
    assert (
        Entry.objects.filter(did="applied: change", ref="production/cargo-manifests").count() == 1
    )


def test_a_change_made_meanwhile_by_hand_is_told_and_not_overwritten(
    by: Person, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    plain = yaml.safe_load(services.export(by))
    plain["connections"]["production/cargo-manifests"]["pace"] = 3.0
    plain["connections"]["production/crew-roster"]["time_limit"] = 20.0
    text = yaml.safe_dump(plain, sort_keys=False)
    connections.change(by, Connection.objects.get(ref="production/cargo-manifests"), {"pace": 7.0})
    connections.change(by, Connection.objects.get(ref="production/crew-roster"), {"pace": 6.0})
    file = tmp_path / "inventory.yaml"
    file.write_text(text)
    assert main(["inventory", "import", str(file)]) == 3
    out = capsys.readouterr().out
    assert "conflict  connections   production/cargo-manifests" in out
    assert "pace: 7.0 became 3.0" in out
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 7.0
    crew = Connection.objects.get(ref="production/crew-roster")
    assert (crew.pace, crew.time_limit) == (6.0, 20.0)  # both are kept


def test_what_is_applied_is_what_was_seen(by: Person) -> None:
    web, text = web_of(by), services.export(by)
    plain = yaml.safe_load(text)
    plain["connections"]["production/cargo-manifests"]["pace"] = 2.0
    changed = yaml.safe_dump(plain, sort_keys=False)
    seen = send(web, "post", "/inventory/previews", {"text": changed})
    connections.change(
        by, Connection.objects.get(ref="production/cargo-manifests"), {"time_limit": 25.0}
    )
    refused = send(
        web, "post", "/inventory/imports", {"text": changed, "standing": seen["standing"]}, 409
    )
    assert refused["code"] == "changed-since-preview"
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 10.0
    seen = send(web, "post", "/inventory/previews", {"text": changed})
    # What the file leaves alone may change meanwhile: in a large house something always does.
    connections.change(by, Connection.objects.get(ref="production/crew-roster"), {"pace": 6.0})
    send(web, "post", "/inventory/imports", {"text": changed, "standing": seen["standing"]})
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 2.0
    send(
        web_of(Person.objects.get(username="isla")),
        "post",
        "/inventory/previews",
        {"text": changed},
        403,
    )


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("    pace: 3.0", "    pace: quick", "is a number that is not below 0, not 'quick'"),
        (
            "    scheme: certificate\n    values:",
            "    scheme: carrier_pigeon\n    values:",
            "no authentication scheme called carrier_pigeon",
        ),
        (
            "    windows:\n    - daily 02:00-03:00",
            "    windows:\n    - sometimes",
            "is not a window like",
        ),
    ],
)
def test_a_file_with_an_error_says_line_and_reason_and_changes_nothing(
    by: Person, old: str, new: str, says: str, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    plain = yaml.safe_load(services.export(by))
    plain["connections"]["production/cargo-manifests"]["pace"] = 3.0
    plain["teams"]["Quays"] = {"people": ["ewan"]}
    plain["workloads"]["Quay lights/production"] = {
        "name": "Quay lights",
        "environment": "production",
        "windows": ["daily 02:00-03:00"],
    }
    text = edited(yaml.safe_dump(plain, sort_keys=False), (old, new))
    line = text[: text.index(new)].count("\n") + 1
    file = tmp_path / "inventory.yaml"
    file.write_text(text)
    stood = services.export(by)
    assert main(["inventory", "import", str(file)]) == 1
    told = capsys.readouterr().err
    assert says in told
    number = int(told.partition(f"{file}:")[2].partition(":")[0])
    assert abs(number - line) < 12  # the line of the value, or of the object that cannot be put in
    assert services.export(by) == stood


def test_removing_wants_to_be_asked_for(by: Person) -> None:
    plain = yaml.safe_load(services.export(by))
    del plain["workloads"]["Customs return/production"]
    text = yaml.safe_dump(plain, sort_keys=False)
    told = services.apply(by, text).outcome.changes
    assert [(change.act, change.key) for change in told] == [("stay", "Customs return/production")]
    assert Workload.objects.filter(name="Customs return").exists()
    services.apply(by, text, prune=True)
    assert not Workload.objects.filter(name="Customs return").exists()


def test_a_managed_client_is_changed_at_the_application_too(
    by: Person, stand_ins: StandIns
) -> None:
    text = services.export(by)
    key = next(
        key
        for key, one in yaml.safe_load(text)["clients"].items()
        if one.get("managed") and "sandbox" in key
    )
    plain = yaml.safe_load(text)
    plain["clients"][key]["redirect_uris"] = [
        "http://127.0.0.1:8600/return",
        "https://desk.gannet.example/return",
    ]
    services.apply(by, yaml.safe_dump(plain, sort_keys=False))
    from neatlatch.desk.estate.clients import services as clients

    client = Client.objects.get(pk=plain["clients"][key]["id"])
    assert clients.read_back(by, client).redirect_uris == plain["clients"][key]["redirect_uris"]


def test_other_forms_go_out_and_come_in(by: Person, capsys: pytest.CaptureFixture[str]) -> None:
    web = web_of(by)

    def get(address: str) -> str:
        answer = web.get(f"/api{address}")
        assert answer.status_code == 200
        return str(answer.content.decode())

    client = Client.objects.get(connections__ref="sandbox/cargo-manifests")
    metadata = get(f"/clients/{client.pk}/exports")
    assert json.loads(metadata)["redirect_uris"] == client.redirect_uris
    assert send(web, "post", f"/clients/{client.pk}/imports/previews", {"text": metadata}) == {
        "says": [],
        "nothing": True,
    }
    wider = json.dumps(
        {
            **json.loads(metadata),
            "redirect_uris": [*client.redirect_uris, "https://desk.gannet.example/return"],
        }
    )
    told = send(web, "post", f"/clients/{client.pk}/imports/previews", {"text": wider})
    assert told["says"] == ["redirect URIs: https://desk.gannet.example/return added"]
    send(
        web,
        "post",
        f"/clients/{client.pk}/imports",
        {"text": wider},
        **{"If-Match": f'"{client.version}"'},
    )
    assert len(Client.objects.get(pk=client.pk).redirect_uris) == 2
    send(
        web,
        "post",
        f"/clients/{client.pk}/imports/previews",
        {"text": json.dumps({"client_id": "another"})},
        422,
    )
    send(web, "post", f"/clients/{client.pk}/imports/previews", {"text": "{"}, 422)

    document = json.loads(get("/applications/cargo-manifests/environments/production/exports"))
    described = openapi.read_description(document)
    assert {scheme.key for scheme in described.schemes} == {"oauth2_code", "oauth2_client"}
    assert document["components"]["securitySchemes"]["oauth2"]["flows"]["authorizationCode"][
        "tokenUrl"
    ].startswith("https://")

    settings = get("/connections/production/cargo-manifests/exports?format=env")
    assert (
        "CARGO_MANIFESTS_CLIENT_SECRET=neatlatch://production/cargo-manifests/client_secret"
        in settings
    )
    secret = Connection.objects.get(ref="production/cargo-manifests").secrets()["client_secret"]
    assert secret.open().reveal() not in settings
    assert "cargo.manifests.client_secret=neatlatch://" in get(
        "/connections/production/cargo-manifests/exports?format=properties"
    )
    # A reference is the same secret, out of the safe, and serves only where the application and the
    # environment are the same.
    send(
        web,
        "post",
        "/connections/staging/cargo-manifests/secrets",
        {"secret": "neatlatch://production/cargo-manifests/client_secret"},
        422,
    )
    stands = Connection.objects.get(ref="production/cargo-manifests")
    other = Connection.objects.create(
        name="cargo-again",
        deployment=stands.deployment,
        scheme=stands.scheme,
        values=stands.values,
        changed_at=stands.changed_at,
    )
    connections.put_secret(by, other, "neatlatch://production/cargo-manifests/client_secret")
    assert other.held_secrets.get(key="client_secret").credential_id == secret.pk
    send(
        web,
        "post",
        "/connections/staging/cargo-manifests/secrets",
        {"secret": "neatlatch://nowhere/client_secret"},
        422,
    )

    for what in ("connections", "clients", "credentials", "workloads"):
        lines = get(f"/exports/{what}").splitlines()
        assert len(lines) > 1, what
        assert secret.open().reveal() not in "\n".join(lines)
    assert main(["inventory", "export"]) == 0
    assert capsys.readouterr().out == services.export(by)


def test_a_team_and_accounts_of_ones_own_are_in_the_file(setup: Setup) -> None:
    Person.objects.create_user(
        "ewan", password="x", role="reader", first_name="Ewan", last_name="Tait"
    )
    connection = setup.connection(setup.client(setup.deployment(), "manifest.read"))
    accounts.share(
        setup.by, connection, True, accounts.save_team(setup.by, "Freight", ["ewan"]).name
    )
    accounts.ask(
        setup.by,
        Connection.objects.get(),
        Person.objects.get(username="ewan"),
        "e.tait@gannet.example",
    )
    first = services.export(setup.by)
    assert yaml.safe_load(first)["connections"]["sandbox/cargo"]["accounts"] == {
        "ewan": "e.tait@gannet.example"
    }
    wipe()
    services.apply(setup.by, first)
    assert services.export(setup.by) == first


def test_a_file_with_one_connection(by: Person) -> None:
    """F15: what stands here already is spoken of by name."""
    whole = yaml.safe_load(services.export(by))
    one = whole["connections"]["production/cargo-manifests"]
    small = {
        "neat_latch_inventory": 3,
        "connections": {"production/cargo-manifests": {**one, "pace": 3.0}},
    }
    before = len(whole["connections"])
    seen = services.preview(yaml.safe_dump(small), False)
    assert [(each.act, each.key, each.says) for each in seen.outcome.changes if each.does] == [
        ("change", "production/cargo-manifests", ("pace: 10.0 became 3.0",))
    ]
    services.apply(by, yaml.safe_dump(small))
    assert (
        Connection.objects.get(ref="production/cargo-manifests").pace,
        Connection.objects.count(),
    ) == (
        3.0,
        before,
    )
    new = {
        "neat_latch_inventory": 3,
        "connections": {
            "production/cargo-again": {
                "deployment": one["deployment"],
                "scheme": one["scheme"],
                "client": one["client"],
            }
        },
    }
    services.apply(by, yaml.safe_dump(new))
    assert (
        Connection.objects.get(ref="production/cargo-again").client
        == Connection.objects.get(ref="production/cargo-manifests").client
    )
    new["connections"]["production/cargo-again"]["deployment"] = "cargo-manifests/nowhere"
    with refused_with("inventory-mistakes") as refused:
        services.apply(by, yaml.safe_dump(new))
    assert (
        "there is no deployment 'cargo-manifests/nowhere', in this file or here"
        in refused.value.detail
    )


def test_a_settings_file_comes_in_by_intake_its_references_out_of_the_safe(by: Person) -> None:
    web = web_of(by)
    for form in ("env", "properties"):
        text = web.get(
            f"/api/connections/production/cargo-manifests/exports?format={form}"
        ).content.decode()
        made = send(
            web,
            "post",
            "/set-ups",
            {
                "application": "cargo-manifests",
                "environment": "production",
                "scheme": "oauth2_code",
                "name": f"cargo-{form}",
            },
            201,
        )
        seen = send(web, "post", "/intakes", {"text": text, "connection": made["ref"]})
        placed = {item["key"] for item in seen["placed"]}
        assert {"client_id", "client_secret", "redirect_uri", "token_endpoint"} <= placed, seen
        send(web, "post", f"/connections/{made['ref']}/intakes", {"text": text})
        found, origin = (
            Connection.objects.get(ref=made["ref"]),
            Connection.objects.get(ref="production/cargo-manifests"),
        )
        assert found.secrets()["client_secret"].pk == origin.secrets()["client_secret"].pk
        assert {key: found.values[key] for key in ("client_id", "redirect_uri", "api_base")} == {
            key: origin.values[key] for key in ("client_id", "redirect_uri", "api_base")
        }
        assert found.scopes == origin.scopes


def test_what_the_file_takes_away_is_ended_at_the_application(setup: Setup) -> None:
    """A connection's tokens, set aside ones too, and the account of a person who has left."""
    setup.latched()
    own = setup.connection(Client.objects.get(), "manifest.read", name="own")
    accounts.share(setup.by, own, True, None)
    person = Person.objects.create_user("ann", password="x", role="operator")
    accounts.ask(setup.by, Connection.objects.get(ref="sandbox/own"), person, PERSON)
    _, address = sign_in.begin(person, Connection.objects.get(ref="sandbox/own"), "")
    back = setup.visitor().sign_in(address, PERSON)
    assert sign_in.come_back(person, back, parse_qs(urlsplit(back).query)["state"][0]) is not None
    setup.sign_in(
        Connection.objects.get(ref="sandbox/cargo"), PERSON
    )  # not the account that is noted: set aside
    assert (TokenSet.objects.count(), SetAside.objects.count()) == (2, 1)
    held = setup.stand_ins.state()["refresh"]
    file = yaml.safe_load(services.export(setup.by))
    del file["people"]["ann"], file["connections"]["sandbox/own"]["accounts"]
    services.apply(setup.by, yaml.safe_dump(file), prune=True)
    assert Person.objects.get(username="ann").left is not None
    assert not TokenSet.objects.exclude(person=None).exists()
    assert setup.stand_ins.state()["refresh"] == held - 1
    del file["connections"]["sandbox/cargo"]
    services.apply(setup.by, yaml.safe_dump(file), prune=True)
    assert not TokenSet.objects.exists()
    assert setup.stand_ins.state()["refresh"] == held - 3
    told = Entry.objects.filter(did="ended the tokens of", ref="sandbox/cargo")
    assert [entry.details["tokens revoked there"] for entry in told] == ["yes", "yes"]


def test_what_is_told_of_each_object_is_told_once(by: Person) -> None:
    file = yaml.safe_load(services.export(by))
    file["applications"]["cargo-manifests"]["purpose"] = "Manifests of every crossing"
    file["connections"]["production/cargo-manifests"]["pace"] = 2.0
    before = Entry.objects.count()
    services.apply(by, yaml.safe_dump(file))
    told = Entry.objects.filter(number__gt=before).order_by("number")
    assert [(entry.did, entry.noun) for entry in told] == [
        ("applied: change", "application"),
        ("applied: change", "connection"),
        ("applied", "inventory"),
    ]


def test_the_last_administrator_stays_whatever_the_file_says(by: Person) -> None:
    """Removed, switched off or made a reader: the file is refused, and somebody can still let
    people in.
    """
    text = services.export(by)
    plain = yaml.safe_load(text)
    assert [key for key, one in plain["people"].items() if one.get("role") == "administrator"] == [
        "morag"
    ]
    teams = {
        key: {**one, "people": [who for who in one["people"] if who != "morag"]}
        for key, one in plain["teams"].items()
    }
    gone = {
        **plain,
        "people": {key: one for key, one in plain["people"].items() if key != "morag"},
        "teams": teams,
    }
    reader = {
        **plain,
        "people": {**plain["people"], "morag": {**plain["people"]["morag"], "role": "reader"}},
    }
    for wrong in (gone, reader):
        with refused_with("inventory-mistakes") as refused:
            services.apply(by, yaml.safe_dump(wrong), prune=True)
        assert "last administrator" in json.dumps([refused.value.detail, refused.value.errors])
        assert Person.objects.filter(role="administrator", is_active=True, left=None).count() == 1
    other = Person.objects.get(username="ewan")
    Person.objects.filter(pk=other.pk).update(
        role="administrator", left=timezone.now(), is_active=True
    )
    with refused_with("inventory-mistakes"):  # one who has left is none
        services.apply(by, yaml.safe_dump(gone), prune=True)


def test_a_file_is_read_in_a_child(by: Person, monkeypatch: pytest.MonkeyPatch) -> None:
    """L16: what takes long to read takes it from nobody who serves.

    Mistakes come back with their lines.
    """
    text = services.export(by)
    asked = []
    real = heavy.run

    def run(function: Any, *arguments: Any, **more: Any) -> Any:
        asked.append((function.__module__, more))
        return real(function, *arguments, **more)

    monkeypatch.setattr(heavy, "run", run)
    assert services.preview(text, False).outcome.nothing
    with refused_with("inventory-mistakes") as wrong:
        services.preview(text.replace("neat_latch_inventory: 3", "neat_latch_inventory: 7"), False)
    assert wrong.value.extra["mistakes"][0]["says"].startswith("version 7")
    assert (
        asked == [("neatlatch.core.inventory.several_files", {"seconds": 60, "memory": 2**30})] * 2
    )


def test_of_two_who_apply_what_they_saw_in_the_same_moment_one_does(
    by: Person, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another edit that comes between the look and the transaction is found as well."""
    plain = yaml.safe_load(services.export(by))
    plain["connections"]["production/cargo-manifests"]["pace"] = 2.5
    text = yaml.safe_dump(plain, sort_keys=False)
    seen = services.preview(text, False).standing
    store = planning.store

    def meanwhile(*given: Any) -> ImportPlan:
        connections.change(
            by, Connection.objects.get(ref="production/cargo-manifests"), {"pace": 6.5}
        )
        return store(*given)

    monkeypatch.setattr(planning, "store", meanwhile)
    with refused_with("changed-since-preview"):
        services.apply(by, text, seen=seen)
    assert Connection.objects.get(ref="production/cargo-manifests").pace == 6.5
