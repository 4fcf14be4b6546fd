"""The one-time address where the first administrator is made."""

from __future__ import annotations

import json
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path
from threading import Barrier
from typing import Any

import pytest
from django.db import connections
from django.utils import timezone

from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.people import first_administrator
from neatlatch.desk.ground.people.models import Person

from .conftest import forget_the_journal

PASSWORD = "anchor bollard davit 7"


@pytest.fixture(autouse=True)
def home(tmp_path: Path, settings: Any, transactional_db: None) -> Iterator[Path]:
    settings.HOME = tmp_path
    yield tmp_path
    forget_the_journal()


def make(token: str, username: str = "morag") -> Person:
    return first_administrator.make(token, username, "Morag Orr", PASSWORD)


BAD_ADDRESS = (403, "bad-set-up-address")


def refused(token: str) -> tuple[int, str]:
    with pytest.raises(Problem) as told:
        make(token)
    return told.value.status, told.value.code


def test_a_token_is_good_once_until_a_newer_one_is_made(home: Path) -> None:
    assert refused("") == refused("anything") == BAD_ADDRESS  # none was made yet
    older, token = first_administrator.open_address(), first_administrator.open_address()
    kept = home / "first-administrator.json"
    assert kept.stat().st_mode & 0o077 == 0
    assert token not in kept.read_text()
    assert refused(older) == refused(token + "x") == refused("\ud800") == BAD_ADDRESS
    made = make(token)
    assert (made.role, made.must_change) == ("administrator", False)
    assert list(Entry.objects.values_list("did", "ref")) == [("added", "morag")]
    assert not kept.exists()
    assert first_administrator.open_address() == ""
    assert refused(token) == (409, "already-set-up")


def test_it_expires(home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    token = first_administrator.open_address()
    later = timezone.now() + first_administrator.VALID_FOR
    monkeypatch.setattr(first_administrator.timezone, "now", lambda: later)
    assert refused(token) == BAD_ADDRESS
    monkeypatch.setattr(first_administrator.timezone, "now", lambda: later - timedelta(seconds=2))
    assert make(token).username == "morag"


@pytest.mark.parametrize("damaged", ["", "{", json.dumps({"digest": 1}), json.dumps([])])
def test_a_damaged_file_lets_nobody_in(home: Path, damaged: str) -> None:
    token = first_administrator.open_address()
    kept = home / "first-administrator.json"
    kept.write_text(damaged)
    assert refused(token) == BAD_ADDRESS


def test_of_several_at_once_one_is_made(home: Path) -> None:
    token, together = first_administrator.open_address(), Barrier(4)

    def attempt(number: int) -> int:
        together.wait(30)
        try:
            make(token, f"morag{number}")
        except Problem as problem:
            return problem.status
        finally:
            connections.close_all()
        return 201

    with ThreadPoolExecutor(4) as threads:
        statuses = sorted(threads.map(attempt, range(4)))
    assert statuses[0] == 201
    assert set(statuses[1:]) <= {403, 409}
    assert Person.objects.count() == 1
