"""Small things that were said and were not so (F10, F13, F16): each failed before."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from django.test import Client as WebClient

from neatlatch import cli
from neatlatch.client import Drawn, Latch
from neatlatch.core import setting_up
from neatlatch.core.evidence import CauseClass
from neatlatch.core.replies import Reading
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.pages.views import PAGES
from neatlatch.wire.oauth import failure_of
from tests.harness import ROOT

from .conftest import Setup
from .test_workbenches import send


def test_export_where_no_desk_is(tmp_path: Path) -> None:
    """F10: a traceback of forty lines, and an empty folder left."""
    home = tmp_path / "nowhere"
    environment = {**os.environ, "NEATLATCH_HOME": str(home)}
    done = subprocess.run(
        [sys.executable, "-m", "neatlatch.cli", "inventory", "export", "x.yaml"],
        cwd=ROOT,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert (done.returncode, done.stdout) == (2, "")
    assert "there is no desk in" in done.stderr
    assert "NEATLATCH_HOME" in done.stderr
    assert len(done.stderr.splitlines()) == 1
    assert not home.exists()


def test_a_key_in_the_query_is_not_drawn_as_nothing(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """F16: nothing was printed, and the command ended with 0."""
    drawn = Drawn("sandbox/tides", "https://tides.example", {}, {"key": "x"}, None)
    monkeypatch.setattr(Latch, "draw", lambda *_, **__: drawn)
    monkeypatch.setenv("NLATCH_KEY", "nlk_x")
    assert cli.main(["draw", "tides"]) == 2
    said = capsys.readouterr()
    assert said.out == ""
    assert "--json" in said.err


@pytest.mark.parametrize(
    "path", ["/metric", "/openapi.json", "/nothing/here", "/connection/cargo", "/.env"]
)
def test_an_unknown_address_is_404(db: None, path: str) -> None:
    assert WebClient().get(path).status_code == 404


def test_the_pages_are_those_of_the_front_end(db: None) -> None:
    router = (ROOT / "web" / "src" / "router.ts").read_text()
    named = {path.split("/")[1] for path in re.findall(r"^  '(/[^']*)':", router, re.M)}
    assert (
        named | {"asked", "set-up"} == PAGES
    )  # links that somebody was sent are looked at before the router
    for page in PAGES:
        assert WebClient().get(f"/{page}").status_code == 200


def test_a_fact_without_a_value_changes_nothing(setup: Setup) -> None:
    """The provider's half was emptied, and 200 answered."""
    connection = setup.latched()
    client = Client.objects.get()
    for key in ("note_fact", "note_thumbprint"):
        for body in ({}, {"value": " "}):
            send(
                setup.web(),
                "post",
                f"/connections/{connection.ref}/acts",
                {"pin": "client_id", "key": key, **body},
                422,
                **{"If-Match": "*"},
            )
    assert Client.objects.get().facts == client.facts


def test_an_answer_that_lacks_a_parameter_says_so() -> None:
    said = failure_of(Reading(False, None, "access_token is REQUIRED"), "token", 200).detail
    assert said == "The answer is not complete: access_token is REQUIRED."
    assert (
        failure_of(Reading(False, None, "no valid credential"), "resource", 401).cause
        is CauseClass.CREDENTIAL
    )


def test_a_step_of_setting_up_says_a_sentence_once(setup: Setup) -> None:
    """Two pins gave the same reason, and it was said twice."""
    setup.deployment()
    body: dict[str, Any] = {
        "application": "cargo-manifests",
        "environment": "sandbox",
        "scheme": "oauth2_client",
    }
    ref = send(setup.web(), "post", "/set-ups", body, 201)["ref"]
    sections = send(setup.web(), "get", f"/connections/{ref}/set-up")["sections"]
    for section in sections:
        sentences = [part for part in section["says"].split(". ") if part]
        assert len(sentences) == len(set(sentences)), json.dumps(section)
    assert {section["key"] for section in sections} >= {setting_up.OURS}
