"""Handing a secret over in its three forms, taking it once, and showing a sealed one again."""

from __future__ import annotations

import base64
import json
import threading
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import pytest
import time_machine
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
)
from django.conf import settings
from django.db import connection
from django.test import Client as WebClient
from django.utils import timezone
from joserfc import jwe
from joserfc.jwk import ECKey, RSAKey

from neatlatch.core import house_key, totp
from neatlatch.core.registration import ClientMetadata
from neatlatch.demo.load import load_environments
from neatlatch.desk.authority import handovers
from neatlatch.desk.authority.house import issuing, tokens
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.applications.shipped import shipped
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people.models import Person, Session

from .conftest import PASSWORD, STORY, forget_the_journal


@pytest.fixture
def web(transactional_db: None) -> Iterator[WebClient]:
    load_environments(STORY)
    by = Person.objects.create_user("morag", password=PASSWORD, role="administrator")
    kept = shipped()["berth-booking"]
    values = {
        "api_base": "https://berths.example/api",
        "issuer": "https://own.example",
        "token_endpoint": "https://own.example/token",
    }
    applications.add_manually(by, kept["name"], "sandbox", values, kept["profile"], "", "Quays")
    Deployment.objects.update(house=True)
    client = WebClient()
    client.force_login(by, backend="django.contrib.auth.backends.ModelBackend")
    yield client
    forget_the_journal()


def new() -> tuple[Client, Handover]:
    deployment = Deployment.objects.select_related("application", "environment").get()
    fields = ClientMetadata(
        "Quay board",
        ("quays@gannet.example",),
        grants=("client_credentials",),
        scopes=frozenset({"berths.read"}),
    )
    client, handover = issuing.register(
        Person.objects.get(username="morag"), deployment, fields, "oauth2_client"
    )
    assert handover is not None
    return client, handover


def post(web: WebClient, address: str, body: Any = None, wanted: int = 200) -> Any:
    answer = web.post(f"/api{address}", json.dumps(body or {}), content_type="application/json")
    assert answer.status_code == wanted, answer.content
    return answer.json() if answer.content else None


def is_the_secret(value: str) -> bool:
    return Credential.objects.filter(digest=house_key.digest(value)).exists()


def test_a_link_serves_once_together_with_its_code(web: WebClient) -> None:
    _, handover = new()
    made = post(web, f"/handovers/{handover.pk}/links", {"to": "Rhona of Quays"}, 201)
    token = made["address"].rpartition("/")[2]
    stranger = WebClient()
    told = stranger.get(f"/api/links/handovers/{token}").json()
    assert (told["to"], told["client"], told["over"]) == ("Rhona of Quays", "Quay board", False)
    refused = post(
        stranger,
        f"/links/handovers/{token}/retrievals",
        {"code": "00000000" if made["code"] != "00000000" else "1", "name": "Rhona"},
        403,
    )
    assert "4 more tries" in refused["errors"]["code"]
    post(stranger, f"/links/handovers/{token}/retrievals", {"code": made["code"], "name": " "}, 422)
    taken = post(
        stranger,
        f"/links/handovers/{token}/retrievals",
        {"code": f"{made['code'][:4]} {made['code'][4:]}", "name": "Rhona"},
    )
    assert is_the_secret(taken["value"])
    post(
        stranger,
        f"/links/handovers/{token}/retrievals",
        {"code": made["code"], "name": "Rhona"},
        410,
    )
    post(web, f"/handovers/{handover.pk}/revelations", wanted=410)
    receipt = web.get("/api/handovers").json()[0]
    assert (receipt["state"], receipt["taken_by"], receipt["form"], receipt["taken_from"]) == (
        "taken",
        "Rhona",
        "link",
        "127.0.0.1",
    )
    assert Credential.objects.get().value is None  # only its digest stayed
    entry = Entry.objects.get(did="took the secret by its link")
    assert (entry.who, entry.details["name given"]) == ("by link", "Rhona")  # M7
    assert Entry.objects.get(did="has the secret").who == "by link"
    everything = json.dumps(
        [list(Handover.objects.values()), list(Entry.objects.values())], default=str
    )
    assert made["code"] not in everything
    assert token not in everything
    assert taken["value"] not in everything


def test_five_wrong_codes_end_the_link_and_the_secret(web: WebClient) -> None:
    _, handover = new()
    made = post(web, f"/handovers/{handover.pk}/links", {"to": "Rhona"}, 201)
    token = made["address"].rpartition("/")[2]
    wrong = f"{(int(made['code']) + 1) % 10**8:08d}"
    for _ in range(5):
        post(WebClient(), f"/links/handovers/{token}/retrievals", {"code": wrong, "name": "x"}, 403)
    post(
        WebClient(),
        f"/links/handovers/{token}/retrievals",
        {"code": made["code"], "name": "x"},
        404,
    )
    assert Credential.objects.get().state == "revoked"
    assert web.get("/api/handovers").json()[0]["outcome"] == "five wrong codes were given"


def test_many_at_once_and_one_takes_it(web: WebClient) -> None:
    _, handover = new()
    made = post(web, f"/handovers/{handover.pk}/links", {"to": "Rhona"}, 201)
    token, got = made["address"].rpartition("/")[2], []

    def take(name: str) -> None:
        answer = WebClient().post(
            f"/api/links/handovers/{token}/retrievals",
            json.dumps({"code": made["code"], "name": name}),
            content_type="application/json",
        )
        got.append(answer.status_code)
        connection.close()

    hands = [threading.Thread(target=take, args=(str(number),)) for number in range(8)]
    for hand in hands:
        hand.start()
    for hand in hands:
        hand.join()
    assert sorted(got) == [200] + [410] * 7


def test_what_nobody_takes_is_revoked_and_said_so(web: WebClient) -> None:
    client, handover = new()
    assert handovers.end_untaken(timezone.now() + timedelta(hours=23)) == 0
    assert handovers.end_untaken(timezone.now() + timedelta(hours=25)) == 1
    assert handovers.end_untaken(timezone.now() + timedelta(hours=25)) == 0
    credential = Credential.objects.get(client=client)
    assert (credential.state, credential.why) == ("revoked", "nobody took it within its time")
    receipt = web.get("/api/handovers").json()[0]
    assert (receipt["state"], receipt["outcome"]) == ("not taken", "nobody took it within its time")
    post(web, f"/handovers/{handover.pk}/revelations", wanted=410)
    # One that was shown and never confirmed is not revoked: somebody may use it.
    _, second = new()
    post(web, f"/handovers/{second.pk}/revelations")
    assert handovers.end_untaken(timezone.now() + timedelta(hours=25)) == 0
    assert Credential.objects.get(pk=second.credential_id).state == "active"
    assert Handover.objects.get(pk=second.pk).closed is not None


def test_a_file_is_read_by_the_owner_of_the_key_alone(web: WebClient) -> None:
    for private, kind in (
        (rsa.generate_private_key(65537, 2048), RSAKey),
        (ec.generate_private_key(ec.SECP256R1()), ECKey),
    ):
        client, handover = new()
        public = (
            private.public_key()
            .public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
            .decode()
        )
        made = post(web, f"/handovers/{handover.pk}/files", {"to": "Quays", "key": public}, 201)
        pem = private.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        opened = json.loads(
            jwe.decrypt_compact(
                made["content"],
                kind.import_key(pem),
                algorithms=["RSA-OAEP-256", "ECDH-ES", "A256GCM"],
            ).plaintext
            or b""
        )  # type: ignore[attr-defined]
        assert is_the_secret(opened["value"])
        assert opened["client_id"] == client.client_id
        post(web, f"/handovers/{handover.pk}/files", {"to": "Quays", "key": public}, 410)
    receipt = web.get("/api/handovers").json()[0]
    assert (receipt["form"], receipt["state"], receipt["to"]) == ("file", "taken", "Quays")


def test_which_keys_a_file_is_not_made_for(web: WebClient) -> None:
    _, handover = new()
    weak = rsa.generate_private_key(65537, 1024)
    private = weak.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()
    edwards = (
        ed25519.Ed25519PrivateKey.generate()
        .public_key()
        .public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
        .decode()
    )
    short = weak.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo).decode()
    for key, says in (
        (private, "private key"),
        (short, "too weak"),
        (edwards, "cannot be encrypted to"),
        ("hello", "no public key"),
        ('{"kty": "oct", "k": "AA"}', "symmetric"),
        ('{"kty": "RSA", "n": "AQAB", "e": "AQAB", "d": "AQAB"}', "private key"),
    ):
        assert (
            says
            in post(web, f"/handovers/{handover.pk}/files", {"to": "Quays", "key": key}, 422)[
                "errors"
            ]["key"]
        ), key
    assert Handover.objects.get(pk=handover.pk).shown is None  # nothing was used up


def permit(web: WebClient, code: str, wanted: int = 200) -> Any:
    answer = web.put(
        "/api/revealing/sandbox",
        json.dumps({"reveals": True, "code": code}),
        content_type="application/json",
    )
    assert answer.status_code == wanted, answer.content
    return answer.json()


def enrol(web: WebClient) -> bytes:
    begun = post(web, "/session/second-factors", {"password": PASSWORD}, 201)
    secret = base64.b32decode(begun["secret"] + "=" * (-len(begun["secret"]) % 8))
    assert begun["address"].startswith("otpauth://totp/Neat%20Latch%3Amorag?")
    post(web, "/session/second-factors/confirmations", {"code": "000000"}, 422)
    assert post(
        web,
        "/session/second-factors/confirmations",
        {"code": totp.code(secret, timezone.now().timestamp())},
    )["second_factor"]
    return secret


def test_a_stored_secret_is_shown_again_only_where_and_as_it_may_be(web: WebClient) -> None:
    """DOMAIN §17: a fresh second factor, a reason, an entry of the journal, and only where the
    environment permits it.
    """
    with time_machine.travel(timezone.now(), tick=False) as clock:
        client, handover = new()
        credential = Credential.objects.get(client=client)
        address = f"/credentials/{credential.pk}/revelations"
        given = {"reason": "The display lost it", "code": ""}
        assert post(web, address, given, 403)["code"] == "revealing-not-permitted"
        assert permit(web, "", 403)["code"] == "second-factor-required"
        secret = enrol(web)
        clock.shift(30)
        # H5: anyone who has the session for an hour could have set it up
        for wanted in (
            permit(web, totp.code(secret, timezone.now().timestamp()), 403),
            permit(web, "", 403),
        ):
            assert wanted["code"] == "second-factor-too-new"
        Person.objects.update(factor_since=timezone.now() - timedelta(hours=24))
        assert permit(web, "", 403)["code"] == "wrong-second-factor"
        answer = permit(web, totp.code(secret, timezone.now().timestamp()))
        assert {revealing_out["environment"]: revealing_out["reveals"] for revealing_out in answer}[
            "sandbox"
        ]
        assert Environment.objects.get(key="production").reveals is False
        code = totp.code(secret, timezone.now().timestamp())
        post(
            web, address, {**given, "code": code}, 403
        )  # the very code that permitted it: each serves once
        clock.shift(30)
        code = totp.code(secret, timezone.now().timestamp())
        assert (
            "Give a reason"
            in post(web, address, {"reason": " ", "code": code}, 422)["errors"]["reason"]
        )
        shown = post(web, address, {**given, "code": code})
        assert is_the_secret(shown["value"])
        entry = Entry.objects.get(did="revealed")
        assert entry.details["reason"] == "The display lost it"
        assert shown["value"] not in json.dumps(entry.details)
        clock.shift(30)
        post(web, f"/handovers/{handover.pk}/confirmations")
        post(
            web, address, {**given, "code": totp.code(secret, timezone.now().timestamp())}, 410
        )  # nobody can read it back


def test_log_in_asks_for_the_second_factor_and_rests_after_five_wrong_ones(web: WebClient) -> None:
    with time_machine.travel(timezone.now(), tick=False) as clock:
        secret = enrol(web)
        stranger = WebClient()
        wanted = post(stranger, "/session", {"username": "morag", "password": PASSWORD}, 403)
        assert "code" in wanted["errors"]
        assert stranger.get("/api/session").json()["person"] is None
        clock.shift(30)
        right = totp.code(secret, timezone.now().timestamp())
        assert post(
            stranger, "/session", {"username": "morag", "password": PASSWORD, "code": right}
        )["second_factor"]
        for _ in range(5):
            post(
                WebClient(),
                "/session",
                {"username": "morag", "password": PASSWORD, "code": "abcdef"},
                403,
            )
        clock.shift(30)
        right = totp.code(secret, timezone.now().timestamp())
        post(
            WebClient(), "/session", {"username": "morag", "password": PASSWORD, "code": right}, 429
        )
        clock.shift(timedelta(minutes=16))
        right = totp.code(secret, timezone.now().timestamp())
        post(WebClient(), "/session", {"username": "morag", "password": PASSWORD, "code": right})
        assert (
            web.delete("/api/people/morag/second-factors").status_code == 409
        )  # nobody takes away their own without it
        other = administrator("ann")
        assert other.delete("/api/people/morag/second-factors").status_code == 204
        assert web.get("/api/session").json()["person"] is None  # a session of before has ended
        again = WebClient()
        told = post(again, "/session", {"username": "morag", "password": PASSWORD})["notices"]
        assert "Ann removed your second factor" in told[0]["says"]
        assert again.delete("/api/session/notices").json()["notices"] == []


def administrator(username: str) -> WebClient:
    Person.objects.create_user(
        username, password=PASSWORD, role="administrator", first_name=username.title()
    )
    web = WebClient()
    post(web, "/session", {"username": username, "password": PASSWORD})
    return web


def test_a_session_alone_sets_up_no_second_factor(web: WebClient) -> None:
    """H5: the password where there is none, the old one where there is; and guessing
    either rests.
    """
    with time_machine.travel(timezone.now(), tick=False) as clock:
        assert "password" in post(web, "/session/second-factors", {}, 403)["errors"]
        assert (
            "password"
            in post(web, "/session/second-factors", {"password": "x", "code": "123456"}, 403)[
                "errors"
            ]
        )
        secret = enrol(web)
        assert "code" in post(web, "/session/second-factors", {"password": PASSWORD}, 403)["errors"]
        clock.shift(30)
        right = totp.code(secret, timezone.now().timestamp())
        again = post(web, "/session/second-factors", {"code": right}, 201)
        assert again["secret"] != base64.b32encode(secret).decode().rstrip("=")
        for _ in range(5):
            post(web, "/session/second-factors", {"code": "000000"}, 403)
        clock.shift(30)
        refused = post(
            web,
            "/session/second-factors",
            {"code": totp.code(secret, timezone.now().timestamp())},
            429,
        )
        assert refused["retry_after"] == 900


@pytest.mark.parametrize(
    "how", ["a second factor", "its end", "everywhere", "another role", "no access"]
)
def test_sessions_end_with_what_they_were_begun_with(web: WebClient, how: str) -> None:
    """H7, M8: and none comes back with the access."""
    other = WebClient()
    with time_machine.travel(timezone.now(), tick=False) as clock:
        post(other, "/session", {"username": "morag", "password": PASSWORD})
        if how == "a second factor":
            enrol(web)
        elif how == "its end":
            secret = enrol(web)
            other = WebClient()
            clock.shift(30)
            right = totp.code(secret, timezone.now().timestamp())
            post(other, "/session", {"username": "morag", "password": PASSWORD, "code": right})
            clock.shift(30)
            post(
                web,
                "/session/second-factors/removals",
                {"code": totp.code(secret, timezone.now().timestamp())},
            )
        elif how == "everywhere":
            post(web, "/session/log-outs")
        else:
            ann = administrator("ann")
            change = {"role": "reader"} if how == "another role" else {"active": False}
            back = {"role": "administrator"} if how == "another role" else {"active": True}
            for item in (change, back):
                assert (
                    ann.patch(
                        "/api/people/morag", json.dumps(item), content_type="application/json"
                    ).status_code
                    == 200
                )
            assert web.get("/api/session").json()["person"] is None
        assert other.get("/api/session").json()["person"] is None
        assert other.get("/api/people").status_code == 401
        if how in (
            "a second factor",
            "its end",
            "everywhere",
        ):  # done by oneself: the session in which it was done goes on
            assert web.get("/api/session").json()["username"] == "morag"


def test_a_copy_of_the_database_lets_nobody_in(web: WebClient) -> None:
    """H7: what stands there is no session's key, and does not serve as one."""
    key = web.cookies[settings.SESSION_COOKIE_NAME].value
    rows = list(Session.objects.values_list("session_key", flat=True))
    assert rows
    assert key not in rows
    for row in rows:
        thief = WebClient()
        thief.cookies[settings.SESSION_COOKIE_NAME] = row
        assert thief.get("/api/people").status_code == 401
    assert web.delete("/api/session").status_code == 204
    assert not Session.objects.filter(session_key__in=rows).exists()


def test_a_leaked_secret_is_recognised_and_not_kept(web: WebClient) -> None:
    client, handover = new()
    value = post(web, f"/handovers/{handover.pk}/revelations")["value"]
    found = post(web, "/leaks", {"text": f"curl -u quay:{value} https://berths.example"})
    [one] = found["credentials"]
    assert (one["client"], one["house"], one["stops"]) == ("Quay board", True, [])
    assert one["acts"][-1].startswith("Revoke this one")
    assert not any(post(web, "/leaks", {"text": "s3cret-of-nobody"}).values())
    unknown = house_key.make("nlk", "sandbox", b"eight888", b"\x01" * 32)
    assert "none that was issued here" in post(web, "/leaks", {"text": unknown})["ours_by_form"][0]
    client = Client.objects.select_related(
        "deployment__application", "deployment__environment"
    ).get(pk=client.pk)
    token = tokens.give(client, Credential.objects.get(), {"grant_type": "client_credentials"})[
        "access_token"
    ]
    [shown] = post(web, "/leaks", {"text": f"Authorization: Bearer {token}"})["tokens"]
    assert shown["alive"]
    post(web, f"/clients/{client.pk}/token-revocations", {"tokens": [shown["number"]]})
    assert not post(web, "/leaks", {"text": token})["tokens"][0]["alive"]
    everything = json.dumps(list(Entry.objects.values()), default=str)
    assert value not in everything
    assert "s3cret-of-nobody" not in everything
    assert token not in everything


def test_what_stands_out_and_the_whole_life_of_a_credential(web: WebClient) -> None:
    _, handover = new()
    [row] = web.get("/api/credentials?words=mark:waits").json()["items"]
    assert row["marks"][0]["says"] == "Nobody has taken it yet."
    post(web, f"/handovers/{handover.pk}/revelations")
    post(web, f"/handovers/{handover.pk}/confirmations")
    assert web.get("/api/credentials?words=mark:waits").json()["items"] == []
    post(web, f"/credentials/{row['id']}/revocations", {"why": "a trial"})
    whole = web.get(f"/api/credentials/{row['id']}").json()
    assert [item["did"] for item in whole["life"]][0] == "made"
    assert [(item["did"], item["why"]) for item in whole["life"]][-1] == ("revoked", "a trial")
    assert (whole["state"], whole["sealed"], whole["house"], whole["receipt"]["state"]) == (
        "revoked",
        False,
        True,
        "taken",
    )
    assert web.get("/api/credentials/00000000-0000-0000-0000-000000000000").status_code == 404
