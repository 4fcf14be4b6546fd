"""The firm's applications accept what the house authority issues, and refuse what it revoked,
within seconds: one asks, the other checks by itself.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator

import httpx
import pytest

from tests.harness import NOBODY, ROOT, Desk, StandIns, free_ports, wait_until

FILL = """
import json
from neatlatch.demo import house
from neatlatch.demo.load import load
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.authority.certificates import services as certificates
from neatlatch.desk.work.drawing import services as drawing
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.ground.people.models import Person
from neatlatch.core.registration import ClientMetadata

logins = load({port}, only=("berth-booking", "fuel-ledger", "crew-roster"))
by = Person.objects.get(username="morag")
made = {{}}
for key, scheme, scopes in (
    ("berth-booking", "oauth2_client", ("berths.read",)),
    ("fuel-ledger", "bearer", ("ledger.read",)),
):
    deployment = Deployment.objects.select_related("application", "environment").get(
        application__key=key, environment__key="production"
    )
    fields = ClientMetadata(
        "A test",
        ("t@gannet.example",),
        grants=("client_credentials",) if scheme == "oauth2_client" else (),
        scopes=frozenset(scopes),
    )
    client, handover = issuing.register(by, deployment, fields, scheme)
    made[key] = [
        str(client.pk),
        client.client_id,
        house.take(by, handover),
        str(handover.credential_id),
    ]
deployment = Deployment.objects.select_related("application", "environment").get(
    application__key="crew-roster", environment__key="production"
)
roles = {{}}
for name, role in (("a planner", "planner"), ("a reader", "reader")):
    client, issued, handover = certificates.register(
        by, deployment, name, certificates.CertificateOrder("client")
    )
    roles[certificates.uri_of(client)] = role
    made[name] = [str(client.pk), str(issued.pk), house.take(by, handover)]
roles |= {{
    certificates.uri_of(one): "reader"
    for one in Client.objects.filter(deployment=deployment, name="Rest hours display")
}}
house.set_up_by_list(deployment, roles, {port})
workload = Workload.objects.get(name="Rest hours display")
workloads.use_connection(
    by,
    Connection.objects.get(ref="production/berth-booking-display"),
    workloads.WorkloadFields(workload.name, "", workload.kind, workload.owner_name, workload.runs),
    ["GET /bookings"],
)
client, handover = drawing.give(by, workload, "certificate", "draw")
made["draws"] = [str(client.pk), str(handover.credential_id), house.take(by, handover)]
key, handover = drawing.give(by, workload, "key", "draw")
made["key"] = [house.take(by, handover)]
print(json.dumps({{"password": logins["morag"][1], **made}}))
"""


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[tuple[Desk, dict[str, list[str]]]]:
    from tests.settings import HOME_OF_TESTS

    found = Desk(
        HOME_OF_TESTS / "accepted",
        stand_ins,
        HOME_OF_TESTS / "standins" / "certificates" / "root.pem",
    )
    found.migrate()
    made = json.loads(found.python(FILL.format(port=stand_ins.port)).splitlines()[-1])
    found.start("desk")
    yield found, made
    found.kill()


def _trusted() -> httpx.Client:
    import ssl

    from tests.settings import HOME_OF_TESTS

    return httpx.Client(
        verify=ssl.create_default_context(
            cafile=str(HOME_OF_TESTS / "standins" / "certificates" / "root.pem")
        ),
        timeout=30,
    )


def test_one_that_asks_takes_a_key_and_refuses_it_once_revoked(
    desk: tuple[Desk, dict[str, list[str]]], stand_ins: StandIns
) -> None:
    found, made = desk
    _, _, key, credential = made["fuel-ledger"]
    api, own = (
        f"{stand_ins.secured('fuel', 'production')}/api/entries",
        {"Authorization": f"Bearer {key}"},
    )
    web = _trusted()
    assert web.get(api, headers=own).status_code == 200
    assert (
        web.put(f"{api}/1", headers=own, json={"vessel": "Auk", "litres": "1"}).status_code == 403
    )  # the scope was not given
    assert (
        web.get(f"{stand_ins.secured('fuel', 'sandbox')}/api/entries", headers=own).status_code
        == 401
    )  # issued for Production
    assert web.get(api, headers={"Authorization": f"Bearer {key[:-1]}"}).status_code == 401
    administrator = found.client("morag", str(made["password"]))
    administrator.post(
        f"/api/credentials/{credential}/revocations", json={"why": "a test"}
    ).raise_for_status()
    assert web.get(api, headers=own).status_code == 401


def test_one_that_checks_by_itself_learns_of_a_revocation(
    desk: tuple[Desk, dict[str, list[str]]], stand_ins: StandIns
) -> None:
    found, made = desk
    client, client_id, secret, _ = made["berth-booking"]
    api, web = f"{stand_ins.secured('berths', 'production')}/api/bookings", _trusted()

    def token() -> dict[str, str]:
        answer = web.post(
            f"{found.url}/house/production/token",
            data={"grant_type": "client_credentials"},
            auth=(client_id, secret),
        )
        return {"Authorization": f"Bearer {answer.raise_for_status().json()['access_token']}"}

    first = token()
    assert web.get(api, headers=first).status_code == 200
    administrator = found.client("morag", str(made["password"]))
    administrator.post("/api/house/production/signing-keys").raise_for_status()
    assert (
        web.get(api, headers=token()).status_code == 200
    )  # the old key signs until every receiver knows the new one
    ended = (
        administrator.post(f"/api/clients/{client}/token-revocations", json={"why": "a test"})
        .raise_for_status()
        .json()
    )
    assert ended["ended"] == 2
    wait_until(
        lambda: web.get(api, headers=first).status_code == 401,
        what="the refusal of the revoked token",
    )
    assert web.get(api, headers=token()).status_code == 200  # the client itself was not revoked


def _shows(found: Desk, pem: str, trust: str = "") -> httpx.Client:
    """A caller that shows a certificate, from the PEM text as it was handed over."""
    import ssl

    from tests.settings import HOME_OF_TESTS

    context = ssl.create_default_context(
        cafile=trust or str(HOME_OF_TESTS / "standins" / "certificates" / "root.pem")
    )
    file = found.home / f"shown-{len(list(found.home.iterdir()))}.pem"
    file.write_text(pem)
    context.load_cert_chain(file)
    return httpx.Client(
        verify=context, timeout=30, limits=httpx.Limits(max_keepalive_connections=0)
    )


def test_one_that_takes_certificates_refuses_a_listed_one(
    desk: tuple[Desk, dict[str, list[str]]], stand_ins: StandIns
) -> None:
    found, made = desk
    api = f"{stand_ins.secured('crew', 'production')}/shifts"
    planner, reader = _shows(found, made["a planner"][2]), _shows(found, made["a reader"][2])
    assert planner.get(api).status_code == 200
    assert planner.put(f"{api}/7", json={"vessel": "Auk"}).status_code == 201
    assert planner.delete(f"{api}/7").status_code == 204
    assert reader.get(api).status_code == 200
    assert reader.put(f"{api}/7", json={"vessel": "Auk"}).status_code == 403
    assert (
        planner.get(f"{stand_ins.secured('crew', 'sandbox')}/shifts").status_code == 401
    )  # issued for Production
    administrator = found.client("morag", str(made["password"]))
    body = {"reason": "keyCompromise", "why": "a test"}
    administrator.post(
        f"/api/certificates/{made['a planner'][1]}/revocations", json=body
    ).raise_for_status()
    wait_until(
        lambda: planner.get(api).status_code == 401, what="the refusal of the revoked certificate"
    )
    assert reader.get(api).status_code == 200
    # The one that replaces it is let in by the same account, which is named in it.
    client = made["a planner"][0]
    again = (
        administrator.post(f"/api/clients/{client}/certificates", json={}).raise_for_status().json()
    )
    shown = (
        administrator.post(f"/api/handovers/{again['handover']}/revelations")
        .raise_for_status()
        .json()["value"]
    )
    assert _shows(found, shown).put(f"{api}/8", json={"vessel": "Auk"}).status_code == 201


def test_a_workload_draws_with_a_certificate(
    desk: tuple[Desk, dict[str, list[str]]], stand_ins: StandIns
) -> None:
    found, made = desk
    client, credential, pem = made["draws"]
    port = free_ports()
    with (found.home / "tls-listener.log").open("wb") as out:
        found.programs["tls-listener"] = subprocess.Popen(
            [sys.executable, "-m", "neatlatch.cli", "tls-listener", "--port", str(port)],
            cwd=ROOT,
            env=found.environment,
            stdout=out,
            stderr=out,
            start_new_session=True,
        )
    trust, listener = found.home / "trust.pem", f"https://localhost:{port}"
    trust.write_bytes(httpx.get(f"{found.url}/house/production/trust.pem", verify=NOBODY).content)
    wait_until(
        lambda: _shows(found, pem, str(trust)).get(f"{listener}/alive").is_success,
        30,
        "the start of the TLS listener",
    )
    file = found.home / "own.pem"
    file.write_text(pem)
    environment = {
        **found.environment,
        "NLATCH_URL": listener,
        "NLATCH_CA": str(trust),
        "NLATCH_CERTIFICATE": str(file),
    }
    listed = subprocess.run(
        [sys.executable, "-m", "neatlatch.cli", "list"],
        cwd=ROOT,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert [line.split()[0] for line in listed.stdout.splitlines()] == [
        "berth-booking-display",
        "crew-roster-display",
    ], listed.stderr
    drawn = subprocess.run(
        [sys.executable, "-m", "neatlatch.cli", "draw", "berth-booking-display"],
        cwd=ROOT,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert drawn.stdout.startswith("Authorization: Bearer "), drawn.stderr
    name, _, value = drawn.stdout.strip().partition(": ")
    assert (
        _trusted()
        .get(f"{stand_ins.secured('berths', 'production')}/api/bookings", headers={name: value})
        .status_code
        == 200
    )
    # Crew roster is called with a certificate, which no header carries: the relay is told, and was
    # not permitted.
    web = _shows(found, pem, str(trust))
    assert web.get(f"{listener}/draw/crew-roster-display").status_code == 409
    assert (
        httpx.get(f"{found.url}/draw", headers={"Client-Cert": ":MIIB:"}, verify=NOBODY).status_code
        == 401
    )
    import ssl

    keyed = httpx.Client(verify=ssl.create_default_context(cafile=str(trust)), timeout=30)
    assert keyed.get(f"{listener}/draw").status_code == 401
    assert (
        keyed.get(
            f"{listener}/draw", headers={"Authorization": f"Bearer {made['key'][0]}"}
        ).status_code
        == 200
    )
    other = _shows(found, made["a reader"][2], str(trust))
    assert (
        other.get(f"{listener}/draw").status_code == 401
    )  # a good certificate, for another application
    administrator = found.client("morag", str(made["password"]))
    administrator.post(
        f"/api/credentials/{credential}/revocations", json={"why": "a test"}
    ).raise_for_status()
    assert web.get(f"{listener}/draw").status_code == 401
    rejected = administrator.get(f"/api/clients/{client}/issued").json()["rejected_requests"]
    assert rejected[0]["what"] == "certificate revoked"
    told = (found.home / "tls-listener.log").read_text()
    assert "what='certificate revoked'" in told
    assert "Traceback" not in told


def test_a_connection_of_ours_signs_in_at_the_house(
    desk: tuple[Desk, dict[str, list[str]]],
) -> None:
    found, made = desk
    administrator = found.client("morag", str(made["password"]))
    found.start("worker")
    test = administrator.post("/api/connections/production/berth-booking-display/tests").json()
    done = wait_until(
        lambda: (lambda item: item if item["state"] == "done" else None)(
            administrator.get(f"/api/tests/{test['id']}").json()
        ),
        what="the test",
    )
    assert done["passed"], done["rungs"][-1]
    pins = {
        pin["key"]: pin["fit"]
        for pin in administrator.get("/api/connections/production/berth-booking-display").json()[
            "pins"
        ]
    }
    assert set(pins.values()) <= {"fits", "not_asked"}


def test_a_connection_of_ours_shows_a_certificate_of_the_house(
    desk: tuple[Desk, dict[str, list[str]]],
) -> None:
    found, made = desk
    administrator = found.client("morag", str(made["password"]))
    test = administrator.post("/api/connections/production/crew-roster-display/tests").json()
    done = wait_until(
        lambda: (lambda item: item if item["state"] == "done" else None)(
            administrator.get(f"/api/tests/{test['id']}").json()
        ),
        what="the test",
    )
    assert done["passed"], done["rungs"][-1]
    pins = {
        pin["key"]: (pin["fit"], pin["why"])
        for pin in administrator.get("/api/connections/production/crew-roster-display").json()[
            "pins"
        ]
    }
    assert {fit for fit, _ in pins.values()} <= {"fits", "not_asked"}, pins


@pytest.mark.parametrize(
    "ref", ["production/berth-booking-display", "production/crew-roster-display"]
)
def test_a_credential_of_the_house_is_replaced(
    desk: tuple[Desk, dict[str, list[str]]], ref: str
) -> None:
    """A client secret and a certificate: made, proven before anything uses it, switched, the old
    one revoked and proven refused.
    """
    found, made = desk
    web = found.client("morag", str(made["password"]))
    held = next(
        item
        for item in web.get("/api/credentials").json()["items"]
        if item["connections"] == [ref] and item["state"] == "active"
    )
    if (
        ref == "production/berth-booking-display"
    ):  # the demo has made a second one by hand, and only two may live
        second = next(
            item
            for item in web.get("/api/credentials").json()["items"]
            if item["client_key"] == held["client_key"] and item["id"] != held["id"]
        )
        web.post(
            f"/api/credentials/{second['id']}/revocations", json={"why": "a test"}
        ).raise_for_status()

    def act(what: str, **body: object) -> dict[str, str]:
        nonlocal last
        answer = (
            web.post(f"{at}/{what}", json=body)
            if body or what in ("new-credentials", "retirements")
            else web.post(f"{at}/{what}")
        )
        last = answer.raise_for_status().json()
        return {step["key"]: step["state"] for step in last["steps"]}

    last = (
        web.post(f"/api/credentials/{held['id']}/replacements", json={"way": "house"})
        .raise_for_status()
        .json()
    )
    at = f"/api/replacements/{last['id']}"
    assert act("new-credentials")["prove"] == "now"
    assert last["handover"] is None  # it goes from safe to safe
    assert act("proofs")["prove"] == "done", last["said"]
    assert act("switches")["switch"] == "done"
    assert web.get(f"/api/connections/{ref}").json()["secrets"][0]["hint"] == last["new_hint"]
    for workload in last["workloads"]:
        if not workload["draws"]:
            act("workload-changes", name=workload["name"], moved=True)
    act("retirements", anyway=True)
    wait_until(lambda: act("refusal-proofs")["refuse"] == "done", what="the refusal of the old one")
    assert last["outcome"] == "done", last["said"]
    test = web.post(f"/api/connections/{ref}/tests").json()
    done = wait_until(
        lambda: (lambda item: item if item["state"] == "done" else None)(
            web.get(f"/api/tests/{test['id']}").json()
        ),
        what="the test",
    )
    assert done["passed"], done["rungs"][-1]
