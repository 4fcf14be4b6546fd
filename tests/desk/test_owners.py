"""Owners: a person, a team or a contact outside, with address, zone and deputy; whose an
application, a workload or a credential is.
"""

from __future__ import annotations

from typing import Any

import pytest
import yaml
from django.test import Client as WebClient

from neatlatch.desk.estate.connections import accounts
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people.models import Owner, Person, Team
from neatlatch.desk.work.finding import index
from neatlatch.desk.work.inventory import services as inventory
from tests.refused import refused_with

from .conftest import Setup
from .test_workbenches import send


@pytest.fixture
def house(setup: Setup) -> Setup:
    """A connection, a person, a team of hers, and a workload of the connection."""
    Person.objects.create_user(
        "ewan",
        password="x",
        role="operator",
        first_name="Ewan",
        last_name="Tait",
        email="ewan@gannet.example",
    )
    accounts.save_team(setup.by, "Quays", ["ewan"])
    setup.latched()
    workloads.use_connection(
        setup.by,
        Connection.objects.get(),
        workloads.WorkloadFields("Night run", owner="Harbour office"),
        ["GET /manifests"],
    )
    return setup


@pytest.fixture
def web(house: Setup) -> WebClient:
    client = WebClient()
    client.force_login(house.by, backend="django.contrib.auth.backends.ModelBackend")
    return client


def named(text: str) -> Owner:
    found = owners.named(text)
    assert found is not None
    return found


def as_written(owner: Owner) -> str:
    return owners.written([owner])[owner.pk]


def of(web: WebClient, name: str) -> dict[str, Any]:
    found = send(web, "get", f"/owners?words={name.split()[0]}")["items"]
    return next(item for item in found if item["name"] == name)


@pytest.mark.parametrize(
    ("text", "key"),
    [
        ("TEAM/quays", "team/Quays"),
        ("Ögmund", "Ögmund"),
        ("ewan", "person/ewan"),
        ("Ewan Tait", "person/ewan"),
        ("ewan tait", "person/ewan"),
        ("EWAN@gannet.example", "person/ewan"),
        ("person/ewan", "person/ewan"),
        ("quays", "team/Quays"),
        ("team/Quays", "team/Quays"),
        ("harbour OFFICE", "Harbour office"),
        ("E. Tait", "E. Tait"),
        ("pier@gannet.example", "pier@gannet.example"),
    ],
)
def test_whom_a_text_names(house: Setup, text: str, key: str) -> None:
    before = Owner.objects.filter(kind="contact").count()
    assert named(text).key == key
    assert named(key) == named(text)  # named again is the same one
    assert Owner.objects.filter(kind="contact").count() <= before + 1
    assert owners.named("  ") is None


def test_how_an_owner_is_written_so_that_it_is_read_again(house: Setup) -> None:
    Owner.objects.create(kind="contact", name="Ewan Tait")
    for text, written in (
        ("ewan", "Ewan Tait"),
        ("quays", "Quays"),
        ("harbour office", "Harbour office"),
    ):
        assert as_written(named(text)) == written
        assert named(written) == named(text)
    contact = Owner.objects.get(kind="contact", name="Ewan Tait")
    assert (
        as_written(contact) == "Ewan Tait"
    )  # nothing names a contact that a person of its name stands before
    Person.objects.create_user(
        "ewan2", password="x", role="reader", first_name="Ewan", last_name="Tait"
    )
    assert as_written(named("ewan")) == "person/ewan"
    assert named(as_written(contact)) == contact


def test_two_people_of_one_name_are_neither_of_them(house: Setup) -> None:
    Person.objects.create_user(
        "ewan2", password="x", role="reader", first_name="Ewan", last_name="Tait"
    )
    assert named("Ewan Tait").kind == "contact"
    assert (named("ewan").key, named("ewan2").key) == ("person/ewan", "person/ewan2")
    for wrong in ("person/nobody", "team/Nobody", "x" * 121):
        with refused_with("invalid-fields") as refused:
            owners.named(wrong)
        assert "owner" in refused.value.errors


def test_a_contact_is_kept_with_how_it_is_reached(house: Setup, web: WebClient) -> None:
    given = {
        "name": "Pier 4",
        "mail": "pier4@gannet.example",
        "zone": "Atlantic/Faroe",
        "deputy": "Quays",
    }
    made = send(web, "post", "/owners", given, 201)["owner"]
    assert (made["kind"], made["mail"], made["zone"], made["deputy"]) == (
        "contact",
        "pier4@gannet.example",
        "Atlantic/Faroe",
        "Quays",
    )
    address = f"/owners/{made['id']}"
    for wrong, field in (
        ({"mail": "nowhere"}, "mail"),
        ({"zone": "Sound/Gannet"}, "zone"),
        ({"deputy": "Pier 4"}, "deputy"),
        ({"deputy": "person/nobody"}, "deputy"),
        ({"name": " "}, "name"),
        ({"name": "team/X"}, "name"),
        ({"name": "harbour office"}, "name"),
        ({"name": "x" * 121}, "name"),
    ):
        assert set(send(web, "patch", address, wrong, 422, **{"If-Match": '"1"'})["errors"]) == {
            field
        }
    changed = send(web, "patch", address, {"name": "Pier four", "zone": ""}, **{"If-Match": '"1"'})[
        "owner"
    ]
    assert (changed["name"], changed["mail"], changed["zone"], changed["version"]) == (
        "Pier four",
        "pier4@gannet.example",
        "",
        2,
    )
    assert (
        send(web, "patch", address, {"zone": "Europe/London"}, 412, **{"If-Match": '"1"'})[
            "current_version"
        ]
        == 2
    )
    assert Entry.objects.filter(did="changed", noun="owner").get().details["changes"]
    quays = of(web, "Quays")
    taken = {"deputy": "Pier four"}
    send(web, "patch", f"/owners/{quays['id']}", taken, **{"If-Match": f'"{quays["version"]}"'})
    assert send(web, "delete", address, status=409)["code"] == "owner-is-deputy"
    owners.change(house.by, named("Quays"), {"deputy": ""})
    send(web, "delete", address, status=204)
    send(web, "get", address, status=404)
    send(web, "post", "/owners", {"name": "Harbour office"}, 422)


def test_what_somebody_owns_is_on_their_page_and_keeps_them(web: WebClient) -> None:
    office = of(web, "Harbour office")
    assert (office["workloads"], office["applications"], office["credentials"]) == (1, 0, 0)
    whole = send(web, "get", f"/owners/{office['id']}")
    assert [(thing["what"], thing["name"]) for thing in whole["things"]] == [("job", "Night run")]
    assert send(web, "delete", f"/owners/{office['id']}", status=409)["code"] == "owner-still-owns"
    assert Workload.objects.get().owner_name == "Harbour office"


def test_a_credential_has_an_owner(web: WebClient) -> None:
    key = Credential.objects.get(kind="client_secret")
    address = f"/credentials/{key.pk}"
    noted = send(web, "get", address)
    assert (noted["owner"], noted["owner_from"]) == ("t@gannet.example", "account")
    said = send(web, "put", f"{address}/owner", {"owner": "Ewan Tait"})
    assert (said["owner"], said["owner_from"]) == ("Ewan Tait", "said")
    listed = send(web, "get", "/credentials?words=owner:tait")["items"]
    assert [item["id"] for item in listed] == [str(key.pk)]
    assert Entry.objects.get(did="set the owner of").details["owner"] == "Ewan Tait"
    send(web, "put", f"{address}/owner", {"owner": "x" * 200}, 422)
    send(web, "put", f"{address}/owner", {"owner": ""})
    assert Credential.objects.get(pk=key.pk).owner is None


def test_who_leaves_is_offered_a_new_owner_for_each(house: Setup, web: WebClient) -> None:
    workloads.change(house.by, Workload.objects.get(), {"owner": "ewan"})
    send(
        web,
        "put",
        f"/credentials/{Credential.objects.get(kind='client_secret').pk}/owner",
        {"owner": "E. Tait"},
    )  # a contact that is called as he is
    owners.change(house.by, named("Harbour office"), {"deputy": "person/ewan"})
    things = send(web, "get", "/people/ewan/belongings")["things"]
    his = {thing["what"]: thing for thing in things if thing["act"] == "hand_over"}
    assert set(his) == {"job", "credential", "deputy"}
    assert {text["offer"] for text in his.values()} == {"Quays"}  # his only team
    owners.change(house.by, named("ewan"), {"deputy": "Harbour office"})
    assert send(web, "get", "/people/ewan/belongings")["things"][0]["offer"] == "Harbour office"
    each = {
        his["job"]["key"]: "team/Quays",
        his["credential"]["key"]: "Harbour office",
        his["deputy"]["key"]: "Quays",
    }
    send(
        web,
        "post",
        "/people/ewan/ownership-transfers",
        {"each": {**each, his["job"]["key"]: " "}},
        422,
    )
    send(
        web,
        "post",
        "/people/ewan/ownership-transfers",
        {"each": {**each, his["job"]["key"]: "person/ewan"}},
        422,
    )
    left = send(web, "post", "/people/ewan/ownership-transfers", {"each": each})
    assert [thing for thing in left["things"] if thing["act"] == "hand_over"] == []
    assert Workload.objects.get().owner == named("team/Quays")
    assert Credential.objects.get(kind="client_secret").owner == named("Harbour office")
    assert Owner.objects.get(name="Harbour office").deputy == named("team/Quays")


def test_a_team_that_goes_leaves_what_it_owned_to_a_contact_of_its_name(
    house: Setup, web: WebClient
) -> None:
    workloads.change(house.by, Workload.objects.get(), {"owner": "Quays"})
    accounts.save_team(house.by, "Quay side", ["ewan"], Team.objects.get())
    assert Workload.objects.get().owner_name == "Quay side"
    assert [item.name for item in index.find("quay side")] == ["Quay side", "Night run"]
    accounts.remove_team(house.by, Team.objects.get())
    owner = Workload.objects.get().owner
    assert owner is not None
    assert (owner.kind, owner.key) == ("contact", "Quay side")


def test_owners_are_in_the_inventory(house: Setup) -> None:
    owners.change(
        house.by,
        named("Harbour office"),
        {"mail": "office@gannet.example", "zone": "Europe/London", "deputy": "Quays"},
    )
    owners.change(house.by, named("ewan"), {"zone": "Atlantic/Faroe"})
    file = yaml.safe_load(inventory.export(house.by))
    assert file["owners"] == {
        "Harbour office": {
            "mail": "office@gannet.example",
            "zone": "Europe/London",
            "deputy": "team/Quays",
        },
        "person/ewan": {"zone": "Atlantic/Faroe"},
    }
    assert file["workloads"]["Night run/sandbox"]["owner"] == "Harbour office"
    Owner.objects.update(zone="", address="", deputy=None)
    del file["base"]  # what the file says is simply what is wanted
    file["workloads"]["Night run/sandbox"]["owner"] = "Una Flett"
    inventory.apply(house.by, yaml.safe_dump(file))
    office = named("Harbour office")
    assert (office.mail, office.zone, office.deputy) == (
        "office@gannet.example",
        "Europe/London",
        named("Quays"),
    )
    assert Workload.objects.get().owner_name == "Una Flett"
    file["owners"] = {"Harbour office": {"zone": "Sound/Gannet"}}
    with refused_with("inventory-mistakes") as refused:
        inventory.apply(house.by, yaml.safe_dump(file))
    assert "time zone" in refused.value.detail
    del file["owners"]
    inventory.apply(house.by, yaml.safe_dump(file), prune=True)
    assert not Owner.objects.exclude(zone="").exists()
    assert Owner.objects.filter(
        name="Harbour office"
    ).exists()  # how they are reached is forgotten, and not that they are
