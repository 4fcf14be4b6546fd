"""The other endpoints of the house authority: metadata, registration, introspection, its signing
keys, and what is told of a refusal to whom.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
from dataclasses import replace
from datetime import timedelta
from typing import Any
from uuid import uuid4

import pytest
import time_machine
from authlib.oauth2.rfc8414 import AuthorizationServerMetadata
from django.db import connection
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone
from joserfc import jwt
from joserfc.jwk import KeySet

from neatlatch.core import house_key
from neatlatch.core.authority.ceiling import Ceiling
from neatlatch.core.authority.refusing import RequestRefused
from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.authority.house import issuing, quick, rights, signing, tokens
from neatlatch.desk.authority.records.house.models import Access, Grant, RejectedRequest, SigningKey
from neatlatch.desk.estate.clients import services
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.drawing.models import Drawn
from neatlatch.desk.work.inventory import services as inventory

from .houses import ASK, BACK, House, house_secret_again, rejected


def test_metadata_is_sound_and_stands_where_rfc_8414_says(house: House) -> None:
    answer = ASK.get(f"{house.base}/.well-known/oauth-authorization-server/house/sandbox")
    document = AuthorizationServerMetadata(
        {
            key: value.replace("http://", "https://") if isinstance(value, str) else value
            for key, value in answer.json().items()
        }
    )
    document.validate()
    assert document["issuer"].endswith("/house/sandbox")
    assert {"ledger.read", "berths.read"} <= set(document["scopes_supported"])
    assert (
        ASK.get(f"{house.base}/.well-known/oauth-authorization-server/house/nowhere").status_code
        == 404
    )


def test_registration_by_protocol(house: House) -> None:
    """RFC 7591 and RFC 7592."""
    right, value = rights.give(house.by, house.deployment("fuel-ledger"), 1, 7)
    auth = {"Authorization": f"Bearer {value}"}
    wanted = {
        "client_name": "Bunker report",
        "redirect_uris": [BACK],
        "grant_types": ["authorization_code", "refresh_token"],
        "scope": "ledger.read other",
    }
    wrong = ASK.post(
        f"{house.issuer}/register",
        json={**wanted, "redirect_uris": ["http://plain.example/back"]},
        headers=auth,
    )
    assert (wrong.status_code, wrong.json()["error"]) == (400, "invalid_redirect_uri")
    made = ASK.post(f"{house.issuer}/register", json=wanted, headers=auth)
    assert made.status_code == 201
    told = made.json()
    assert (
        told["scope"] == "ledger.read"
    )  # what is not permitted is left out, and the answer shows it (RFC 7591 §2)
    assert told["client_secret_expires_at"] > 0
    assert (
        Credential.objects.get(client__client_id=told["client_id"]).value is None
    )  # nobody can read it back
    assert (
        ASK.post(f"{house.issuer}/register", json=wanted, headers=auth).status_code == 401
    )  # the right was good for one
    _, tokens_told = house.with_code(
        Client.objects.get(client_id=told["client_id"]), told["client_secret"]
    )
    assert tokens_told["scope"] == "ledger.read"

    own = {"Authorization": f"Bearer {told['registration_access_token']}"}
    address = told["registration_client_uri"].replace("http://127.0.0.1:8600", house.base)
    read = ASK.get(address, headers=own).json()
    assert (read["client_name"], read["redirect_uris"]) == ("Bunker report", [BACK])
    deployment = house.deployment("fuel-ledger")
    Connection.objects.create(
        ref="bunkers",
        deployment=deployment,
        scheme="oauth2_code",
        client=Client.objects.get(client_id=told["client_id"]),
        changed_at=timezone.now(),
        state="latched",
    )
    same = ASK.put(address, json={**wanted, "client_id": told["client_id"]}, headers=own)
    assert same.status_code == 200
    assert Connection.objects.get().state == "latched"  # nothing is another than it was
    changed = ASK.put(
        address,
        json={**wanted, "client_id": told["client_id"], "client_name": "Bunkers"},
        headers=own,
    )
    assert changed.json()["client_name"] == "Bunkers"
    assert (
        Connection.objects.get().state == "not_proven"
    )  # nobody has tried it since its client was changed
    Connection.objects.all().delete()
    assert ASK.put(address, json={**wanted, "client_id": "another"}, headers=own).status_code == 400
    assert ASK.get(address, headers=auth).status_code == 401
    assert ASK.delete(address, headers=own).status_code == 204
    assert not Client.objects.filter(client_id=told["client_id"]).exists()
    assert ASK.get(address, headers=own).status_code == 401


def test_by_protocol_nothing_comes_back_that_was_taken_away(house: House) -> None:
    """M5: anyone who holds the registration access token of a client is held to what an
    administrator left it.
    """
    most = Ceiling(
        frozenset({"ledger.read", "ledger.write"}),
        frozenset({"authorization_code", "refresh_token"}),
    )
    _, value = rights.give(house.by, house.deployment("fuel-ledger"), 2, 7, most)
    auth = {"Authorization": f"Bearer {value}"}
    wanted = {
        "client_name": "Bunkers",
        "redirect_uris": [BACK, f"{BACK}/two"],
        "grant_types": ["authorization_code", "refresh_token"],
    }
    beyond = {**wanted, "grant_types": ["client_credentials"], "redirect_uris": []}
    assert (
        ASK.post(f"{house.issuer}/register", json=beyond, headers=auth).json()["error"]
        == "invalid_client_metadata"
    )
    told = ASK.post(f"{house.issuer}/register", json=wanted, headers=auth).json()
    assert set(told["scope"].split()) <= {"ledger.read", "ledger.write"}
    own = {"Authorization": f"Bearer {told['registration_access_token']}"}
    address = told["registration_client_uri"].replace("http://127.0.0.1:8600", house.base)
    client = Client.objects.get(client_id=told["client_id"])
    kept = replace(
        client.fields(),
        redirect_uris=(BACK,),
        scopes=frozenset({"ledger.read"}),
        grants=("authorization_code",),
    )
    services.change(house.by, client, lambda _: kept)

    def put(**more: Any) -> Any:
        return ASK.put(
            address, json={**wanted, "client_id": told["client_id"], **more}, headers=own
        )

    assert put().json()["error"] == "invalid_client_metadata"  # the grant was taken away
    assert put(grant_types=["authorization_code"]).json()["error"] == "invalid_redirect_uri"
    less = put(
        grant_types=["authorization_code"], redirect_uris=[BACK], scope="ledger.read ledger.write"
    )
    assert (less.status_code, less.json()["scope"]) == (200, "ledger.read")
    assert Client.objects.get(pk=client.pk).fields().redirect_uris == (BACK,)
    client.refresh_from_db()
    services.change(
        house.by, client, lambda item: replace(item, redirect_uris=(BACK, f"{BACK}/two"))
    )
    assert (
        put(grant_types=["authorization_code"], scope="ledger.read").status_code == 200
    )  # given back by an administrator
    # What an inventory file takes away does not come back either.
    text = inventory.export(house.by)
    assert f"{BACK}/two" in text
    inventory.apply(
        house.by, "\n".join(line for line in text.splitlines() if f"{BACK}/two" not in line)
    )
    assert (
        put(grant_types=["authorization_code"], scope="ledger.read").json()["error"]
        == "invalid_redirect_uri"
    )


@pytest.mark.parametrize(
    "uri",
    [
        "https://a.example:abc/back",
        "https://[::1",
        "https://a.example:" + "9" * 1500,
        "x\0y",
        "https://a.example/\ud800",
    ],
)
def test_registration_of_what_is_no_redirect_uri(house: House, uri: str) -> None:
    """RFC 7591 §3.2.2: a refusal for any caller, whatever is there."""
    _, value = rights.give(house.by, house.deployment("fuel-ledger"), 1, 7)
    web = WebClient(raise_request_exception=False, headers={"Authorization": f"Bearer {value}"})
    for field in ("redirect_uris", "client_name", "scope"):
        document = {
            "client_name": "Bunkers",
            "redirect_uris": [uri],
            "grant_types": ["authorization_code"],
        }
        if field != "redirect_uris":
            if "\ud800" not in uri:
                continue
            document |= {"redirect_uris": [BACK], field: uri}
        refused = web.post(
            "/house/sandbox/register", json.dumps(document), content_type="application/json"
        )
        assert (refused.status_code, refused.json()["error"][:8]) == (400, "invalid_"), field


def test_keys_are_told_apart_in_the_log_and_never_to_the_caller(house: House) -> None:
    client, key = house.client("fuel-ledger", "bearer", scopes=("ledger.read",))
    asker = house.resource()
    good = house.introspect(key, asker)
    assert (good["active"], good["scope"], good["client_id"]) == (
        True,
        "ledger.read",
        client.client_id,
    )
    assert Credential.objects.get(client=client).last_used is not None
    end = "A" if key[-1] != "A" else "B"
    body = key.rsplit("_", 2)
    other = issuing.house_key.make("nlk", "sandbox", b"otherkey", b"\x01" * 32)
    swapped = issuing.house_key.make("nlk", "sandbox", int.to_bytes(0, 8, "big"), b"\x02" * 32)
    for shown, logged in (
        (key[:-1] + end, "key mistyped"),
        (key[:-3], "key cut"),
        (f"{body[0]}_{body[1][:20]}", "key cut"),
        (other, "key unknown"),
        (swapped, "key unknown"),
        ("s3cret", "key unknown"),
        (key.replace("nlk_sandbox", "nlk_staging"), "key mistyped"),
    ):
        assert house.introspect(shown, asker) == {"active": False}, shown
        assert rejected()[0] == logged, shown
    assert house.introspect(key, house.resource("berth-booking")) == {"active": False}
    assert rejected()[0] == "key for another application"
    with time_machine.travel(timezone.now() + timedelta(days=181)):
        assert house.introspect(key, (asker[0], house_secret_again(house, asker[0]))) == {
            "active": False
        }
        assert rejected()[0] == "key ended"
    issuing.revoke(house.by, Credential.objects.get(client=client), "leaked")
    assert house.introspect(key, asker) == {"active": False}
    assert rejected()[0] == "key revoked"
    assert key not in str(list(RejectedRequest.objects.values()))


@pytest.mark.parametrize("right", [0, 1, 21, 42])
def test_how_much_of_a_key_was_right_makes_no_other_work(
    house: House, monkeypatch: pytest.MonkeyPatch, right: int
) -> None:
    """Whatever is right of it: the same queries, and one comparison of two digests over their whole
    length. ``bench/comparing.py`` measures it.
    """
    _, key = house.client(scheme="bearer")
    start, _, secret = key.rpartition("_")[0].rpartition("_")
    text = f"{start}_{secret[:right]}{'a' if secret[right] == 'b' else 'b'}{secret[right + 1 :]}"
    compared: list[tuple[str, str]] = []
    monkeypatch.setattr(
        hmac, "compare_digest", lambda *both: compared.append(both) or both[0] == both[1]
    )
    sandbox = Environment.objects.get(key="sandbox")
    with CaptureQueriesContext(connection) as seen, pytest.raises(RequestRefused) as refused:
        issuing.find_key(sandbox, f"{text}_{house_key.check_of(text)}", timezone.now())
    assert (refused.value.logged, refused.value.error) == ("key wrong", "invalid_token")
    assert len(seen) == 1
    (_check, (kept, shown)) = compared
    assert kept == hashlib.sha256(key.encode()).hexdigest().encode()
    assert len(shown) == len(kept) == 64


def test_the_quick_introspection_says_what_the_long_one_says_or_nothing(house: House) -> None:
    client, secret = house.client()
    asker, asker_secret = house.resource()
    _, told = house.with_code(client, secret)
    basic = base64.b64encode(f"{asker}:{asker_secret}".encode()).decode()

    def quickly(
        token: str = told["access_token"],
        auth: str = f"Basic {basic}",
        environment: str = "sandbox",
        more: str = "",
    ) -> Any:
        found = quick.introspect(
            environment, auth, f"token={token}{more}".encode(), "127.0.0.1", timezone.now()
        )
        return json.loads(found) if found else None

    assert quickly() is None  # the first use is noted by the long way
    assert house.introspect(told["access_token"], (asker, asker_secret)) == quickly()
    other = base64.b64encode(f"{asker}:{secret}".encode()).decode()
    mine = base64.b64encode(f"{client.client_id}:{secret}".encode()).decode()
    assert (
        quickly("x.y.z")
        is quickly(auth="")
        is quickly(auth=f"Basic {other}")
        is quickly(auth=f"Basic {mine}")
        is None
    )
    assert quickly(environment="staging") is quickly(more="&token=again") is quickly("") is None
    row, kept = Access.objects.get(), Credential.objects.get(client__client_id=asker)
    past = timezone.now() - timedelta(hours=2)
    changes: list[tuple[Any, dict[str, Any]]] = [
        (Access.objects.filter(pk=row.pk), {"revoked": past}),
        (Access.objects.filter(pk=row.pk), {"ends": past}),
        (Access.objects.filter(pk=row.pk), {"audience": "x"}),
        (Person.objects.filter(pk=house.by.pk), {"is_active": False}),
        (Credential.objects.filter(pk=kept.pk), {"state": "revoked"}),
        (Credential.objects.filter(pk=kept.pk), {"ends": past}),
        (Credential.objects.filter(pk=kept.pk), {"last_used": past}),
        (Client.objects.filter(client_id=asker), {"kind": "oauth_client"}),
        (Client.objects.filter(client_id=asker), {"allow_list": ["203.0.113.0/24"]}),
        (Client.objects.filter(client_id=asker), {"sign_in_method": "client_secret_post"}),
        (Client.objects.filter(client_id=asker), {"house": False}),
    ]
    for rows, changed in changes:
        before = rows.values(*changed).get()
        rows.update(**changed)
        assert quickly() is None, changed
        rows.update(**before)
        assert quickly() is not None, changed


def test_a_wrong_client_secret_is_told_apart_in_the_log_only(house: House) -> None:
    client, secret = house.client("berth-booking", "oauth2_client")
    ask = {"grant_type": "client_credentials"}

    def refused(client_id: str, shown: str) -> str:
        answer = ASK.post(f"{house.issuer}/token", data=ask, auth=(client_id, shown))
        assert (answer.status_code, answer.json()) == (401, {"error": "invalid_client"})
        assert answer.headers["WWW-Authenticate"].startswith("Basic ")
        return rejected()[0]

    _, others = house.client("berth-booking", "oauth2_client")
    assert refused("nobody", secret) == "client unknown"
    assert refused(client.client_id, secret[:-2]) == "secret cut"
    assert (
        refused(client.client_id, secret[:-1] + ("A" if secret[-1] != "A" else "B"))
        == "secret mistyped"
    )
    assert refused(client.client_id, "made-up") == "secret wrong"
    assert refused(client.client_id, others) == "secret of somebody else"
    in_body = ASK.post(
        f"{house.issuer}/token",
        data={**ask, "client_id": client.client_id, "client_secret": secret},
    )
    assert in_body.json() == {"error": "invalid_client"}
    assert rejected()[0] == "client signing in another way than registered"
    assert (
        ASK.post(f"{house.issuer}/token", data=ask, auth=(client.client_id, secret)).status_code
        == 200
    )
    token = ASK.post(f"{house.issuer}/token", data=ask, auth=(client.client_id, secret)).json()[
        "access_token"
    ]
    asker = house.resource("berth-booking")
    assert house.introspect(token, asker)["active"]
    issuing.revoke(house.by, Credential.objects.get(client=client), "leaked")
    assert refused(client.client_id, secret) == "secret revoked"
    assert not house.introspect(token, asker)["active"]  # what was got with it ends with it


def test_signing_keys_take_turns_without_a_refused_token(house: House) -> None:
    client, secret = house.client("berth-booking", "oauth2_client")

    def token() -> str:
        answer = ASK.post(
            f"{house.issuer}/token",
            data={"grant_type": "client_credentials"},
            auth=(client.client_id, secret),
        )
        return str(answer.json()["access_token"])

    def key_set() -> KeySet:
        return KeySet.import_key_set(ASK.get(f"{house.issuer}/jwks").json())

    begun = timezone.now()
    with time_machine.travel(begun, tick=False) as clock:
        kept, old = key_set(), token()  # a receiver that fetches the keys as seldom as it may
        fetched = begun
        seen = {jwt.decode(old, kept, algorithms=["RS256"]).header["kid"]}
        signing.roll_over(house.by, Environment.objects.get(key="sandbox"))
        with pytest.raises(Exception, match="waits for its turn"):
            signing.roll_over(house.by, Environment.objects.get(key="sandbox"))
        for seconds in range(0, 200, 7):
            clock.move_to(begun + timedelta(seconds=seconds))
            if timezone.now() - fetched >= signing.KEPT_FOR:
                kept, fetched = key_set(), timezone.now()
            seen.add(jwt.decode(token(), kept, algorithms=["RS256"]).header["kid"])
        assert len(seen) == 2
        clock.move_to(begun + timedelta(seconds=900))
        jwt.decode(
            old, key_set(), algorithms=["RS256"]
        )  # one of before is still verified at its end
        clock.move_to(begun + timedelta(hours=2))
        assert len(ASK.get(f"{house.issuer}/jwks").json()["keys"]) == 1
    assert SigningKey.objects.count() == 2


def test_what_ended_is_cleared_away(house: House) -> None:
    client, secret = house.client()
    house.with_code(client, secret)
    assert tokens.clear_ended(timezone.now()) == 0
    assert tokens.clear_ended(timezone.now() + timedelta(days=40)) > 0
    assert not Access.objects.exists()
    assert not Grant.objects.exists()


def test_its_page_takes_as_many_queries_for_three_environments_as_for_one(house: House) -> None:
    def page(count: int) -> list[dict[str, Any]]:
        with CaptureQueriesContext(connection) as seen:
            found: list[dict[str, Any]] = house.web.get("/api/house").json()
        queries.append(len(seen))
        assert len(found) == count
        return found

    def fill(deployment: Deployment) -> None:
        issuing.resource(house.by, deployment)
        client, _ = issuing.register(
            house.by,
            deployment,
            ClientMetadata(
                "Tally",
                ("t@gannet.example",),
                grants=("client_credentials",),
                scopes=frozenset({"ledger.read"}),
            ),
            "oauth2_client",
        )
        rights.give(house.by, deployment, 1, 7)
        signing.roll_over(house.by, deployment.environment)
        RejectedRequest.objects.bulk_create(
            RejectedRequest(
                environment=deployment.environment,
                at=timezone.now(),
                endpoint="token",
                what=f"no. {number}",
            )
            for number in range(25)
        )
        now = timezone.now()
        Access.objects.create(
            jti=f"of {deployment.pk}",
            environment=deployment.environment,
            client=client,
            scopes=[],
            issued=now,
            ends=now + timedelta(hours=1),
        )

    queries: list[int] = []
    here = house.deployment("fuel-ledger")
    fill(here)
    others = Environment.objects.exclude(pk=here.environment_id)
    kept = [
        Environment(
            **{
                field.attname: getattr(environment, field.attname)
                for field in Environment._meta.concrete_fields
            }
        )
        for environment in others
    ]
    others.delete()
    (alone,) = page(1)
    assert alone["accepting"] == 2
    accepting = house.web.get(f"/api/house/{alone['environment']['key']}/applications").json()[
        "items"
    ]
    assert [(item["application"], item["clients"]) for item in accepting] == [
        ("berth-booking", 0),
        ("fuel-ledger", 1),
    ]
    assert (
        alone["clients"],
        alone["tokens"],
        len(alone["rights"]),
        len(alone["keys"]),
        len(alone["rejected_requests"]),
    ) == (1, 1, 1, 1, 20)
    assert alone["rejected_requests"][0]["what"] == "no. 24"
    Environment.objects.bulk_create(kept)
    for environment in kept:
        fill(
            Deployment.objects.create(
                application=here.application,
                environment=environment,
                house=True,
                changed_at=timezone.now(),
            )
        )
    found = page(3)
    assert [
        (page["clients"], page["tokens"], len(page["rights"]), len(page["rejected_requests"]))
        for page in found
    ] == [(1, 1, 1, 20)] * 3
    assert queries[0] == queries[1]


def test_a_clients_page_says_who_drew_each_secret(house: House) -> None:
    client, _ = house.client(scheme="oauth2_client")
    (first,) = client.credentials.all()
    issuing.add_secret(house.by, client)
    now, gone = timezone.now(), uuid4()
    night = Workload.objects.create(
        name="Night run", environment=client.deployment.environment, changed_at=now
    )
    for workload, days in ((night.pk, 3), (night.pk, 1), (gone, 2)):
        at = now - timedelta(days=days)
        Drawn.objects.create(
            workload=workload,
            connection=uuid4(),
            credential=str(first.pk),
            way="draw",
            span="day",
            begins=at,
            count=1,
            last=at,
        )
    with CaptureQueriesContext(connection) as seen:
        told = {
            secret["id"]: secret["drawn_by"]
            for secret in house.web.get(f"/api/clients/{client.pk}/issued").json()["secrets"]
        }
    drawn = [(item["workload"], item["name"]) for item in told.pop(str(first.pk))]
    assert drawn == [(str(night.pk), "Night run"), (None, "a workload that is gone")]
    assert list(told.values()) == [[]]
    assert len([item for item in seen if "drawing_drawn" in item["sql"]]) == 1
