"""The firm's applications accept what the house authority issues, and refuse what it revoked, within seconds: one asks, the other checks by itself."""

from __future__ import annotations

import json
from collections.abc import Iterator

import httpx
import pytest

from tests.harness import Desk, StandIns, wait_until

FILL = """
import json
from neatlatch.demo import house
from neatlatch.demo.load import load
from neatlatch.desk.applications.models import Place
from neatlatch.desk.clients.models import Client
from neatlatch.desk.credentials.models import Credential
from neatlatch.desk.house import issuing
from neatlatch.desk.people.models import Person
from neatlatch.core.registration import ClientMetadata
logins = load({port}, only=("berth-booking", "fuel-ledger"))
by = Person.objects.get(username="morag")
made = {{}}
for key, scheme, scopes in (("berth-booking", "oauth2_client", ("berths.read",)), ("fuel-ledger", "bearer", ("ledger.read",))):
    place = Place.objects.select_related("application", "environment").get(application__key=key, environment__key="production")
    fields = ClientMetadata("A test", ("t@gannet.example",), grants=("client_credentials",) if scheme == "oauth2_client" else (), scopes=frozenset(scopes))
    client, handover = issuing.register(by, place, fields, scheme)
    made[key] = [str(client.pk), client.client_id, house.take(by, handover), str(handover.credential_id)]
print(json.dumps({{"password": logins["morag"][1], **made}}))
"""


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[tuple[Desk, dict[str, list[str]]]]:
    from tests.settings import HOME_OF_TESTS

    found = Desk(HOME_OF_TESTS / "accepted", stand_ins, HOME_OF_TESTS / "standins" / "certificates" / "root.pem")
    found.manage("migrate", "--verbosity", "0")
    made = json.loads(found.python(FILL.format(port=stand_ins.port)).splitlines()[-1])
    found.start("desk")
    yield found, made
    found.kill()


def _trusted() -> httpx.Client:
    import ssl

    from tests.settings import HOME_OF_TESTS

    return httpx.Client(verify=ssl.create_default_context(cafile=str(HOME_OF_TESTS / "standins" / "certificates" / "root.pem")), timeout=30)


def test_one_that_asks_takes_a_key_and_refuses_it_once_revoked(desk: tuple[Desk, dict[str, list[str]]], stand_ins: StandIns) -> None:
    found, made = desk
    _, _, key, credential = made["fuel-ledger"]
    api, own = f"{stand_ins.secured('fuel', 'production')}/api/entries", {"Authorization": f"Bearer {key}"}
    web = _trusted()
    assert web.get(api, headers=own).status_code == 200
    assert web.put(f"{api}/1", headers=own, json={"vessel": "Auk", "litres": "1"}).status_code == 403  # the scope was not given
    assert web.get(f"{stand_ins.secured('fuel', 'sandbox')}/api/entries", headers=own).status_code == 401  # issued for Production
    assert web.get(api, headers={"Authorization": f"Bearer {key[:-1]}"}).status_code == 401
    administrator = found.client("morag", str(made["password"]))
    administrator.post(f"/api/credentials/{credential}/revocations", json={"why": "a test"}).raise_for_status()
    assert web.get(api, headers=own).status_code == 401


def test_one_that_checks_by_itself_learns_of_a_revocation(desk: tuple[Desk, dict[str, list[str]]], stand_ins: StandIns) -> None:
    found, made = desk
    client, client_id, secret, _ = made["berth-booking"]
    api, web = f"{stand_ins.secured('berths', 'production')}/api/bookings", _trusted()

    def token() -> dict[str, str]:
        answer = web.post(f"{found.url}/house/production/token", data={"grant_type": "client_credentials"}, auth=(client_id, secret))
        return {"Authorization": f"Bearer {answer.raise_for_status().json()['access_token']}"}

    first = token()
    assert web.get(api, headers=first).status_code == 200
    administrator = found.client("morag", str(made["password"]))
    administrator.post("/api/house/production/signing-keys").raise_for_status()
    assert web.get(api, headers=token()).status_code == 200  # the old key signs until every receiver knows the new one
    ended = administrator.post(f"/api/clients/{client}/token-revocations", json={"why": "a test"}).raise_for_status().json()
    assert ended["ended"] == 2
    wait_until(lambda: web.get(api, headers=first).status_code == 401, 10, "the refusal of the revoked token")
    assert web.get(api, headers=token()).status_code == 200  # the client itself was not revoked


def test_a_connection_of_ours_signs_in_at_the_house(desk: tuple[Desk, dict[str, list[str]]]) -> None:
    found, made = desk
    administrator = found.client("morag", str(made["password"]))
    found.start("worker")
    test = administrator.post("/api/connections/berth-booking-display/tests").json()
    done = wait_until(
        lambda: (lambda one: one if one["state"] == "done" else None)(administrator.get(f"/api/tests/{test['id']}").json()), 60, "the test"
    )
    assert done["passed"], done["rungs"][-1]
    pins = {one["key"]: one["fit"] for one in administrator.get("/api/connections/berth-booking-display").json()["pins"]}
    assert set(pins.values()) <= {"fits", "not_asked"}
