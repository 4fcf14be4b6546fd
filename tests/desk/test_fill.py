"""A made-up house is the same for the same number, is gone on with where it was cut off, and is put
into no real one.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from django.utils import timezone

from neatlatch import cli
from neatlatch.core.health import State
from neatlatch.demo import fill as filling
from neatlatch.desk.estate.connections import destinations, halves
from neatlatch.desk.estate.records.applications.models import Application, Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, Summary
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.work.finding.index import find
from neatlatch.desk.work.rounds.models import Sample

from .conftest import Setup, forget_the_journal


@pytest.fixture(autouse=True)
def logins(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Where the passwords of the made-up people go: a house that has such a file is a demo's."""
    file = tmp_path / "logins.json"
    monkeypatch.setattr(filling, "_logins", lambda: file)
    return file


@pytest.fixture
def empty(transactional_db: None) -> Iterator[None]:
    yield
    forget_the_journal()


def counts() -> dict[str, int]:
    models = (Application, Deployment, Client, Connection, Credential, Workload, Use, Sample)
    return {model.__name__: model.objects.count() for model in models}


def told() -> dict[str, Any]:
    """What does not depend on when it was made, and is not sealed."""
    rows = Connection.objects.select_related("client", "deployment__application").order_by("ref")
    return {
        row.ref: (
            row.pk,
            row.scheme,
            row.state,
            row.scopes,
            row.client and row.client.client_id,
            row.deployment.application.name,
        )
        for row in rows
    }


def test_it_has_what_is_promised_and_grows(
    empty: None, logins: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    said: list[int] = []
    filling.fill(130, said.append)
    assert said == [100, 130]
    assert set(json.loads(logins.read_text())) >= {"morag", "isla"}
    assert logins.stat().st_mode & 0o077 == 0
    before, first = counts(), told()
    promised = {
        "Connection": 130,
        "Client": 130,
        "Credential": 260,
        "Workload": 39,
        "Application": 26,
    }
    assert {name: before[name] for name in promised} == promised
    assert before["Use"] > 39
    assert Summary.objects.filter(stale=False).count() == 130
    assert {item.name for item in find("pier ledger 1")} >= {"production/pier-ledger-1-1"}
    # Nothing is made twice, and what a run that was cut off left out is filled in.
    filling.fill(130, said.append)
    assert (counts(), told()) == (before, first)
    assert cli.main(["demo-fill", "160"]) == 0
    assert capsys.readouterr().out.splitlines()[-1] == "160 connections stand."
    assert counts()["Connection"] == 160
    assert counts()["Workload"] == 48
    assert {ref: value for ref, value in told().items() if ref in first} == first


def test_it_is_a_house_as_people_have_it(empty: None) -> None:
    """Of every kind; nearly all works; what does not is told by its pins or its state."""
    filling.fill(240, lambda stand: None)
    kinds = set(Connection.objects.values_list("scheme", flat=True))
    assert len(kinds) >= 8
    states = list(Connection.objects.values_list("state", flat=True))
    assert 0.8 < states.count(State.LATCHED.value) / len(states) < 0.98
    assert set(states) == {state.value for state in State}
    sound = Connection.objects.filter(state="latched", summary__off="")
    assert sound.count() > 0.8 * len(states)
    now = timezone.now()
    for connection in halves.each(
        Connection.objects.filter(state="latched").exclude(summary__off="")
    ):
        ended = [
            each
            for each in connection.secrets().values()
            if each.ends is not None and each.ends < now + timedelta(days=1)
        ]
        assert ended, connection.ref  # of those that work, only an end puts a pin out
    for connection in halves.each(Connection.objects.all()):
        assert not destinations.moves(connection), (
            connection.ref
        )  # what is held may go where it is sent


def test_no_real_house_is_filled(setup: Setup, capsys: pytest.CaptureFixture[str]) -> None:
    setup.latched()
    before, entries = counts(), Entry.objects.count()
    assert cli.main(["demo-fill", "10"]) == 1
    assert "not made up" in capsys.readouterr().err
    assert (counts(), Entry.objects.count()) == (before, entries)
    with pytest.raises(SystemExit):
        cli.main(["demo-fill", "0"])
