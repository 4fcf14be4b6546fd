"""The grants of the house authority, asked for by clients that others wrote: Authlib and oauthlib
for each, joserfc for its signatures.
"""

from __future__ import annotations

import base64
import json
import zlib
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
import yaml
from authlib.oauth2.rfc9068.claims import JWTAccessTokenClaims
from authlib.oauth2.rfc9068.token_validator import JWTBearerTokenValidator
from django.utils import timezone
from joserfc import jwt
from joserfc.jwk import KeySet
from oauthlib.oauth2 import BackendApplicationClient, LegacyApplicationClient, WebApplicationClient

from neatlatch.desk.authority import backup
from neatlatch.desk.authority.house import issuing, tokens
from neatlatch.desk.authority.records.house.models import Access, GoneAccess, Grant
from neatlatch.desk.estate.clients.services import record_consent
from neatlatch.desk.estate.credentials.services import show
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.journal.services import DeclaredChange
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work import offboarding
from neatlatch.desk.work.drawing import services as drawing
from neatlatch.desk.work.inventory import services as inventory
from neatlatch.desk.work.inventory.applying import Applier

from .conftest import PASSWORD
from .houses import ASK, BACK, House, rejected


def test_authlib_signs_a_person_in_and_renews(house: House) -> None:
    client, secret = house.client()
    session, told = house.with_code(client, secret)
    assert (told["token_type"], told["scope"], told["expires_in"]) == (
        "Bearer",
        "ledger.read ledger.write",
        900,
    )
    asker = house.resource()
    seen = house.introspect(told["access_token"], asker)
    assert seen["active"]
    assert (seen["username"], seen["client_id"], seen["scope"]) == (
        "morag",
        client.client_id,
        "ledger.read ledger.write",
    )
    renewed = session.refresh_token(f"{house.issuer}/token", scope="ledger.read")
    assert renewed["scope"] == "ledger.read"
    assert renewed["refresh_token"] != told["refresh_token"]  # RFC 9700 §4.14.2: another each time
    assert (
        session.revoke_token(f"{house.issuer}/revoke", token=renewed["refresh_token"]).status_code
        == 200
    )
    assert not house.introspect(renewed["access_token"], asker)["active"]
    assert Grant.objects.get().why == "given back by the client"
    assert not Access.objects.filter(revoked=None).exists()


def test_an_old_refresh_token_ends_the_family(house: House) -> None:
    """RFC 9700 §4.14.2."""
    client, secret = house.client()
    asker = house.resource()
    _, told = house.with_code(client, secret)
    auth, first = (client.client_id, secret), told["refresh_token"]
    second = ASK.post(
        f"{house.issuer}/token",
        data={"grant_type": "refresh_token", "refresh_token": first},
        auth=auth,
    ).json()
    assert house.introspect(second["access_token"], asker)["active"]
    again = ASK.post(
        f"{house.issuer}/token",
        data={"grant_type": "refresh_token", "refresh_token": first},
        auth=auth,
    )
    assert (again.status_code, again.json()["error"]) == (400, "invalid_grant")
    assert rejected()[0] == "refresh token reused"
    assert not house.introspect(second["access_token"], asker)["active"]
    after = ASK.post(
        f"{house.issuer}/token",
        data={"grant_type": "refresh_token", "refresh_token": second["refresh_token"]},
        auth=auth,
    )
    assert after.json()["error"] == "invalid_grant"
    assert "used again" in Grant.objects.get().why


def test_oauthlib_uses_each_grant(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("OAUTHLIB_INSECURE_TRANSPORT", "1")  # a loopback address
    client, secret = house.client(
        "berth-booking", "oauth2_client", sign_in_method="client_secret_post"
    )
    back_end = BackendApplicationClient(client.client_id)
    body = back_end.prepare_request_body(
        include_client_id=True, client_secret=secret, scope="berths.read"
    )
    answer = ASK.post(
        f"{house.issuer}/token",
        content=body,
        headers={"Content-Type": "application/x-www-form-urlencoded"},
    )
    assert (
        back_end.parse_request_body_response(answer.text, scope=["berths.read"])["token_type"]
        == "Bearer"
    )

    client, secret = house.client()
    web = WebApplicationClient(client.client_id)
    verifier = web.create_code_verifier(64)
    address = web.prepare_request_uri(
        f"{house.issuer}/authorize",
        BACK,
        scope="ledger.read",
        state="s t&=+",
        code_challenge_method="S256",
        code_challenge=web.create_code_challenge(verifier, "S256"),
    )
    code = web.parse_request_uri_response(house.allow(address), state="s t&=+")["code"]
    body = web.prepare_request_body(code, BACK, code_verifier=verifier)
    form = {"Content-Type": "application/x-www-form-urlencoded"}
    told = web.parse_request_body_response(
        ASK.post(
            f"{house.issuer}/token", content=body, headers=form, auth=(client.client_id, secret)
        ).text
    )
    body = web.prepare_refresh_body(refresh_token=told["refresh_token"])
    renewed = web.parse_request_body_response(
        ASK.post(
            f"{house.issuer}/token", content=body, headers=form, auth=(client.client_id, secret)
        ).text
    )
    assert renewed["scope"] == ["ledger.read"]

    # The password grant is not served to anybody (RFC 9700 §2.4).
    body = LegacyApplicationClient(client.client_id).prepare_request_body("morag", PASSWORD)
    refused = ASK.post(
        f"{house.issuer}/token", content=body, headers=form, auth=(client.client_id, secret)
    )
    assert (refused.status_code, refused.json()["error"]) == (400, "unsupported_grant_type")


def test_access_tokens_are_what_rfc_9068_says(house: House) -> None:
    client, secret = house.client()
    _, told = house.with_code(client, secret, "ledger.read")
    keys = ASK.get(f"{house.issuer}/jwks").json()
    token = jwt.decode(told["access_token"], KeySet.import_key_set(keys), algorithms=["RS256"])
    assert token.header["typ"] == "at+jwt"
    assert (token.claims["aud"], token.claims["sub"], token.claims["client_id"]) == (
        "https://fuel-ledger.gannet.example/api",
        "morag",
        client.client_id,
    )

    class Validator(JWTBearerTokenValidator):  # type: ignore[misc]
        def get_jwks(self) -> Any:
            return keys

    validator = Validator(
        "http://127.0.0.1:8600/house/sandbox", "https://fuel-ledger.gannet.example/api"
    )
    claims = validator.authenticate_token(told["access_token"])
    assert isinstance(claims, JWTAccessTokenClaims)
    validator.validate_token(claims, ["ledger.read"], None)
    with pytest.raises(Exception, match="insufficient_scope"):
        validator.validate_token(claims, ["ledger.write"], None)

    # A receiver that checks signatures by itself learns of a revocation from the status list (Token
    # Status List §8.3).
    where = token.claims["status"]["status_list"]
    address = where["uri"].replace("http://127.0.0.1:8600", house.base)

    def bit() -> int:
        shown = jwt.decode(ASK.get(address).text, KeySet.import_key_set(keys), algorithms=["RS256"])
        assert (shown.header["typ"], shown.claims["sub"]) == ("statuslist+jwt", where["uri"])
        packed = shown.claims["status_list"]["lst"]
        octets = zlib.decompress(base64.urlsafe_b64decode(packed + "=" * (-len(packed) % 4)))
        return octets[where["idx"] // 8] >> (where["idx"] % 8) & 1

    assert bit() == 0
    issuing.revoke_tokens(house.by, client, "a test")
    assert bit() == 1


def test_two_secrets_live_side_by_side_and_no_third(house: House) -> None:
    client, first = house.client("berth-booking", "oauth2_client")
    _, second = show(house.by, issuing.add_secret(house.by, client))
    for item in (first, second):
        assert (
            ASK.post(
                f"{house.issuer}/token",
                data={"grant_type": "client_credentials"},
                auth=(client.client_id, item),
            ).status_code
            == 200
        )
    with pytest.raises(Exception, match="Two secrets"):
        issuing.add_secret(house.by, client)
    newer = Credential.objects.filter(client=client).latest("issued")
    assert newer.replaces == Credential.objects.filter(client=client).earliest("issued")


def test_what_an_authorization_request_may_not_be(house: House) -> None:
    client, _ = house.client()
    challenge = "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"  # RFC 7636 App. B
    good = {
        "response_type": "code",
        "client_id": client.client_id,
        "redirect_uri": BACK,
        "code_challenge": challenge,
        "code_challenge_method": "S256",
        "state": "x",
    }

    def sent(**changed: str) -> str:
        answer = ASK.get(
            f"{house.issuer}/authorize",
            params={key: value for key, value in {**good, **changed}.items() if value},
        )
        return str(answer.headers["Location"])

    for changed, error in (
        ({"code_challenge": ""}, "invalid_request"),
        ({"code_challenge_method": "plain"}, "invalid_request"),
        ({"scope": "ledger.burn"}, "invalid_scope"),
        ({"response_type": "token"}, "unsupported_response_type"),
        ({"resource": "https://other.example"}, "invalid_target"),
    ):
        query = parse_qs(urlsplit(sent(**changed)).query)
        assert sent(**changed).startswith(BACK)
        assert (query["error"], query["state"], query["iss"]) == (
            [error],
            ["x"],
            ["http://127.0.0.1:8600/house/sandbox"],
        ), changed
    # These are not sent back: nobody knows whom they would reach (RFC 6749 §4.1.2.1).
    for changed, name in (
        ({"redirect_uri": BACK + "/"}, "Quay board"),
        ({"client_id": "nobody"}, ""),
    ):
        page = sent(**changed)
        assert page.startswith("/allow/")
        told = house.web.get(f"/api/house/requests/{page.removeprefix('/allow/')}").json()
        assert told["refused"]
        assert told["client"] == name
    back = house.allow(f"{house.issuer}/authorize?{httpx.QueryParams(good)}", allow=False)
    assert parse_qs(urlsplit(back).query)["error"] == ["access_denied"]


def test_an_administrators_scope_waits_for_consent(house: House) -> None:
    client, secret = house.client(
        "berth-booking", "oauth2_client", scopes=("berths.read", "berths.book")
    )
    ask = {"grant_type": "client_credentials", "scope": "berths.book"}
    answer = ASK.post(f"{house.issuer}/token", data=ask, auth=(client.client_id, secret))
    assert answer.json() == {
        "error": "invalid_scope",
        "error_description": "berths.book waits for an administrator's consent",
    }
    record_consent(house.by, client, "berths.book", True)
    assert (
        ASK.post(f"{house.issuer}/token", data=ask, auth=(client.client_id, secret)).json()["scope"]
        == "berths.book"
    )


def test_who_leaves_takes_what_they_allowed_along(house: House) -> None:
    client, secret = house.client()
    asker = house.resource()
    _, told = house.with_code(client, secret)
    Person.objects.filter(pk=house.by.pk).update(is_active=False)
    assert not house.introspect(told["access_token"], asker)["active"]
    renewed = ASK.post(
        f"{house.issuer}/token",
        data={"grant_type": "refresh_token", "refresh_token": told["refresh_token"]},
        auth=(client.client_id, secret),
    )
    assert renewed.json()["error"] == "invalid_grant"
    assert rejected()[0] == "grant of somebody who left"


@pytest.mark.parametrize("how", ["leaves", "is switched off", "is switched off by a file"])
def test_what_somebody_allowed_ends_with_their_access_for_good(house: House, how: str) -> None:
    """M9: receivers that check by themselves learn of it too, and nothing comes back with the
    access.
    """
    client, secret = house.client()
    asker = house.resource()
    _, told = house.with_code(client, secret)
    number = Access.objects.get().pk
    assert f"grant:{Grant.objects.get().pk}" in {
        thing.key for thing in offboarding.belongings(house.by).things
    }
    other = Person.objects.create_user(
        "ann", password="skerry-lantern-hawser", role="administrator"
    )
    if how == "leaves":
        offboarding.leave(other, house.by)
    elif how == "is switched off":
        offboarding.change(other, house.by, None, False)
    else:
        given = {"name": "Morag Orr", "role": "administrator", "active": False, "email": ""}
        Applier(other).person(house.by.username, given, DeclaredChange("applied: change"))
    assert Grant.objects.get().revoked is not None
    shown = json.loads(
        b64decode(
            tokens.statuses(client.deployment.environment, number // tokens.BLOCK).split(".")[1]
        )
    )
    octets = zlib.decompress(b64decode(shown["status_list"]["lst"]))
    bit = number % tokens.BLOCK
    assert octets[bit // 8] >> (bit % 8) & 1
    Person.objects.filter(pk=house.by.pk).update(is_active=True, left=None)
    assert not house.introspect(told["access_token"], asker)["active"]
    again = {"grant_type": "refresh_token", "refresh_token": told["refresh_token"]}
    assert (
        ASK.post(f"{house.issuer}/token", data=again, auth=(client.client_id, secret)).json()[
            "error"
        ]
        == "invalid_grant"
    )


def bit(environment: Environment, number: int) -> int:
    """What the status list says of a token, by its number."""
    shown = json.loads(
        b64decode(tokens.statuses(environment, number // tokens.BLOCK).split(".")[1])
    )
    octets = zlib.decompress(b64decode(shown["status_list"]["lst"]))
    bit = number % tokens.BLOCK
    return octets[bit // 8] >> (bit % 8) & 1


@pytest.mark.parametrize("how", ["on its page", "by the inventory", "with the workload that drew"])
def test_a_token_of_a_client_that_was_removed_is_told_as_revoked_until_it_ends(
    house: House, how: str
) -> None:
    if how == "with the workload that drew":
        workload = workloads.add(house.by, workloads.WorkloadFields("Night run", "sandbox"))
        client, handover = drawing.give(house.by, workload, "client", "relay")
        assert handover is not None
        secret = show(house.by, handover)[1]
    else:
        client, secret = house.client(scheme="oauth2_client")
    ASK.post(
        f"{house.issuer}/token",
        data={"grant_type": "client_credentials"},
        auth=(client.client_id, secret),
    ).raise_for_status()
    number, environment = Access.objects.get().pk, client.deployment.environment
    assert not bit(environment, number)
    if how == "on its page":
        assert house.web.delete(f"/api/clients/{client.pk}").status_code == 204
    elif how == "by the inventory":
        file = yaml.safe_load(inventory.export(house.by))
        for kind in ("clients", "credentials"):
            file[kind] = {}
        inventory.apply(house.by, yaml.safe_dump(file), prune=True)
    else:
        workloads.remove(house.by, workload)
    assert not Access.objects.exists()
    assert bit(environment, number)
    tokens.clear_ended(timezone.now() + timedelta(days=3))
    assert not GoneAccess.objects.exists()


def test_a_restore_ends_what_was_allowed(house: House, tmp_path: Path) -> None:
    """L15: a refresh token that was spent after the backup would be good once more."""
    client, secret = house.client()
    asker = house.resource()
    _, told = house.with_code(client, secret)
    assert house.introspect(told["access_token"], asker)["active"]
    said = backup.settle("1", tmp_path / "copy.sqlite3")
    assert any("clients of the house (1) is ended" in text for text in said)
    assert not house.introspect(told["access_token"], asker)["active"]
    again = {"grant_type": "refresh_token", "refresh_token": told["refresh_token"]}
    assert (
        ASK.post(f"{house.issuer}/token", data=again, auth=(client.client_id, secret)).json()[
            "error"
        ]
        == "invalid_grant"
    )


def b64decode(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


def test_a_public_client_proves_itself_by_pkce_alone(house: House) -> None:
    client, secret = house.client(public=True, sign_in_method="none")
    assert secret == ""
    _, told = house.with_code(client, "")
    assert told["access_token"]
    answer = ASK.post(
        f"{house.issuer}/token",
        data={"grant_type": "refresh_token", "refresh_token": told["refresh_token"]},
        auth=(client.client_id, "made-up"),
    )
    assert (answer.status_code, rejected()[0]) == (401, "public client with a secret")


def test_an_application_that_asks_about_tokens_signs_nobody_in(house: House) -> None:
    house.client()
    house.resource()
    listed = house.web.get("/api/redirect-uris").json()["items"]
    # Its holder signs people in elsewhere: that nobody here sends its URI says nothing.
    assert [(item["registered"], item["callers"], item["unused"]) for item in listed] == [(1, 0, 0)]
    assert [item["name"] for item in house.web.get("/api/scopes").json()["items"]] == [
        item["name"] for item in listed
    ]


@pytest.mark.parametrize(
    ("uri", "faulty"), [("http://localhost/back", 0), ("http://localhost/back#x", 1)]
)
def test_what_is_only_not_recommended_is_no_fault(house: House, uri: str, faulty: int) -> None:
    """RFC 8252 §8.3 does not recommend localhost; RFC 6749 §3.1.2 forbids a fragment."""
    house.client()
    Client.objects.update(redirect_uris=[uri])
    assert [item["faulty"] for item in house.web.get("/api/redirect-uris").json()["items"]] == [
        faulty
    ]
