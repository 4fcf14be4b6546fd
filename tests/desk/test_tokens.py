"""Tokens: renewed ahead of their end, by one at a time, and never lost."""

from __future__ import annotations

import threading
from datetime import timedelta
from typing import Any

import pytest
from django.db import connections as databases
from django.utils import timezone

from neatlatch.core.profiles import CLIENT
from neatlatch.desk.estate.connections import destinations, halves, renewals, summaries, tokens
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.work.rounds.models import Test
from neatlatch.wire.token_source import HeldToken, NoToken

from .conftest import Setup


def bring_near_the_end(connection: Connection) -> None:
    TokenSet.objects.filter(connection=connection).update(
        obtained=timezone.now() - timedelta(seconds=850),
        ends=timezone.now() + timedelta(seconds=50),
    )


def hold(connection: Connection, force: bool = False, newer_than: int | None = None) -> HeldToken:
    with destinations.transport_of(connection, 30.0) as way:
        return tokens.hold(connection, way, force, newer_than)[0]


def test_held_while_it_lives_renewed_when_near_its_end(setup: Setup) -> None:
    connection = setup.latched()
    first = hold(connection)
    assert not first.renewed
    bring_near_the_end(connection)
    old = TokenSet.objects.get().open_refresh().reveal()
    second = hold(connection)
    assert second.renewed
    assert second.access_token != first.access_token
    kept = TokenSet.objects.get()
    assert kept.open_refresh().reveal() != old  # the stand-in rotates
    assert kept.generation == 2
    assert kept.lease == ""
    assert hold(connection).access_token == second.access_token


def test_renewed_by_the_clock(setup: Setup) -> None:
    connection = setup.latched()
    assert renewals.look_after_all() == 0
    bring_near_the_end(connection)
    assert renewals.look_after_all() == 1
    assert setup.test(connection).passed


def test_one_renewal_for_any_number_that_ask_at_once(setup: Setup) -> None:
    connection = setup.latched()
    bring_near_the_end(connection)
    before = setup.stand_ins.calls("issued:refresh_token")
    found: list[str] = []

    def ask() -> None:
        try:
            found.append(hold(connection, force=True, newer_than=1).access_token)
        finally:
            databases.close_all()

    threads = [threading.Thread(target=ask) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(found) == 8
    assert len(set(found)) == 1
    assert setup.stand_ins.calls("issued:refresh_token") == before + 1


def test_cut_off_between_the_answer_and_saving_it(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The provider has rotated, and we died before its answer was noted: the lease is a dead
    process's, the old one is tried again, all is well.
    """
    connection = setup.latched()
    bring_near_the_end(connection)
    repeated = setup.stand_ins.calls("refresh_repeated")

    class Killed(BaseException):
        pass

    def die(*args: Any, **kwargs: Any) -> None:
        raise Killed

    with monkeypatch.context() as patch:
        patch.setattr(tokens, "save_new", die)
        with pytest.raises(Killed):
            hold(connection)
    kept = TokenSet.objects.get()
    assert kept.lease
    TokenSet.objects.update(lease="elsewhere", lease_until=timezone.now() - timedelta(seconds=1))
    assert hold(connection).renewed
    assert setup.stand_ins.calls("refresh_repeated") == repeated + 1
    assert setup.test(connection).passed


def test_a_renewal_that_is_refused_is_told_and_not_tried_again_and_again(setup: Setup) -> None:
    connection = setup.latched()
    stolen = TokenSet.objects.get().open_refresh().reveal()
    bring_near_the_end(connection)
    hold(connection)
    bring_near_the_end(connection)
    hold(connection)
    kept = TokenSet.objects.get()
    kept.seal(
        kept.open_access().reveal(), stolen
    )  # an old one, shown again: the family is revoked (RFC 9700 §4.14.2)
    kept.save()
    with pytest.raises(NoToken) as refused:
        hold(connection, force=True)
    assert refused.value.failure.code == "invalid_grant"
    assert "used before" in TokenSet.objects.get().refused
    assert Entry.objects.filter(did="was refused a renewal").exists()
    bring_near_the_end(connection)
    asked = setup.stand_ins.calls("token")
    assert renewals.look_after_all() == 0
    with pytest.raises(NoToken, match="invalid_grant"):
        hold(connection, force=True)
    assert setup.stand_ins.calls("token") == asked
    found = halves.with_everything(Connection.objects.all()).get()
    soonest = summaries.sum_up(found, timezone.now())
    assert "Renewal was refused" in soonest.next_why
    assert soonest.next_act == "sign_in"


def test_the_road_breaks_during_a_renewal_and_the_old_token_stays(setup: Setup) -> None:
    connection = setup.latched()
    bring_near_the_end(connection)
    setup.stand_ins.fault("unavailable", where="token", count=1)
    with pytest.raises(NoToken):
        hold(connection)
    kept = TokenSet.objects.get()
    assert kept.lease == ""
    assert kept.refused == ""
    assert hold(connection).renewed


def test_a_client_signs_in_by_itself(setup: Setup) -> None:
    client = setup.client(
        setup.deployment(), "manifest.read", grants=("client_credentials",), redirect_uris=()
    )
    connection = setup.connection(client, scheme=CLIENT)
    test = setup.test(connection)
    assert test.passed, test.rungs[-1]
    assert TokenSet.objects.get().granted == ["manifest.read"]


def test_a_token_that_was_revoked_there_is_renewed_by_the_test(setup: Setup) -> None:
    connection = setup.latched()
    setup.stand_ins.age(5000, "access")
    test = setup.test(connection)
    assert test.passed
    assert isinstance(test, Test)
    assert TokenSet.objects.get().generation == 2


def test_removing_a_connection_ends_its_tokens_at_the_provider(setup: Setup) -> None:
    """RFC 7009 §2.1; where the provider cannot be reached, the connection goes all the same and the
    journal says so.
    """
    connection = setup.latched()
    held = setup.stand_ins.state()["refresh"]
    connections.remove(setup.by, connection)
    assert setup.stand_ins.state()["refresh"] == held - 1
    assert Entry.objects.get(did="removed").details["tokens revoked there"] == "yes"
    other = setup.latched(name="other")
    setup.stand_ins.fault("unavailable", where="token", count=5)
    connections.remove(setup.by, other)
    assert not Connection.objects.exists()
    assert (
        "no, it answered"
        in Entry.objects.filter(did="removed").last().details["tokens revoked there"]
    )
