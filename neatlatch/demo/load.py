"""Fill an empty desk with the scenario, against stand-ins that are running."""

from __future__ import annotations

import math
import secrets
import uuid
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import yaml
from django.conf import settings
from django.db import transaction
from django.utils import timezone

from neatlatch.core import profiles
from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.applications import services as applications
from neatlatch.desk.applications.models import Environment, Place
from neatlatch.desk.clients import services as clients
from neatlatch.desk.clients.models import Client
from neatlatch.desk.connections import services as connections
from neatlatch.desk.connections import sign_in
from neatlatch.desk.connections.models import Connection
from neatlatch.desk.credentials.models import Handover
from neatlatch.desk.credentials.services import close
from neatlatch.desk.people import services as people
from neatlatch.desk.people.models import Person
from neatlatch.desk.rounds import services as rounds
from neatlatch.desk.rounds.models import Sample

from .visitor import Visitor

SCENARIO = Path(__file__).with_name("scenario.yaml")
_WORDS = [
    "anchor",
    "basin",
    "beacon",
    "binnacle",
    "bollard",
    "buoy",
    "capstan",
    "cleat",
    "davit",
    "ferry",
    "fender",
    "fjord",
    "gannet",
    "harbour",
    "hawser",
    "island",
    "keel",
    "lantern",
    "mooring",
    "paddle",
    "quay",
    "rudder",
]


def password() -> str:
    """A password that can be typed from the screen: five words, made anew for each demo."""
    return "-".join(secrets.choice(_WORDS) for _ in range(5))


def load_environments(story: dict[str, Any]) -> None:
    """The environments of the firm."""
    for order, one in enumerate(story["environments"]):
        Environment.objects.update_or_create(key=one["key"], defaults={**one, "order": order})


def load_people(story: dict[str, Any]) -> dict[str, tuple[str, str]]:
    """The people; answers role and password by login name."""
    logins = {}
    for one in story["people"]:
        logins[one["username"]] = (one["role"], password())
        people.add(None, one["username"], one["name"], one["role"], logins[one["username"]][1])
    return logins


def load(control_port: int, story: dict[str, Any] | None = None) -> dict[str, tuple[str, str]]:
    """Load everything; answers the logins. The stand-ins must run at ``control_port`` and its neighbours."""
    story = story or yaml.safe_load(SCENARIO.read_text())
    load_environments(story)
    logins = load_people(story)
    by = Person.objects.get(username="morag")
    told = story["application"]
    profile = profiles.from_dict(told["profile"])
    for environment, offset in told["ports"].items():
        address = f"https://localhost:{control_port + offset}"
        place = applications.add_from_metadata(
            by, told["name"], environment, address, f"{address}/openapi.json", "", told["purpose"], told["owner"]
        )
    applications.change(by, place.application, {"profile": profiles.to_dict(profile)})
    for one in story["connections"]:
        _connection(by, story, one, control_port)
    return logins


def _connection(by: Person, story: dict[str, Any], told: dict[str, Any], control_port: int) -> None:
    place = Place.objects.select_related("application", "environment").get(environment__key=told["environment"])
    visitor = Visitor(f"http://127.0.0.1:{control_port + story['application']['ports'][told['environment']] - 1}")
    visitor.enter_office()
    make = _by_hand if told.get("by_hand") else _by_protocol
    connection = make(by, story, told, place, visitor)
    if told.get("by_hand"):
        # Nobody has tried this one yet, and its owner wants no test before being asked: it stays out of the rounds.
        _users(by, connection, told)
        connections.change(by, connection, {"paused": True})
        return
    _history(connection)
    rounds.run(rounds.begin_test(by, connection))
    _users(by, connection, told)
    if slip := told.get("slip"):
        uri = connection.values["redirect_uri"] + slip["redirect_uri_end"]
        connections.change(by, connection, {"values": {"redirect_uri": uri}, "scopes": slip["scopes"]})
        rounds.run(rounds.begin_test(by, connection))


def _users(by: Person, connection: Connection, told: dict[str, Any]) -> None:
    for user in told["users"]:
        connections.add_user(by, connection, user["name"], user["kind"], user["owner"], user["runs"], user["operations"])


def _by_protocol(by: Person, story: dict[str, Any], told: dict[str, Any], place: Place, visitor: Visitor) -> Connection:
    uri = f"{settings.PUBLIC_URL}/return"
    fields = ClientMetadata(told["client"], ("connections@gannet.example",), False, (uri,), scopes=frozenset(told["scopes"]))
    client, handover = clients.register(by, place, fields)
    assert handover is not None
    with transaction.atomic():
        Handover.objects.filter(pk=handover).update(shown=timezone.now())
        close(by, Handover.objects.get(pk=handover))
    wanted = [one.name for one in place.application.read_profile().scopes if one.administrator]
    for scope in sorted(set(wanted) & {*told["scopes"], *told.get("slip", {}).get("scopes", [])}):
        visitor.consent(client.client_id, scope)
        clients.note_consent(by, Client.objects.get(pk=client.pk), scope, True)
    client = Client.objects.select_related("place__application", "place__environment").get(pk=client.pk)
    scheme = place.application.read_profile().scheme(profiles.CODE)
    assert scheme is not None
    values = connections.defaults(place, scheme, client, uri) | {"account": story["account"]}
    connection, _ = connections.create(by, place, told["ref"], profiles.CODE, client, values, told["scopes"], "")
    _sign_in(by, connection, visitor, story["account"])
    return connection


def _sign_in(by: Person, connection: Connection, visitor: Visitor, account: str) -> None:
    _, address = sign_in.begin(by, connection, "")
    back = visitor.sign_in(address, account)
    done = sign_in.come_back(by, back, parse_qs(urlsplit(back).query)["state"][0])
    if done is None or done.outcome != "signed_in":
        raise RuntimeError(f"The demo could not sign in: {done.says if done else 'unknown state'}")


def _by_hand(by: Person, story: dict[str, Any], told: dict[str, Any], place: Place, visitor: Visitor) -> Connection:
    grants = ("client_credentials",)
    fields = ClientMetadata(told["client"], ("connections@gannet.example",), False, (), grants, frozenset(told["scopes"]))
    client_id, secret = visitor.add_client(fields.name, [], sorted(fields.scopes), list(grants))
    client = clients.prepare(by, place, fields)
    for step in clients.steps(client):
        client = clients.tick(by, client, step.key, True)
    client, _ = clients.enter_client_id(by, client, client_id)
    scheme = place.application.read_profile().scheme(profiles.CLIENT)
    assert scheme is not None
    values = connections.defaults(place, scheme, client, "")
    connection, _ = connections.create(by, place, told["ref"], profiles.CLIENT, client, values, told["scopes"], secret)
    return connection


def _history(connection: Connection) -> None:
    """Two hours of made-up samples, so that the wall has a past to show."""
    now = timezone.now()
    for ago in range(23, 0, -1):
        ms = 62 + 9 * math.sin(ago * 0.9) + 5 * math.sin(ago * 2.3)
        Sample.objects.create(
            test_id=uuid.uuid4(), connection=connection, at=now - timedelta(minutes=5 * ago), passed=True, ms=round(ms, 1)
        )
