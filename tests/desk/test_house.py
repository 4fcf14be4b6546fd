"""The house authority, asked by clients that others wrote: Authlib and oauthlib for each grant, joserfc for its signatures."""

from __future__ import annotations

import base64
import json
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
import time_machine
from authlib.integrations.requests_client import OAuth2Session
from authlib.oauth2.rfc8414 import AuthorizationServerMetadata
from authlib.oauth2.rfc9068.claims import JWTAccessTokenClaims
from authlib.oauth2.rfc9068.token_validator import JWTBearerTokenValidator
from django.test import Client as WebClient
from django.utils import timezone
from joserfc import jwt
from joserfc.jwk import KeySet
from oauthlib.oauth2 import BackendApplicationClient, LegacyApplicationClient, WebApplicationClient
from pytest_django.live_server_helper import LiveServer

from neatlatch.core.registration import ClientMetadata
from neatlatch.demo.load import load_environments
from neatlatch.desk.applications import services as applications
from neatlatch.desk.applications.models import Environment, Place
from neatlatch.desk.applications.shipped import shipped
from neatlatch.desk.clients.models import Client
from neatlatch.desk.clients.services import note_consent
from neatlatch.desk.credentials.models import Credential
from neatlatch.desk.credentials.services import close, show
from neatlatch.desk.house import endpoints, issuing, quick, signing, tokens
from neatlatch.desk.house.models import Access, Grant, SigningKey, Turned
from neatlatch.desk.people.models import Person

from .conftest import PASSWORD, STORY, forget_the_journal

BACK = "https://app.gannet.example/back"
# The machine may be busy; nothing here is timed.
ASK = httpx.Client(timeout=60)


@dataclass
class House:
    """The authority of the sandbox, with two applications that accept it."""

    by: Person
    base: str
    web: WebClient

    @property
    def issuer(self) -> str:
        return f"{self.base}/house/sandbox"

    def place(self, key: str) -> Place:
        return Place.objects.select_related("application", "environment").get(application__key=key, environment__key="sandbox")

    def client(self, key: str = "fuel-ledger", scheme: str = "oauth2_code", **more: Any) -> tuple[Client, str]:
        """A client of the house, and its secret taken."""
        grants = {"oauth2_code": ("authorization_code", "refresh_token"), "oauth2_client": ("client_credentials",), "bearer": ()}[scheme]
        scopes = more.pop("scopes", ("ledger.read", "ledger.write") if key == "fuel-ledger" else ("berths.read",))
        fields = ClientMetadata("Quay board", ("quays@gannet.example",), redirect_uris=(BACK,) if scheme == "oauth2_code" else (), grants=grants,
                                scopes=frozenset(scopes), **more)  # fmt: skip
        made, handover = issuing.register(self.by, self.place(key), fields, scheme)
        if handover is None:
            return made, ""
        _, value = show(self.by, handover)
        close(self.by, handover)
        return made, value

    def resource(self, key: str = "fuel-ledger") -> tuple[str, str]:
        """The application itself, as it asks about tokens."""
        made, handover = issuing.resource(self.by, self.place(key))
        _, value = show(self.by, handover)
        close(self.by, handover)
        return made.client_id, value

    def introspect(self, token: str, asker: tuple[str, str]) -> dict[str, Any]:
        answer = ASK.post(f"{self.issuer}/introspect", data={"token": token}, auth=asker)
        assert answer.status_code == 200, answer.text
        found: dict[str, Any] = answer.json()
        return found

    def allow(self, address: str, allow: bool = True, web: WebClient | None = None) -> str:
        """A person is sent to the address, looks at the page's question and answers it; where they are sent on to."""
        sent = ASK.get(address)
        assert sent.status_code == 302, sent.text
        page = urlsplit(sent.headers["Location"])
        assert page.path.startswith("/allow/"), sent.headers["Location"]
        identity = page.path.removeprefix("/allow/")
        answered = (web or self.web).post(
            f"/api/house/requests/{identity}/answers", json.dumps({"allow": allow}), content_type="application/json"
        )
        assert answered.status_code == 200, answered.content
        return str(answered.json()["location"])

    def with_code(self, client: Client, secret: str, scope: str | None = None) -> tuple[OAuth2Session, dict[str, Any]]:
        """Authlib goes the whole way of the authorization code grant."""
        session = OAuth2Session(client.client_id, secret or None, scope=scope, redirect_uri=BACK, code_challenge_method="S256",
                                token_endpoint_auth_method=client.sign_in_method)  # fmt: skip
        verifier = "nine-and-forty-gannets-dive-for-herring-off-the-sound"
        address, state = session.create_authorization_url(f"{self.issuer}/authorize", code_verifier=verifier)
        back = self.allow(address)
        assert parse_qs(urlsplit(back).query)["iss"] == ["http://127.0.0.1:8600/house/sandbox"]  # RFC 9207 §2
        return session, session.fetch_token(f"{self.issuer}/token", authorization_response=back, code_verifier=verifier, state=state)


@pytest.fixture
def house(transactional_db: None, live_server: LiveServer) -> Iterator[House]:
    load_environments(STORY)
    by = Person.objects.create_user("morag", password=PASSWORD, role="administrator")
    for key in ("fuel-ledger", "berth-booking"):
        kept = shipped()[key]
        values = {"api_base": f"https://{key}.gannet.example/api", "issuer": "https://own.example", "token_endpoint": "https://own.example/token",
                  "authorization_endpoint": "https://own.example/authorize"}  # fmt: skip
        applications.add_by_hand(by, kept["name"], "sandbox", values, kept["profile"], kept["purpose"], "Quays")
    Place.objects.update(house=True)
    web = WebClient()
    web.force_login(by, backend="django.contrib.auth.backends.ModelBackend")
    yield House(by, live_server.url, web)
    forget_the_journal()


def turned() -> list[str]:
    """What was really wrong, newest first."""
    return list(Turned.objects.values_list("what", flat=True))


def test_authlib_signs_a_person_in_and_renews(house: House) -> None:
    client, secret = house.client()
    session, told = house.with_code(client, secret)
    assert (told["token_type"], told["scope"], told["expires_in"]) == ("Bearer", "ledger.read ledger.write", 900)
    asker = house.resource()
    seen = house.introspect(told["access_token"], asker)
    assert seen["active"]
    assert (seen["username"], seen["client_id"], seen["scope"]) == ("morag", client.client_id, "ledger.read ledger.write")
    renewed = session.refresh_token(f"{house.issuer}/token", scope="ledger.read")
    assert renewed["scope"] == "ledger.read"
    assert renewed["refresh_token"] != told["refresh_token"]  # RFC 9700 §4.14.2: another each time
    assert session.revoke_token(f"{house.issuer}/revoke", token=renewed["refresh_token"]).status_code == 200
    assert not house.introspect(renewed["access_token"], asker)["active"]
    assert Grant.objects.get().why == "given back by the client"
    assert not Access.objects.filter(revoked=None).exists()


def test_an_old_refresh_token_ends_the_family(house: House) -> None:
    """RFC 9700 §4.14.2."""
    client, secret = house.client()
    asker = house.resource()
    _, told = house.with_code(client, secret)
    auth, first = (client.client_id, secret), told["refresh_token"]
    second = ASK.post(f"{house.issuer}/token", data={"grant_type": "refresh_token", "refresh_token": first}, auth=auth).json()
    assert house.introspect(second["access_token"], asker)["active"]
    again = ASK.post(f"{house.issuer}/token", data={"grant_type": "refresh_token", "refresh_token": first}, auth=auth)
    assert (again.status_code, again.json()["error"]) == (400, "invalid_grant")
    assert turned()[0] == "refresh token reused"
    assert not house.introspect(second["access_token"], asker)["active"]
    after = ASK.post(f"{house.issuer}/token", data={"grant_type": "refresh_token", "refresh_token": second["refresh_token"]}, auth=auth)
    assert after.json()["error"] == "invalid_grant"
    assert "used again" in Grant.objects.get().why


def test_oauthlib_uses_each_grant(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("OAUTHLIB_INSECURE_TRANSPORT", "1")  # a loopback address
    client, secret = house.client("berth-booking", "oauth2_client", sign_in_method="client_secret_post")
    back_end = BackendApplicationClient(client.client_id)
    body = back_end.prepare_request_body(include_client_id=True, client_secret=secret, scope="berths.read")
    answer = ASK.post(f"{house.issuer}/token", content=body, headers={"Content-Type": "application/x-www-form-urlencoded"})
    assert back_end.parse_request_body_response(answer.text, scope=["berths.read"])["token_type"] == "Bearer"

    client, secret = house.client()
    web = WebApplicationClient(client.client_id)
    verifier = web.create_code_verifier(64)
    address = web.prepare_request_uri(f"{house.issuer}/authorize", BACK, scope="ledger.read", state="s t&=+", code_challenge_method="S256",
                                      code_challenge=web.create_code_challenge(verifier, "S256"))  # fmt: skip
    code = web.parse_request_uri_response(house.allow(address), state="s t&=+")["code"]
    body = web.prepare_request_body(code, BACK, code_verifier=verifier)
    form = {"Content-Type": "application/x-www-form-urlencoded"}
    told = web.parse_request_body_response(
        ASK.post(f"{house.issuer}/token", content=body, headers=form, auth=(client.client_id, secret)).text
    )
    body = web.prepare_refresh_body(refresh_token=told["refresh_token"])
    renewed = web.parse_request_body_response(
        ASK.post(f"{house.issuer}/token", content=body, headers=form, auth=(client.client_id, secret)).text
    )
    assert renewed["scope"] == ["ledger.read"]

    # The password grant is not served to anybody (RFC 9700 §2.4).
    body = LegacyApplicationClient(client.client_id).prepare_request_body("morag", PASSWORD)
    refused = ASK.post(f"{house.issuer}/token", content=body, headers=form, auth=(client.client_id, secret))
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

    validator = Validator("http://127.0.0.1:8600/house/sandbox", "https://fuel-ledger.gannet.example/api")
    claims = validator.authenticate_token(told["access_token"])
    assert isinstance(claims, JWTAccessTokenClaims)
    validator.validate_token(claims, ["ledger.read"], None)
    with pytest.raises(Exception, match="insufficient_scope"):
        validator.validate_token(claims, ["ledger.write"], None)

    # A receiver that checks signatures by itself learns of a revocation from the status list (Token Status List §8.3).
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


def test_metadata_is_sound_and_stands_where_rfc_8414_says(house: House) -> None:
    answer = ASK.get(f"{house.base}/.well-known/oauth-authorization-server/house/sandbox")
    document = AuthorizationServerMetadata(
        {key: value.replace("http://", "https://") if isinstance(value, str) else value for key, value in answer.json().items()}
    )
    document.validate()
    assert document["issuer"].endswith("/house/sandbox")
    assert {"ledger.read", "berths.read"} <= set(document["scopes_supported"])
    assert ASK.get(f"{house.base}/.well-known/oauth-authorization-server/house/nowhere").status_code == 404


def test_registration_by_protocol(house: House) -> None:
    """RFC 7591 and RFC 7592."""
    right, value = endpoints.new_right(house.by, house.place("fuel-ledger"), 1, 7)
    auth = {"Authorization": f"Bearer {value}"}
    wanted = {
        "client_name": "Bunker report",
        "redirect_uris": [BACK],
        "grant_types": ["authorization_code", "refresh_token"],
        "scope": "ledger.read other",
    }
    wrong = ASK.post(f"{house.issuer}/register", json={**wanted, "redirect_uris": ["http://plain.example/back"]}, headers=auth)
    assert (wrong.status_code, wrong.json()["error"]) == (400, "invalid_redirect_uri")
    made = ASK.post(f"{house.issuer}/register", json=wanted, headers=auth)
    assert made.status_code == 201
    told = made.json()
    assert told["scope"] == "ledger.read"  # what is not permitted is left out, and the answer shows it (RFC 7591 §2)
    assert told["client_secret_expires_at"] > 0
    assert Credential.objects.get(client__client_id=told["client_id"]).value is None  # nobody can read it back
    assert ASK.post(f"{house.issuer}/register", json=wanted, headers=auth).status_code == 401  # the right was good for one
    _, tokens_told = house.with_code(Client.objects.get(client_id=told["client_id"]), told["client_secret"])
    assert tokens_told["scope"] == "ledger.read"

    own = {"Authorization": f"Bearer {told['registration_access_token']}"}
    address = told["registration_client_uri"].replace("http://127.0.0.1:8600", house.base)
    read = ASK.get(address, headers=own).json()
    assert (read["client_name"], read["redirect_uris"]) == ("Bunker report", [BACK])
    changed = ASK.put(address, json={**wanted, "client_id": told["client_id"], "client_name": "Bunkers"}, headers=own)
    assert changed.json()["client_name"] == "Bunkers"
    assert ASK.put(address, json={**wanted, "client_id": "another"}, headers=own).status_code == 400
    assert ASK.get(address, headers=auth).status_code == 401
    assert ASK.delete(address, headers=own).status_code == 204
    assert not Client.objects.filter(client_id=told["client_id"]).exists()
    assert ASK.get(address, headers=own).status_code == 401


def test_keys_are_told_apart_in_the_log_and_never_to_the_caller(house: House) -> None:
    client, key = house.client("fuel-ledger", "bearer", scopes=("ledger.read",))
    asker = house.resource()
    good = house.introspect(key, asker)
    assert (good["active"], good["scope"], good["client_id"]) == (True, "ledger.read", client.client_id)
    assert Credential.objects.get(client=client).last_used is not None
    end = "A" if key[-1] != "A" else "B"
    body = key.rsplit("_", 2)
    other = issuing.house_key.make("nlk", "sandbox", b"otherkey", b"\x01" * 32)
    swapped = issuing.house_key.make("nlk", "sandbox", int.to_bytes(0, 8, "big"), b"\x02" * 32)
    for shown, logged in ((key[:-1] + end, "key mistyped"), (key[:-3], "key cut"), (f"{body[0]}_{body[1][:20]}", "key cut"), (other, "key unknown"),
                          (swapped, "key unknown"), ("s3cret", "key unknown"), (key.replace("nlk_sandbox", "nlk_staging"), "key mistyped")):  # fmt: skip
        assert house.introspect(shown, asker) == {"active": False}, shown
        assert turned()[0] == logged, shown
    assert house.introspect(key, house.resource("berth-booking")) == {"active": False}
    assert turned()[0] == "key for another application"
    with time_machine.travel(timezone.now() + timedelta(days=181)):
        assert house.introspect(key, (asker[0], house_secret_again(house, asker[0]))) == {"active": False}
        assert turned()[0] == "key ended"
    issuing.revoke(house.by, Credential.objects.get(client=client), "leaked")
    assert house.introspect(key, asker) == {"active": False}
    assert turned()[0] == "key revoked"
    assert key not in str(list(Turned.objects.values()))


def house_secret_again(house: House, client_id: str) -> str:
    """Another secret of an application whose first has ended."""
    handover = issuing.add_secret(house.by, Client.objects.get(client_id=client_id))
    return show(house.by, handover)[1]


def test_the_quick_introspection_says_what_the_long_one_says_or_nothing(house: House) -> None:
    client, secret = house.client()
    asker, asker_secret = house.resource()
    _, told = house.with_code(client, secret)
    basic = base64.b64encode(f"{asker}:{asker_secret}".encode()).decode()

    def quickly(token: str = told["access_token"], auth: str = f"Basic {basic}", environment: str = "sandbox", more: str = "") -> Any:
        found = quick.introspect(environment, auth, f"token={token}{more}".encode(), "127.0.0.1", timezone.now())
        return json.loads(found) if found else None

    assert quickly() is None  # the first use is noted by the long way
    assert house.introspect(told["access_token"], (asker, asker_secret)) == quickly()
    other = base64.b64encode(f"{asker}:{secret}".encode()).decode()
    mine = base64.b64encode(f"{client.client_id}:{secret}".encode()).decode()
    assert quickly("x.y.z") is quickly(auth="") is quickly(auth=f"Basic {other}") is quickly(auth=f"Basic {mine}") is None
    assert quickly(environment="staging") is quickly(more="&token=again") is quickly("") is None
    row, kept = Access.objects.get(), Credential.objects.get(client__client_id=asker)
    past = timezone.now() - timedelta(hours=2)
    changes: list[tuple[Any, dict[str, Any]]] = [
        (Access.objects.filter(pk=row.pk), {"revoked": past}), (Access.objects.filter(pk=row.pk), {"ends": past}), (Access.objects.filter(pk=row.pk), {"audience": "x"}),
        (Person.objects.filter(pk=house.by.pk), {"is_active": False}), (Credential.objects.filter(pk=kept.pk), {"state": "revoked"}),
        (Credential.objects.filter(pk=kept.pk), {"ends": past}), (Credential.objects.filter(pk=kept.pk), {"last_used": past}),
        (Client.objects.filter(client_id=asker), {"resource": False}), (Client.objects.filter(client_id=asker), {"allow_list": ["203.0.113.0/24"]}),
        (Client.objects.filter(client_id=asker), {"sign_in_method": "client_secret_post"}), (Client.objects.filter(client_id=asker), {"house": False}),
    ]  # fmt: skip
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
        return turned()[0]

    _, others = house.client("berth-booking", "oauth2_client")
    assert refused("nobody", secret) == "client unknown"
    assert refused(client.client_id, secret[:-2]) == "secret cut"
    assert refused(client.client_id, secret[:-1] + ("A" if secret[-1] != "A" else "B")) == "secret mistyped"
    assert refused(client.client_id, "made-up") == "secret wrong"
    assert refused(client.client_id, others) == "secret of somebody else"
    in_body = ASK.post(f"{house.issuer}/token", data={**ask, "client_id": client.client_id, "client_secret": secret})
    assert in_body.json() == {"error": "invalid_client"}
    assert turned()[0] == "client signing in another way than registered"
    assert ASK.post(f"{house.issuer}/token", data=ask, auth=(client.client_id, secret)).status_code == 200
    token = ASK.post(f"{house.issuer}/token", data=ask, auth=(client.client_id, secret)).json()["access_token"]
    asker = house.resource("berth-booking")
    assert house.introspect(token, asker)["active"]
    issuing.revoke(house.by, Credential.objects.get(client=client), "leaked")
    assert refused(client.client_id, secret) == "secret revoked"
    assert not house.introspect(token, asker)["active"]  # what was got with it ends with it


def test_two_secrets_live_side_by_side_and_no_third(house: House) -> None:
    client, first = house.client("berth-booking", "oauth2_client")
    _, second = show(house.by, issuing.add_secret(house.by, client))
    for one in (first, second):
        assert ASK.post(f"{house.issuer}/token", data={"grant_type": "client_credentials"}, auth=(client.client_id, one)).status_code == 200
    with pytest.raises(Exception, match="Two secrets"):
        issuing.add_secret(house.by, client)
    newer = Credential.objects.filter(client=client).latest("issued")
    assert newer.replaces == Credential.objects.filter(client=client).earliest("issued")


def test_signing_keys_take_turns_without_a_refused_token(house: House) -> None:
    client, secret = house.client("berth-booking", "oauth2_client")

    def token() -> str:
        answer = ASK.post(f"{house.issuer}/token", data={"grant_type": "client_credentials"}, auth=(client.client_id, secret))
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
        jwt.decode(old, key_set(), algorithms=["RS256"])  # one of before is still verified at its end
        clock.move_to(begun + timedelta(hours=2))
        assert len(ASK.get(f"{house.issuer}/jwks").json()["keys"]) == 1
    assert SigningKey.objects.count() == 2


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
        answer = ASK.get(f"{house.issuer}/authorize", params={key: value for key, value in {**good, **changed}.items() if value})
        return str(answer.headers["Location"])

    for changed, error in (({"code_challenge": ""}, "invalid_request"), ({"code_challenge_method": "plain"}, "invalid_request"), ({"scope": "ledger.burn"}, "invalid_scope"),
                           ({"response_type": "token"}, "unsupported_response_type"), ({"resource": "https://other.example"}, "invalid_target")):  # fmt: skip
        query = parse_qs(urlsplit(sent(**changed)).query)
        assert sent(**changed).startswith(BACK)
        assert (query["error"], query["state"], query["iss"]) == ([error], ["x"], ["http://127.0.0.1:8600/house/sandbox"]), changed
    # These are not sent back: nobody knows whom they would reach (RFC 6749 §4.1.2.1).
    for changed in ({"redirect_uri": BACK + "/"}, {"client_id": "nobody"}):
        page = sent(**changed)
        assert page.startswith("/allow/")
        told = house.web.get(f"/api/house/requests/{page.removeprefix('/allow/')}").json()
        assert told["refused"]
        assert told["client"] in ("", "Quay board")
    back = house.allow(f"{house.issuer}/authorize?{httpx.QueryParams(good)}", allow=False)
    assert parse_qs(urlsplit(back).query)["error"] == ["access_denied"]


def test_an_administrators_scope_waits_for_consent(house: House) -> None:
    client, secret = house.client("berth-booking", "oauth2_client", scopes=("berths.read", "berths.book"))
    ask = {"grant_type": "client_credentials", "scope": "berths.book"}
    answer = ASK.post(f"{house.issuer}/token", data=ask, auth=(client.client_id, secret))
    assert answer.json() == {"error": "invalid_scope", "error_description": "berths.book waits for an administrator's consent"}
    note_consent(house.by, client, "berths.book", True)
    assert ASK.post(f"{house.issuer}/token", data=ask, auth=(client.client_id, secret)).json()["scope"] == "berths.book"


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
    assert turned()[0] == "grant of somebody who left"


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
    assert (answer.status_code, turned()[0]) == (401, "public client with a secret")


def test_what_ended_is_cleared_away(house: House) -> None:
    client, secret = house.client()
    house.with_code(client, secret)
    assert tokens.clear_ended(timezone.now()) == 0
    assert tokens.clear_ended(timezone.now() + timedelta(days=40)) > 0
    assert not Access.objects.exists()
    assert not Grant.objects.exists()
