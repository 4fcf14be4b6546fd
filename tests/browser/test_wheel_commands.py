"""From nothing to a connection that works, is replaced and is taken down, by commands alone: with
the package, from a folder of its own, in a home that was empty.
"""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from neatlatch.demo.visitor import Visitor
from tests.harness import StandIns
from tests.packaged import start
from tests.served import OF_THE_MACHINE, Served
from tests.settings import HOME_OF_TESTS

TRUST = HOME_OF_TESTS / "standins" / "certificates" / "root.pem"
APPLICATION = """
neat_latch_inventory: 3
applications:
  berth-booking:
    name: Berth booking
    profile:
      schemes: [{{key: oauth2_client}}]
      scopes: [{{name: berths.read, meaning: See bookings, kind: read}}]
      operations:
        - {{method: GET, path: /bookings, alternatives: [[berths.read]]}}
      harmless: GET /bookings
      limits: {{live_secrets: 2, spread: 10}}
deployments:
  berth-booking/sandbox:
    application: berth-booking
    environment: sandbox
    addresses:
      issuer: {issuer}
      token_endpoint: {issuer}/token
      api_base: {issuer}/api
"""
CONNECTION = """
neat_latch_inventory: 3
clients:
  berth-booking/sandbox/Night tally:
    deployment: berth-booking/sandbox
    name: Night tally
    client_id: {client_id}
    scheme: oauth2_client
    grants: [client_credentials]
    scopes: [berths.read]
    sign_in_method: client_secret_post
connections:
  sandbox/berths:
    deployment: berth-booking/sandbox
    client: berth-booking/sandbox/Night tally
    scheme: oauth2_client
    scopes: [berths.read]
    values:
      issuer: {issuer}
      token_endpoint: {issuer}/token
      api_base: {issuer}/api
      client_id: {client_id}
      client_sign_in: client_secret_post
"""
# Written from docs/library.md.
PROGRAM = """
import httpx
from neatlatch.client import Latch

with Latch() as latch:
    drawn = latch.draw("berths")
    with httpx.Client(auth=latch.httpx_auth("berths"), base_url=drawn.base, verify=TRUST) as web:
        print(web.get("bookings").json())
    print(latch.relay("berths", "/bookings").json())
"""


@pytest.fixture
def served(installed: Path, stand_ins: StandIns, tmp_path: Path) -> Iterator[Served]:
    begun = start(installed, tmp_path / "home", tmp_path)
    yield begun
    if begun.program.poll() is None:
        begun.stop()


Run = Callable[..., tuple[int, str]]


@pytest.fixture
def nlatch(installed: Path, tmp_path: Path) -> Run:
    """Runs a command in a folder that has nothing to do with the desk's."""
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()

    def run(*words: str, given: str = "", **more: str) -> tuple[int, str]:
        kept = {name: OF_THE_MACHINE[name] for name in ("LANG", "TZ") if name in OF_THE_MACHINE}
        done = subprocess.run(
            [str(installed / "nlatch"), *words],
            cwd=elsewhere,
            env={**kept, "PATH": str(installed), "HOME": str(elsewhere), **more},
            input=given,
            capture_output=True,
            text=True,
            timeout=120,
        )
        assert "Traceback" not in done.stderr
        return done.returncode, done.stdout + done.stderr

    return run


def test_from_nothing_by_commands_alone(
    installed: Path, served: Served, nlatch: Run, stand_ins: StandIns, tmp_path: Path
) -> None:
    url = served.says(r"http://localhost:\d+/set-up#[\w-]+", 300)[0].partition("/set-up")[0]
    here = {"NEATLATCH_HOME": str(tmp_path / "home")}
    folder = tmp_path / "elsewhere"

    def good(*words: str, given: str = "", ends: int = 0, **more: str) -> str:
        status, said = nlatch(*words, given=given, **more)
        assert status == ends, (words, status, said)
        return said

    # On the desk's machine, once: the first administrator, and a token for the pipeline.
    good("person", "add", "morag", "--role", "administrator", given="anchor bollard 7", **here)
    rights = ("--right", "change", "--right", "test", "--right", "put-secrets")
    made = ("program", "add", "Pipeline", "--environment", "sandbox", *rights)
    good(*made, "--token-file", str(folder / "token"), **here)
    ask = ("--url", url, "--token-file", "token")

    # Declare, and import.
    issuer = stand_ins.secured("berths")
    visitor = Visitor(stand_ins.office("berths").removesuffix("/office"))
    visitor.enter_office()
    scopes, grants = ["berths.read"], ["client_credentials"]
    client_id, secret = visitor.add_client("Night tally", [], scopes, grants, "client_secret_post")
    declared = folder / "declared"
    declared.mkdir()
    (declared / "berths.yaml").write_text(APPLICATION.format(issuer=issuer))
    (declared / "tally.yaml").write_text(CONNECTION.format(issuer=issuer, client_id=client_id))
    assert "4 changes would be made" in good(*ask, "inventory", "preview", "declared")
    preview = json.loads(good("inventory", "preview", *ask, "--json", "declared"))
    assert (preview["preview"]["adds"], preview["plan"]) == (4, None)
    assert "4 changes." in good(*ask, "inventory", "import", "declared")
    assert "client_secret” is not put in" in good(
        *ask, "connection", "status", "sandbox/berths", ends=1
    )

    # Put the secret in, and test.
    good(*ask, "secret", "put", "sandbox/berths", "client_secret", given=f"{secret}\n")
    assert good(*ask, "connection", "test", "sandbox/berths").count("ok ") == 6
    good(*ask, "connection", "status", "sandbox/berths", "--until", "latched")
    # A pipeline imports again and again: what was put in since stays.
    assert "Nothing to change" in good(*ask, "inventory", "import", "declared")

    # A workload with a key of its own draws, and calls.
    uses = ("--uses", "sandbox/berths=GET /bookings")
    good(*ask, "workload", "add", "sandbox/Night tally", *uses)
    key = ("workload", "key", "sandbox/Night tally", "--right", "draw", "--key-file", "key")
    good(*ask, *key)
    assert (folder / "key").stat().st_mode & 0o077 == 0
    job = {"NLATCH_URL": url, "NLATCH_KEY_FILE": "key"}
    assert good("draw", "berths", **job).startswith("Authorization: Bearer ")
    assert good("relay", "berths", "/bookings", **job) == '{"bookings":[]}'
    program = folder / "job.py"
    program.write_text(PROGRAM.replace("TRUST", repr(str(TRUST))))
    told = _python(installed, program, folder, job)
    assert told.splitlines() == ["{'bookings': []}"] * 2

    # Replace: the new one beside the old, proven before anything uses it.
    begun = json.loads(good(*ask, "--json", "replace", "begin", "sandbox/berths", ends=3))
    second = visitor.add_secret(client_id)
    going = json.loads(
        good(*ask, "--json", "replace", "continue", begun["id"], given=second, ends=3)
    )
    assert _states(going) == ["done", "done", "done", "now", "waits", "waits"], going
    anyway = ("replace", "continue", begun["id"], "--retire", "--anyway")
    going = json.loads(good(*ask, "--json", *anyway, ends=3))
    assert _states(going)[:5] == ["done"] * 5, going
    good(*ask, "connection", "test", "sandbox/berths")
    assert good("relay", "berths", "/bookings", **job) == '{"bookings":[]}'

    # Take it down.
    why = ("--confirm", "sandbox/berths", "--reason", "the trial is over", "--done")
    down = ("decommission", "begin", "connection", "sandbox/berths")
    assert "Night tally" in good(*ask, *down, ends=3)
    status, said = nlatch(*ask, *down, *why)
    assert status == 0, said
    good(*ask, "connection", "status", "sandbox/berths", ends=5)
    good("draw", "berths", ends=5, **job)
    good(*ask, "workload", "remove", "sandbox/Night tally")
    good("draw", "berths", ends=4, **job)
    assert "program/Pipeline" in good(*ask, "journal", "list")


def _states(replacement: Any) -> list[str]:
    return [step["state"] for step in replacement["steps"]]


def _python(installed: Path, program: Path, folder: Path, environment: dict[str, str]) -> str:
    done = subprocess.run(
        [str(installed / "python"), str(program)],
        cwd=folder,
        env={"PATH": str(installed), **environment},
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert done.returncode == 0, done.stderr
    return done.stdout
