"""The settings of Neat Latch itself."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from neatlatch.desk.ground import settings_report
from neatlatch.desk.ground.settings_report import SETTINGS

from .conftest import Setup

ROOT = Path(__file__).resolve().parents[2]


def test_every_variable_that_is_read_is_told_and_documented() -> None:
    read = set()
    for file in (ROOT / "neatlatch" / "desk").rglob("*.py"):
        if file.name != "settings_told.py":
            found = re.findall(r'environ(?:\.get\(|\[)"(NEATLATCH_[A-Z_]+)"', file.read_text())
            read.update(found)
    # Of the front end's place, and of the clock of tests, nobody who runs it says anything.
    assert read - {"NEATLATCH_DIST", "NEATLATCH_TEST_CLOCK"} == {
        setting.name for setting in SETTINGS
    }
    docs = (ROOT / "docs" / "running.md").read_text()
    for setting in SETTINGS:
        assert f"| `{setting.name}` | {setting.meaning} | {setting.usual} |\n" in docs, setting.name


def test_a_secret_is_never_told(setup: Setup, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("NEATLATCH_PROXY_SECRET", "quay" * 9)
    monkeypatch.setenv("NEATLATCH_REDIS", "redis://:quay@127.0.0.1")
    monkeypatch.setenv("NEATLATCH_FIRM", "Gannet Sound Ferries")
    monkeypatch.delenv("NEATLATCH_BODY_SECONDS", raising=False)
    answer = setup.web("reader").get("/api/settings")
    assert b"quay" not in answer.content
    told = {item["name"]: item for item in answer.json()["items"]}
    assert len(told) == len(SETTINGS)
    for name in ("NEATLATCH_PROXY_SECRET", "NEATLATCH_REDIS"):
        assert (told[name]["is_set"], told[name]["value"]) == (True, "")
    assert told["NEATLATCH_FIRM"]["value"] == "Gannet Sound Ferries"
    assert told["NEATLATCH_BODY_SECONDS"]["value"] == "60"
    assert told["NEATLATCH_BODY_SECONDS"]["is_set"] is False


def test_an_empty_variable_is_as_good_as_none() -> None:
    every = settings_report.every_setting({"NEATLATCH_LOG": ""})
    told = {item.setting.name: item for item in every}
    assert (told["NEATLATCH_LOG"].value, told["NEATLATCH_LOG"].is_set) == ("INFO", False)
