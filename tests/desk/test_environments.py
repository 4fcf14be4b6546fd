"""Environments are administered on a page of their own; the safe has one to be read."""

from __future__ import annotations

from typing import Any

import pytest
from django.conf import settings
from django.utils import timezone

from neatlatch.desk.authority import rekeying
from neatlatch.desk.estate.applications import environments
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground.common import keyfile, safe
from neatlatch.desk.ground.common.actors import SAFE_KEEPER
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.ground.journal.services import write
from tests.refused import refused_with

from .conftest import Setup
from .test_workbenches import send


def listed(setup: Setup) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = send(setup.web("reader"), "get", "/environments")
    return found


def test_an_environment_is_added_changed_moved_and_removed(setup: Setup) -> None:
    web = setup.web()
    fields = {"key": "training", "name": " Training  house ", "look": "dashed"}
    assert send(web, "post", "/environments", fields, 201)["name"] == "Training house"
    last = listed(setup)[-1]
    assert (last["key"], last["production"], last["in_use"]) == ("training", False, False)
    send(web, "patch", "/environments/training", {"name": "Training", "production": True})
    last = listed(setup)[-1]
    assert (last["name"], last["production"], last["look"]) == ("Training", True, "dashed")
    entry = Entry.objects.get(did="changed", noun="environment")
    assert entry.details["changes"] == [
        "name: Training house became Training",
        "production: False became True",
    ]
    keys = ["training", *(item["key"] for item in listed(setup)[:-1])]
    assert [
        environment["key"] for environment in send(web, "put", "/environments", {"keys": keys})
    ] == keys
    assert [environment.order for environment in Environment.objects.all()] == list(
        range(len(keys))
    )
    send(web, "delete", "/environments/training", status=204)
    assert not Environment.objects.filter(key="training").exists()


@pytest.mark.parametrize(
    ("wrong", "field"),
    [
        ({"key": "Not a key"}, "key"),
        ({"key": "sandbox"}, "key"),
        ({"key": "x" * 51}, "key"),
        ({"name": "  "}, "name"),
        ({"name": "x" * 61}, "name"),
        ({"name": "SANDBOX"}, "name"),
        ({"look": "dotted"}, "look"),
    ],
)
def test_what_is_wrong_is_told_by_field(setup: Setup, wrong: dict[str, str], field: str) -> None:
    body = {"key": "training", "name": "Training"} | wrong
    assert list(send(setup.web(), "post", "/environments", body, 422)["errors"]) == [field]
    assert not Environment.objects.filter(name="Training").exists()


def test_an_environment_in_use_is_not_removed(setup: Setup) -> None:
    deployment = setup.deployment()
    assert {item["key"]: item["in_use"] for item in listed(setup)}["sandbox"] is True
    told = send(setup.web(), "delete", "/environments/sandbox", status=409)
    assert told["code"] == "environment-in-use"
    assert not Entry.objects.filter(did="removed", noun="environment").exists()
    deployment.delete()
    send(setup.web(), "delete", "/environments/sandbox", status=204)


def test_an_order_names_each_environment_once(setup: Setup) -> None:
    keys = [item["key"] for item in listed(setup)]
    for wrong in (keys[:-1], [*keys, keys[0]], [*keys[:-1], "nowhere"]):
        send(setup.web(), "put", "/environments", {"keys": wrong}, 409)
    environments.put_in_order(setup.by, keys)  # as it is
    assert not Entry.objects.filter(did="put in order").exists()
    with refused_with("environments-differ"):
        environments.put_in_order(setup.by, [])


def test_the_safe_tells_its_key_and_its_backups(setup: Setup) -> None:
    file = settings.HOME / "safe.key"
    kept = file.read_bytes()
    try:
        first = send(setup.web("reader"), "get", "/safe")
        assert [version["in_use"] for version in first["versions"]] == [True]
        assert (first["rekeyed_at"], first["backup_at"]) == (None, None)
        version = rekeying.begin()
        for count in rekeying.seal_anew():
            assert count.lost == 0
        write(SAFE_KEEPER, "backed up", "safe", "desk-20270101-000000.sqlite3")
        told = send(setup.web("reader"), "get", "/safe")
        newest, older = told["versions"]
        assert (newest["number"], newest["in_use"], older["in_use"]) == (version, True, False)
        assert newest["since"] is not None
        assert (told["rekeyed_lost"], told["backup_opened"]) == (0, None)
        assert told["backup_at"][:10] == timezone.now().isoformat()[:10]
        assert safe.versions() == [version, version - 1]
        text = str(told)
        assert keyfile.read_keys(file, create=False).sealing[version].hex() not in text
    finally:
        file.write_bytes(kept)
