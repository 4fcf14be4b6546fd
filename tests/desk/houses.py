"""The house authority as tests meet it: its clients, the applications that ask it, and a person who
allows.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qs, urlsplit

import httpx
from authlib.integrations.requests_client import OAuth2Session
from django.test import Client as WebClient

from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.authority.records.house.models import RejectedRequest
from neatlatch.desk.estate.credentials.services import close, show
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.ground.people.models import Person
from tests.harness import NOBODY

BACK = "https://app.gannet.example/back"
# The machine may be busy; nothing here is timed.


ASK = httpx.Client(timeout=60, verify=NOBODY)


@dataclass
class House:
    """The authority of the sandbox, with two applications that accept it."""

    by: Person
    base: str
    web: WebClient

    @property
    def issuer(self) -> str:
        return f"{self.base}/house/sandbox"

    def deployment(self, key: str) -> Deployment:
        return Deployment.objects.select_related("application", "environment").get(
            application__key=key, environment__key="sandbox"
        )

    def client(
        self, key: str = "fuel-ledger", scheme: str = "oauth2_code", **more: Any
    ) -> tuple[Client, str]:
        """A client of the house, and its secret taken."""
        grants = {
            "oauth2_code": ("authorization_code", "refresh_token"),
            "oauth2_client": ("client_credentials",),
            "bearer": (),
        }[scheme]
        scopes = more.pop(
            "scopes", ("ledger.read", "ledger.write") if key == "fuel-ledger" else ("berths.read",)
        )
        fields = ClientMetadata(
            "Quay board",
            ("quays@gannet.example",),
            redirect_uris=(BACK,) if scheme == "oauth2_code" else (),
            grants=grants,
            scopes=frozenset(scopes),
            **more,
        )
        made, handover = issuing.register(self.by, self.deployment(key), fields, scheme)
        if handover is None:
            return made, ""
        _, value = show(self.by, handover)
        close(self.by, handover)
        return made, value

    def resource(self, key: str = "fuel-ledger") -> tuple[str, str]:
        """The application itself, as it asks about tokens."""
        made, handover = issuing.resource(self.by, self.deployment(key))
        _, value = show(self.by, handover)
        close(self.by, handover)
        return made.client_id, value

    def introspect(self, token: str, asker: tuple[str, str]) -> dict[str, Any]:
        answer = ASK.post(f"{self.issuer}/introspect", data={"token": token}, auth=asker)
        assert answer.status_code == 200, answer.text
        found: dict[str, Any] = answer.json()
        return found

    def allow(self, address: str, allow: bool = True, web: WebClient | None = None) -> str:
        """A person is sent to the address, looks at the page's question and answers it; where they
        are sent on to.
        """
        sent = ASK.get(address)
        assert sent.status_code == 302, sent.text
        page = urlsplit(sent.headers["Location"])
        assert page.path.startswith("/allow/"), sent.headers["Location"]
        identity = page.path.removeprefix("/allow/")
        answered = (web or self.web).post(
            f"/api/house/requests/{identity}/answers",
            json.dumps({"allow": allow}),
            content_type="application/json",
        )
        assert answered.status_code == 200, answered.content
        return str(answered.json()["location"])

    def with_code(
        self, client: Client, secret: str, scope: str | None = None
    ) -> tuple[OAuth2Session, dict[str, Any]]:
        """Authlib goes the whole way of the authorization code grant."""
        session = OAuth2Session(
            client.client_id,
            secret or None,
            scope=scope,
            redirect_uri=BACK,
            code_challenge_method="S256",
            token_endpoint_auth_method=client.sign_in_method,
        )
        verifier = "nine-and-forty-gannets-dive-for-herring-off-the-sound"
        address, state = session.create_authorization_url(
            f"{self.issuer}/authorize", code_verifier=verifier
        )
        back = self.allow(address)
        assert parse_qs(urlsplit(back).query)["iss"] == [
            "http://127.0.0.1:8600/house/sandbox"
        ]  # RFC 9207 §2
        return session, session.fetch_token(
            f"{self.issuer}/token", authorization_response=back, code_verifier=verifier, state=state
        )


def rejected() -> list[str]:
    """What was really wrong, newest first."""
    return list(RejectedRequest.objects.values_list("what", flat=True))


def house_secret_again(house: House, client_id: str) -> str:
    """Another secret of an application whose first has ended."""
    handover = issuing.add_secret(house.by, Client.objects.get(client_id=client_id))
    return show(house.by, handover)[1]
