"""When a secret ends: noted, changed and shown wherever people have to say it."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import pytest
from django.utils import timezone

from neatlatch.core.schemes import API_KEY
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import ProviderAccount
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.journal.models import Entry

from .conftest import Setup
from .test_workbenches import send

BASE = "http://127.0.0.1:9/api"
END, LATER = "2027-03-12T00:00:00Z", "2027-06-01T00:00:00Z"


@pytest.fixture(params=["with a client", "without one"])
def kiosks(setup: Setup, request: pytest.FixtureRequest) -> Connection:
    """A connection by an API key whose end nobody told."""
    profile: dict[str, Any] = {
        "schemes": [{"key": "api_key", "settings": {"placement": "header", "name": "X-Key"}}]
    }
    made = applications.add_manually(setup.by, "Kiosks", "sandbox", {"api_base": BASE}, profile)
    deployment = Deployment.objects.select_related("application", "environment").get(pk=made.pk)
    client = None
    if request.param == "with a client":
        client = ProviderAccount.objects.create(
            deployment=deployment,
            name="Ferries",
            scheme=API_KEY,
            state="live",
            changed_at=timezone.now(),
        )
    connection, _ = connections.create(
        setup.by,
        deployment,
        "kiosks",
        API_KEY,
        client,
        {"api_base": BASE},
        [],
        {"api_key": "kk-0123456789abcdef"},
    )
    return connection


def put_in(setup: Setup, secret: str, ends: str | None) -> Any:
    return send(
        setup.web(),
        "post",
        "/connections/sandbox/kiosks/secrets",
        {"secret": secret, "key": "api_key", "ends": ends},
        **{"If-Match": "*"},
    )


def shown(setup: Setup) -> tuple[Any, ...]:
    """Its end on every page that shows the secret."""
    web, credential = setup.web(), Credential.objects.get()
    whole = send(web, "get", f"/credentials/{credential.pk}")
    connection = send(web, "get", "/connections/sandbox/kiosks")
    found = [
        whole["ends"],
        connection["secrets"][0]["ends"],
        next(item["at"] for item in connection["due"] if item["key"] == "api_key"),
    ]
    found.append(next(item["ends"] for item in send(web, "get", "/credentials")["items"]))
    if credential.client_id:
        found.append(send(web, "get", f"/clients/{credential.client_id}")["secrets"][0]["ends"])
    return tuple(found)


def test_an_end_is_noted_changed_and_taken_back(setup: Setup, kiosks: Connection) -> None:
    web, credential = setup.web(), Credential.objects.get()
    assert set(shown(setup)) == {None}
    for end in (END, LATER, None):
        send(web, "put", f"/credentials/{credential.pk}/end", {"ends": end})
        assert set(shown(setup)) == {end}
    assert Entry.objects.filter(did="set the expiry of").count() == 3
    send(setup.web("operator"), "put", f"/credentials/{credential.pk}/end", {"ends": END}, 403)
    send(web, "put", f"/credentials/{credential.pk}/end", {"ends": "2027-03-12"}, 422)


def test_the_same_secret_with_an_end_keeps_it(setup: Setup, kiosks: Connection) -> None:
    """F5: it was answered 200, and “no expiry date known” stayed."""
    put_in(setup, "kk-0123456789abcdef", END)
    assert Credential.objects.count() == 1
    assert set(shown(setup)) == {END}
    put_in(setup, "kk-0123456789abcdef", None)  # nothing was said of it, so it stays
    assert set(shown(setup)) == {END}
    put_in(setup, "kk-0123456789abcdef", LATER)
    assert set(shown(setup)) == {LATER}


def test_another_secret_has_its_own_end(setup: Setup, kiosks: Connection) -> None:
    put_in(setup, "kk-0123456789abcdef", END)
    put_in(setup, "kk-another-9876543210", LATER)
    held = Connection.objects.get().held_secrets.get().credential
    assert held.ends == datetime(2027, 6, 1, tzinfo=UTC)


def test_where_somebody_else_says_it(setup: Setup) -> None:
    setup.latched()
    registered = Credential.objects.get()
    web = setup.web()
    told = send(web, "get", f"/credentials/{registered.pk}")["end_told_by"]
    assert "RFC 7591" in told
    answer = send(web, "put", f"/credentials/{registered.pk}/end", {"ends": END}, 409)
    assert answer["code"] == "expiry-not-set-here"
    assert told in answer["detail"]
    assert send(web, "get", "/connections/sandbox/cargo")["secrets"][0]["credential"] is None
    Credential.objects.update(source="pasted", state="retired")
    send(web, "put", f"/credentials/{registered.pk}/end", {"ends": END}, 409)
