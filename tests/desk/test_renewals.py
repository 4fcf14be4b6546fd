"""Renewal in time: a refresh token that is dead is found out while the last access token still
serves.
"""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from django.conf import settings
from django.utils import timezone

from neatlatch.core import profiles
from neatlatch.core.profiles import CLIENT
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.connections import renewals
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.estate.workloads import services as workloads

from .conftest import PERSON, SERVICE, Setup
from .test_accounts import connect, person
from .test_accounts import own as own
from .test_workbenches import fresh, send


def a_round_later() -> None:
    """Everything was obtained, and asked about, a round ago; the access tokens have most of their
    life before them.
    """
    then = timezone.now() - timedelta(minutes=settings.TOKEN_MINUTES)
    TokenSet.objects.filter(asked_at__isnull=False).update(asked_at=then)
    TokenSet.objects.update(obtained=then)


def revoke_there(tokens: TokenSet) -> None:
    """The refresh token is ended at the application, and nobody here is told; the access token
    lives on.
    """
    from neatlatch.core import oauth2
    from neatlatch.desk.estate.connections import destinations
    from neatlatch.desk.estate.connections.tokens import client_of
    from neatlatch.wire import oauth

    connection = tokens.connection
    endpoint = str(connection.deployment.published("revocation_endpoint"))
    request = oauth2.revocation_request(
        endpoint, client_of(connection), tokens.open_refresh().reveal(), "refresh_token"
    )
    with destinations.transport_of(connection, 10.0) as way:
        assert oauth.ask(way, "revocation", request, timezone.now()).reading.ok


def without_introspection() -> None:
    for deployment in Deployment.objects.all():
        deployment.metadata = {
            key: value
            for key, value in deployment.metadata.items()
            if key != "introspection_endpoint"
        }
        deployment.save()


@pytest.mark.parametrize("introspects", [True, False])
def test_a_dead_refresh_token_is_seen_within_a_round(setup: Setup, introspects: bool) -> None:
    """F7: test passed, latched, “renews itself”, and nothing on Today until the last access token
    had ended.
    """
    setup.latched()
    workloads.use_connection(
        setup.by,
        fresh(),
        workloads.WorkloadFields("Night run", "", "job", "Freight desk", "daily"),
        ["GET /manifests"],
    )
    assert setup.test(fresh()).passed
    if not introspects:
        without_introspection()
    revoke_there(TokenSet.objects.get())
    assert renewals.look_after_all() == 0
    assert TokenSet.objects.get().refused == ""  # not before a round has gone by
    a_round_later()
    renewals.look_after_all()
    held = TokenSet.objects.get()
    assert held.refused
    # Today names the moment when the last access token ends, and who stops.
    found = next(
        item
        for item in send(setup.web(), "get", "/today")["breaks"]["items"]
        if item["ref"] == "sandbox/cargo"
    )
    assert (found["act"], found["workloads"], found["at"] is not None) == (
        "sign_in",
        ["Night run"],
        True,
    )
    assert found["at"][:19] == held.ends.isoformat()[:19]  # type: ignore[union-attr]
    assert "Renewal was refused" in found["why"]
    asked = setup.stand_ins.calls("token")
    a_round_later()
    renewals.look_after_all()
    assert setup.stand_ins.calls("token") == asked  # it is not shown again and again


@pytest.mark.parametrize(("introspects", "renewed"), [(True, 0), (False, 1)])
def test_one_that_lives_is_asked_about_or_used(
    setup: Setup, introspects: bool, renewed: int
) -> None:
    setup.latched()
    if not introspects:
        without_introspection()
    a_round_later()
    assert renewals.look_after_all() == renewed
    assert renewals.look_after_all() == 0  # once in a round
    assert TokenSet.objects.get().generation == 1 + renewed


def test_an_idle_life_is_kept(setup: Setup) -> None:
    connection = setup.latched()
    kept = profiles.to_dict(connection.deployment.application.read_profile())
    applications.change(
        setup.by,
        connection.deployment.application,
        {"profile": {**kept, "limits": {**kept["limits"], "idle_life": 120}}},
    )
    assert renewals.look_after_all() == 0
    TokenSet.objects.update(obtained=timezone.now() - timedelta(seconds=61))
    assert renewals.look_after_all() == 1
    assert TokenSet.objects.get().generation == 2


def test_everybodys_own_is_looked_after(own: Setup) -> None:
    connect(own, "ewan", SERVICE)
    connect(own, "isla", PERSON)
    revoke_there(TokenSet.objects.get(person=person("ewan")))
    a_round_later()
    renewals.look_after_all()
    assert {
        token_set.person.username: bool(token_set.refused)
        for token_set in TokenSet.objects.all()
        if token_set.person
    } == {"ewan": True, "isla": False}
    why = next(
        item["why"]
        for item in send(own.web(), "get", "/today")["breaks"]["items"]
        if item["ref"] == "sandbox/cargo"
    )
    assert "Renewal for Ewan Tait was refused" in why


def renew(setup: Setup, who: str = "operator", status: int = 200) -> dict[str, Any]:
    return dict(send(setup.web(who), "post", "/connections/sandbox/cargo/renewals", status=status))


def test_renewal_alone(setup: Setup) -> None:
    setup.latched()
    calls = setup.stand_ins.calls("api")
    assert renew(setup) | {"ends": None} == {
        "renewed": True,
        "says": "Renewed: a new access token is held.",
        "ends": None,
    }
    assert TokenSet.objects.get().generation == 2
    assert setup.stand_ins.calls("api") == calls  # nothing else is tried
    revoke_there(TokenSet.objects.get())
    told = renew(setup)
    assert told["renewed"] is False
    assert "still serves to its end" in told["says"]
    assert send(setup.web(), "get", "/connections/sandbox/cargo")["due"][0]["act"] == "sign_in"
    renew(setup, "reader", 403)


def test_renewal_by_the_client_itself(setup: Setup) -> None:
    setup.connection(
        setup.client(setup.deployment(), "manifest.read", grants=("client_credentials",)),
        scheme=CLIENT,
    )
    assert send(setup.web(), "get", "/connections/sandbox/cargo")["renewable"] is True
    assert renew(setup)["renewed"] is True
    setup.stand_ins.fault("refuse", where="token", count=9)
    assert renew(setup)["renewed"] is False


def test_where_nothing_is_to_be_renewed(own: Setup) -> None:
    assert send(own.web(), "get", "/connections/sandbox/cargo")["renewable"] is False
    renew(own, "ewan", 409)  # has not connected yet
    connect(own, "ewan", SERVICE)
    assert renew(own, "ewan")["renewed"] is True
    renew(own, "isla", 409)
    Connection.objects.update(scheme="basic")
    renew(own, "operator", 409)
