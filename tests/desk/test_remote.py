"""Commands that ask a desk, held to a desk: what they print, and what they end with."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import httpx
import pytest
from django.core.wsgi import get_wsgi_application

from neatlatch import cli
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.work.rounds.models import Round, Test
from neatlatch.remote import where
from neatlatch.remote.desk import Desk
from neatlatch.remote.where import GivenToken

from .conftest import Setup
from .test_programs import Token

Nlatch = Callable[..., tuple[int, str, str]]


@pytest.fixture
def nlatch(
    setup: Setup, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> Nlatch:
    """Runs a command with a token that may do what a pipeline does."""
    transport = httpx.WSGITransport(app=get_wsgi_application())

    @cache
    def desk() -> Desk:
        """Asked for once everything else is there: Neat Latch itself is an application, too."""
        token = Token(setup, "change", "test", "put-secrets")
        return Desk("http://testserver", GivenToken(token.text), transport=transport)

    monkeypatch.setattr(where, "desk_of", lambda _: desk())
    monkeypatch.setattr(where, "is_remote", lambda _: True)

    def run(*words: str, given: str = "") -> tuple[int, str, str]:
        desk()
        monkeypatch.setattr("sys.stdin", io.StringIO(given))
        capsys.readouterr()
        status = cli.main(list(words))
        told = capsys.readouterr()
        return int(status), told.out, told.err

    return run


def told(answer: tuple[int, str, str]) -> Any:
    status, out, said = answer
    assert status in (0, 1, 3), said
    return json.loads(out)


def test_connections_are_listed_and_looked_at(setup: Setup, nlatch: Nlatch) -> None:
    setup.latched()
    setup.latched(name="second")
    assert [row["ref"] for row in told(nlatch("connection", "list", "--json"))] == [
        "sandbox/cargo",
        "sandbox/second",
    ]
    status, out, _ = nlatch("connection", "list", "second", "--most", "1")
    assert (status, out.split()[0]) == (0, "sandbox/second")
    assert nlatch("connection", "list", "nothing")[1] == "No connection fits.\n"
    shown = told(nlatch("connection", "status", "sandbox/cargo", "--json"))
    assert (shown["state"], shown["missing"]) == ("not_proven", [])
    status, out, _ = nlatch("connection", "status", "sandbox/cargo")
    assert status == 1
    assert "redirect URI" in out
    Connection.objects.update(state="latched")
    assert nlatch("connection", "status", "sandbox/cargo", "--until", "latched")[0] == 0
    waited = ("--until", "unlatched", "--timeout", "0.1")
    assert nlatch("connection", "status", "sandbox/cargo", *waited)[0] == 7
    status, _, said = nlatch("connection", "status", "sandbox/none")
    assert (status, "“nlatch message " in said) == (5, True)


def test_a_test_tells_its_rungs(setup: Setup, nlatch: Nlatch) -> None:
    connection = setup.latched("manifest.read")
    done = setup.test(connection)
    # Tests run in the worker; this one has ended.
    assert done.passed
    status, out, _ = nlatch("connection", "test", "sandbox/cargo", "--timeout", "0")
    assert (status, out) == (7, "")
    assert Test.objects.count() == 2
    assert nlatch("connection", "test", "sandbox/cargo", "--last", "roof")[0] == 2


def test_a_secret_is_read_from_a_pipe(setup: Setup, nlatch: Nlatch) -> None:
    setup.latched()
    put = ("secret", "put", "sandbox/cargo", "client_secret")
    status, out, _ = nlatch(*put, given="s" * 30 + "\n")
    assert (status, "…ssss is put in" in out) == (0, True)
    assert told(nlatch(*put, "--json", given="t" * 30))["secret"]["hint"] == "…tttt"
    assert nlatch(*put)[0] == 2
    assert nlatch("secret", "put", "sandbox/cargo", "other", given="x")[0] == 2


def test_workloads_and_their_keys(setup: Setup, nlatch: Nlatch, tmp_path: Path) -> None:
    setup.latched("manifest.read")
    uses = ("--uses", "sandbox/cargo=GET /manifests")
    status, out, said = nlatch("workload", "add", "sandbox/Night run (old)", *uses)
    assert (status, out.splitlines()[0]) == (0, "sandbox/Night run (old) is added."), said
    (row,) = told(nlatch("workload", "list", "--json"))
    assert row["name"] == "Night run (old)"
    assert "sandbox/Night run (old)" in nlatch("workload", "list", "env:sandbox")[1]
    file = tmp_path / "key"
    key = ("workload", "key", "sandbox/Night run (old)", "--key-file", str(file))
    assert nlatch(*key)[0] == 0
    assert file.read_text().startswith("nlk_")
    assert nlatch(*key)[0] == 2, "it is there already"
    printed = told(nlatch("workload", "key", "sandbox/Night run (old)", "--json"))
    assert printed["key"].startswith("nlk_")
    assert nlatch("workload", "key", "sandbox/None")[0] == 5
    assert nlatch("workload", "key", "None")[0] == 5
    assert nlatch("workload", "add", "sandbox/Night run (old)")[0] in (2, 3)
    assert nlatch("workload", "remove", "sandbox/Night run (old)")[0] == 0
    assert not Workload.objects.exists()


def test_rounds(setup: Setup, nlatch: Nlatch) -> None:
    setup.latched()
    begun = told(nlatch("round", "begin", "--json"))
    number = str(begun["number"])
    assert nlatch("round", "status", number)[0] == 0
    assert told(nlatch("round", "list", "--json"))[-1]["number"] == begun["number"]
    status, out, _ = nlatch("round", "begin", "--wait")
    assert (status, " ended " in out) == (0, True)
    # It is over, so there is nothing to stop.
    assert Round.objects.get(number=begun["number"]).ended is not None
    assert nlatch("round", "stop", number)[0] == 3
    assert nlatch("round", "status", "999")[0] == 5


def test_replacing_and_decommissioning(setup: Setup, nlatch: Nlatch) -> None:
    setup.latched("manifest.read")
    previews = told(nlatch("replace", "preview", "sandbox/cargo", "--json"))
    ways = [way["way"] for way in previews["ways"]]
    assert len(ways) > 1
    status, _, said = nlatch("replace", "begin", "sandbox/cargo")
    assert (status, "--way" in said) == (2, True)
    status, out, _ = nlatch("replace", "begin", "sandbox/cargo", "--way", "hand")
    assert (status, "Then: nlatch replace continue" in out) == (3, True)
    identity = out.partition(":")[0]
    assert nlatch("replace", "status", identity)[0] == 3
    assert nlatch("replace", "roll-back", identity)[0] == 0
    down = ("decommission", "begin", "connection", "sandbox/cargo")
    status, out, _ = nlatch(*down)
    assert (status, "--confirm" in out) == (3, True)
    identity = out.partition(":")[0]
    assert nlatch(*down, "--confirm", "cargo")[0] == 2
    assert identity in nlatch("decommission", "list", "over:no")[1]
    assert nlatch("decommission", "cancel", identity)[0] == 0
    assert nlatch("decommission", "begin", "application", "cargo")[0] == 5


def test_files_are_imported_and_undone(setup: Setup, nlatch: Nlatch, tmp_path: Path) -> None:
    setup.latched()
    good = "neat_latch_inventory: 3\nconnections:\n  sandbox/cargo: {pace: 4}\n"
    (tmp_path / "a.yaml").write_text(good)
    (tmp_path / "b.yml").write_text(
        "neat_latch_inventory: 3\nenvironments:\n  sandbox: {name: Trial}\n"
    )
    (tmp_path / "c.txt").write_text("not one of them")
    status, out, _ = nlatch("inventory", "import", str(tmp_path))
    assert (status, "2 changes." in out) == (0, True)
    assert Connection.objects.get().pace == 4
    status, out, _ = nlatch("inventory", "list")
    identity = out.split()[0]
    assert nlatch("inventory", "undo", identity, "--preview")[1].endswith("would be made.\n")
    assert nlatch("inventory", "undo", identity)[0] == 0
    assert Connection.objects.get().pace == 10
    (tmp_path / "a.yaml").write_text(good.replace("4", "fast"))
    status, _, said = nlatch("inventory", "preview", str(tmp_path))
    assert (status, f"{tmp_path}/a.yaml:3: connections" in said) == (1, True)
    mistakes = told(nlatch("inventory", "preview", str(tmp_path / "a.yaml"), "--json"))
    assert (mistakes["code"], mistakes["mistakes"][0]["line"]) == ("inventory-mistakes", 3)
    status, _, said = nlatch("inventory", "preview", "-", given=good.replace("4", "fast"))
    assert (status, "standard input:3: " in said) == (1, True)
    assert nlatch("inventory", "preview", str(tmp_path / "none.yaml"))[0] == 2
    assert nlatch("inventory", "export", str(tmp_path / "all.yaml"))[0] == 0
    status, out, said = nlatch("inventory", "import", str(tmp_path / "all.yaml"))
    assert (status, out) == (0, "Nothing to change.\n"), said


def test_the_journal(setup: Setup, nlatch: Nlatch) -> None:
    setup.latched()
    assert nlatch("journal", "check")[0] == 0
    rows = told(nlatch("journal", "list", "--json", "--most", "1", "morag"))
    assert len(rows) == 1
    assert "issued client" in nlatch("journal", "list")[1]


def test_what_a_code_means(nlatch: Nlatch) -> None:
    status, out, _ = nlatch("message", "token-forbids")
    assert (status, "This token does not allow this." in out) == (0, True)
    assert told(nlatch("message", "token-forbids", "--json"))["status"] == 403
    assert "token-forbids" in nlatch("message")[1]
    status, _, said = nlatch("message", "token-forbid")
    assert (status, "Is it token-forbids" in said) == (5, True)


def test_what_others_named_does_not_steer_the_terminal(setup: Setup, nlatch: Nlatch) -> None:
    setup.latched()
    Connection.objects.get().deployment.application.__class__.objects.update(name="A\x1b[2Jb")
    out = nlatch("connection", "list")[1]
    assert "\x1b" not in out
    assert "A\N{REPLACEMENT CHARACTER}[2Jb" in out


def test_a_fault_is_a_sentence(nlatch: Nlatch, monkeypatch: pytest.MonkeyPatch) -> None:
    def broken(*_: object, **__: object) -> None:
        raise RuntimeError("what nobody expected")

    monkeypatch.setattr(Desk, "rows", broken)
    status, out, said = nlatch("connection", "list")
    assert (status, out) == (70, "")
    assert said.count("\n") == 1
    assert "NLATCH_TRACEBACK=1" in said
    monkeypatch.setenv("NLATCH_TRACEBACK", "1")
    assert "Traceback" in nlatch("connection", "list")[2]
