"""What held when it was attacked keeps holding (security.md, “Held”), where no other test says so:
things that serve once, also to many who come at once.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from authlib.integrations.requests_client import OAuth2Session
from django.db import connection
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.core import recovery
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import KINDS
from neatlatch.desk.authority import handovers
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.authority.records.house.models import Access, Grant
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.credentials.models import Handover
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.people import challenges, factors
from neatlatch.desk.ground.people.models import Challenge, Passkey, Person, RecoveryCode

from .conftest import codes_of, forget_the_journal
from .houses import ASK, BACK, House

ROOT = Path(__file__).parents[2]
MANY = 8


def at_once(act: Callable[[], Any]) -> list[Any]:
    """What each of many gets who do the same in the same moment; a refusal is what it says."""
    start, got = threading.Barrier(MANY), []

    def run() -> None:
        start.wait(60)
        try:
            got.append(act())
        except Problem as problem:
            got.append(problem)
        finally:
            connection.close()

    threads = [threading.Thread(target=run) for _ in range(MANY)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    assert len(got) == MANY
    return got


def test_a_link_hands_over_once(house: House) -> None:
    client, _ = house.client(scheme="oauth2_client")
    handover = issuing.add_secret(house.by, client)
    _, address, code = handovers.make_link(house.by, Handover.objects.get(pk=handover.pk), "Quays")
    value = address.rpartition("/")[2]
    got = at_once(lambda: handovers.take(value, code, "Una", "192.0.2.1"))
    assert sum(not isinstance(item, Problem) for item in got) == 1


def test_an_authorization_code_serves_once(house: House) -> None:
    """RFC 6749 section 4.1.2: once; and where it comes again, what came of it ends."""
    client, secret = house.client()
    verifier = "nine-and-forty-gannets-dive-for-herring-off-the-sound"
    session = OAuth2Session(
        client.client_id, secret, redirect_uri=BACK, code_challenge_method="S256"
    )
    address, _ = session.create_authorization_url(
        f"{house.issuer}/authorize", code_verifier=verifier
    )
    back = house.allow(address)
    form = {
        "grant_type": "authorization_code",
        "code": parse_qs(urlsplit(back).query)["code"][0],
        "redirect_uri": BACK,
        "code_verifier": verifier,
    }
    statuses = [
        item.status_code
        for item in at_once(
            lambda: ASK.post(f"{house.issuer}/token", data=form, auth=(client.client_id, secret))
        )
    ]
    assert statuses.count(200) == 1
    assert set(statuses) == {200, 400}
    assert Grant.objects.get().revoked is not None
    assert not Access.objects.filter(revoked=None).exists()


def test_a_refresh_token_serves_once(house: House) -> None:
    client, secret = house.client()
    _, tokens = house.with_code(client, secret)
    form = {"grant_type": "refresh_token", "refresh_token": tokens["refresh_token"]}
    statuses = [
        item.status_code
        for item in at_once(
            lambda: ASK.post(f"{house.issuer}/token", data=form, auth=(client.client_id, secret))
        )
    ]
    assert statuses.count(200) <= 1
    assert Grant.objects.get().revoked is not None


@pytest.fixture
def person(transactional_db: None) -> Iterator[Person]:
    yield Person.objects.create_user("morag", password="x", role="administrator")
    forget_the_journal()


def test_a_one_time_code_serves_once(person: Person) -> None:
    code = next(codes_of(person))
    assert at_once(lambda: factors.check(person, code)).count(None) == 1


def test_a_recovery_code_serves_once(person: Person) -> None:
    next(codes_of(person))
    text = recovery.written(b"0123456789")
    RecoveryCode.objects.create(person=person, digest=recovery.digest(recovery.read(text) or ""))
    assert at_once(lambda: factors.check(person, text)).count(None) == 1


def test_what_a_passkey_signed_serves_once(person: Person) -> None:
    passkey = Passkey.objects.create(
        person=person, name="x", credential_id="x", public_key=b"", added=timezone.now()
    )
    challenges.give_out(
        person, Challenge.Purpose.CODE, "passkey-abc", timedelta(minutes=2), passkey
    )
    assert at_once(lambda: factors.check(person, "passkey-abc")).count(None) == 1


def test_every_package_has_a_hash_and_names_no_registry() -> None:
    """Each line that names a package is followed by what it must be; the front end's lock says it
    by integrity (Subresource Integrity, “sha512-”).
    """
    for name in ("requirements.txt", "requirements-dev.txt"):
        text = (ROOT / name).read_text()
        packages = [part for part in text.replace("\\\n", " ").splitlines() if part[:1].isalnum()]
        assert len(packages) > 20
        assert [package for package in packages if "--hash=sha256:" not in package] == []
        assert "://" not in "\n".join(packages)
    lock = json.loads((ROOT / "web" / "package-lock.json").read_text())["packages"]
    bare = [
        name
        for name, one in lock.items()
        if name and not one.get("link") and not str(one.get("integrity", "")).startswith("sha512-")
    ]
    assert bare == []
    assert [name for name, one in lock.items() if "://" in str(one.get("resolved", ""))] == []


EDITS = {
    "connection": ("/connections/sandbox/fuel", {"pace": 2.0}),
    "sharing": ("/connections/sandbox/fuel/sharing", {"individual": False, "team": ""}),
    "workload": ("/workloads/{workload}", {"owner": "Freight"}),
    "client of the house": ("/clients/{house}", {"contacts": ["other@gannet.example"]}),
    "client by hand": ("/clients/{hand}", {"contacts": ["other@gannet.example"]}),
    "application": ("/applications/fuel-ledger", {"purpose": "Bunkers"}),
}


@pytest.fixture
def edited(house: House) -> dict[str, str]:
    deployment = house.deployment("fuel-ledger")
    client, _ = house.client()
    hand = clients.prepare(
        house.by,
        deployment,
        ClientMetadata("By hand", ("t@gannet.example",), redirect_uris=(BACK,)),
    )
    values = connections.defaults(deployment, KINDS["oauth2_code"], hand, BACK)
    connections.create(
        house.by,
        deployment,
        "fuel",
        "oauth2_code",
        hand,
        {**values, "client_id": "by-hand"},
        [],
        {},
    )
    workload = workloads.add(
        house.by, workloads.WorkloadFields("Bunker report", "sandbox", "job", "Quays", "daily")
    )
    return {"house": str(client.pk), "hand": str(hand.pk), "workload": str(workload.pk)}


@pytest.mark.parametrize("what", EDITS)
def test_of_edits_made_on_the_same_version_one_is_saved(
    house: House, edited: dict[str, str], what: str
) -> None:
    """RFC 9110 section 13.1.1: also where all have been found to fit before the first is saved."""
    address, body = EDITS[what]
    method = "put" if what == "sharing" else "patch"
    path = "/api" + address.format(**edited)
    whole = house.web.get(path.removesuffix("/sharing")).json()

    def edit() -> int:
        web = WebClient()
        web.force_login(house.by, backend="django.contrib.auth.backends.ModelBackend")
        said = getattr(web, method)(
            path,
            json.dumps(body),
            content_type="application/json",
            headers={"If-Match": f'"{whole["version"]}"'},
        )
        return int(said.status_code)

    got = at_once(edit)
    assert (got.count(200), got.count(412)) == (1, MANY - 1)
