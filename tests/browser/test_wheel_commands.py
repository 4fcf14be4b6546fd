"""The examples of docs/commands.md and docs/library.md, run as they stand there: from nothing to a
connection that works, is called by a job, is replaced and is taken down; with the package, from a
folder of its own, in a home that was empty.
"""

from __future__ import annotations

import base64
import os
import re
import subprocess
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import httpx
import pytest
from standardwebhooks.webhooks import Webhook

from neatlatch.demo.visitor import Visitor
from tests.harness import ROOT, StandIns, free_ports, wait_until
from tests.packaged import start
from tests.served import Served
from tests.settings import HOME_OF_TESTS

TRUST = HOME_OF_TESTS / "standins" / "certificates" / "root.pem"
_BLOCK = re.compile(r"^```(\w+)\n(.*?)^```$", re.M | re.S)


def blocks(page: str, language: str) -> list[str]:
    """The examples of a page in one language."""
    text = (ROOT / "docs" / page).read_text(encoding="utf-8")
    return [block for of, block in _BLOCK.findall(text) if of == language]


@pytest.fixture
def served(installed: Path, stand_ins: StandIns, tmp_path: Path) -> Iterator[Served]:
    begun = start(installed, tmp_path / "home", tmp_path)
    yield begun
    if begun.program.poll() is None:
        begun.stop()


class Elsewhere:
    """A folder that has nothing to do with the desk's, and a shell in it."""

    def __init__(self, installed: Path, folder: Path, **environment: str) -> None:
        self.folder = folder
        folder.mkdir()
        self.environment = {
            "PATH": f"{installed}:/usr/bin:/bin",
            "HOME": str(folder),
            "LANG": "C.UTF-8",
            **environment,
        }

    def run(self, *command: str, given: str = "") -> str:
        """What a command prints; it must end well."""
        done = subprocess.run(
            command,
            cwd=self.folder,
            env=self.environment,
            input=given,
            capture_output=True,
            text=True,
            timeout=300,
        )
        assert "Traceback" not in done.stderr
        assert done.returncode == 0, f"{command}\n{done.stdout}\n{done.stderr}"
        return done.stdout

    def shell(self, script: str, given: str = "") -> str:
        """What a script prints. It stops at the first command that does not end well."""
        return self.run("bash", "-euc", script, given=given)


def _listens(port: int) -> bool:
    """Whether somebody listens on a port; without connecting, for it serves one request only."""
    lines = Path("/proc/net/tcp").read_text().splitlines()[1:]
    return any(
        line.split()[1].endswith(f":{port:04X}") and line.split()[3] == "0A" for line in lines
    )


def call_is_checked(there: Elsewhere, script: str, installed: Path, program: str) -> None:
    """The examples of signed calls: by a command, and by a program that receives them."""
    secret = "whsec_" + base64.b64encode(os.urandom(32)).decode()
    body = b'{"type": "bookings.changed"}'

    def headers(id: str) -> dict[str, str]:
        at = datetime.now(UTC)
        return {
            "webhook-id": id,
            "webhook-timestamp": str(int(at.timestamp())),
            "webhook-signature": Webhook(secret).sign(id, at, body.decode()),
        }

    (there.folder / "signing-secret").write_text(secret)
    (there.folder / "call.body").write_bytes(body)
    lines = "".join(f"{name}: {value}\r\n" for name, value in headers("call_1").items())
    (there.folder / "call.headers").write_text(lines)
    assert there.shell(script).endswith("Signed by the application.\n")
    assert "as one at " in there.shell(script)
    (there.folder / "call.body").write_bytes(body + b" ")
    assert "Rejected (wrong)." in there.shell(f"! {script.splitlines()[1]}")

    port = free_ports()
    for sent, status, says in [
        (body, 204, 'call_2 {"type": "bookings.changed"}\n'),
        (body + b" ", 401, "rejected: wrong\n"),
    ]:
        running = subprocess.Popen(
            [str(installed / "python"), "-c", program.replace("8080", str(port))],
            cwd=there.folder,
            env=there.environment,
            stdout=subprocess.PIPE,
            text=True,
        )
        wait_until(lambda: _listens(port), what="the receiver")
        answer = httpx.post(f"http://127.0.0.1:{port}/", content=sent, headers=headers("call_2"))
        assert answer.status_code == status
        assert running.communicate(timeout=60)[0] == says


def test_every_example_does_what_its_page_says(
    installed: Path, served: Served, stand_ins: StandIns, tmp_path: Path
) -> None:
    url = served.says(r"http://localhost:\d+/set-up#[\w-]+", 300)[0].partition("/set-up")[0]
    issuer = stand_ins.secured("berths")
    visitor = Visitor(stand_ins.office("berths"))
    visitor.enter_office()
    scopes, grants = ["berths.read"], ["client_credentials"]
    client_id, secret = visitor.add_client("Night tally", [], scopes, grants, "client_secret_post")
    here = Elsewhere(installed, tmp_path / "here")
    once, look, work, sign, replace, down, pipeline, completion = blocks("commands.md", "bash")

    home = str(tmp_path / "home")
    here.shell(once.replace("/var/lib/neatlatch", home), "anchor bollard davit 7\n")
    token = here.folder / "token"
    assert token.stat().st_mode & 0o077 == 0
    there = Elsewhere(
        installed,
        tmp_path / "there",
        NLATCH_URL=url,
        NLATCH_TOKEN_FILE=str(token),
        # The job trusts the applications; httpx reads this.
        SSL_CERT_FILE=str(TRUST),
    )
    files = blocks("commands.md", "yaml")
    assert len(files) == 2
    for text in files:
        file = there.folder / text.partition("\n")[0].removeprefix("# ")
        file.parent.mkdir(exist_ok=True)
        text = text.replace("https://berths.example/sandbox", issuer)
        file.write_text(text.replace("gs-berth-4c02b7", client_id))
    (there.folder / "secret").write_text(f"{secret}\n")

    said = there.shell(look)
    assert "4 changes would be made." in said
    assert "4 changes." in said
    assert said.count("ok ") == 6
    assert "sandbox/berths: latched" in said
    # A pipeline imports again and again: what was put in since stays.
    assert "Nothing to change." in there.shell(pipeline)
    assert '"adds": 0' in (there.folder / "preview.json").read_text()

    said = there.shell(work)
    assert "Authorization: Bearer " in said
    assert said.endswith('{"bookings":[]}')
    there.environment["NLATCH_KEY_FILE"] = "key"
    *programs, receiver, errors = blocks("library.md", "python")
    programs.append(errors)
    assert len(programs) == 6
    told = [there.run(str(installed / "python"), "-c", program) for program in programs]
    assert told[0] == "200 {'bookings': []}\n"
    assert told[1] == "{'bookings': []}\n"
    assert told[2].startswith(f"{issuer}/api/bookings ['Authorization']")
    assert told[3] == "[200, 200, 200]\n"
    assert told[4].splitlines()[1].startswith("True ['find', 'reach'")
    assert told[5] == "not ours: connection-not-used\n"

    call_is_checked(there, sign, installed, receiver)

    (there.folder / "new-secret").write_text(visitor.add_secret(client_id))
    del there.environment["NLATCH_KEY_FILE"]
    said = there.shell(replace)
    assert "open “Night tally”" in said
    assert said.count("ok ") == 6
    again = there.shell("nlatch relay berths /bookings --key-file key")
    assert again == '{"bookings":[]}'

    there.shell(down)
    gone = there.shell("nlatch connection status sandbox/berths || test $? -eq 5")
    assert gone == ""
    assert there.shell("nlatch draw berths --key-file key || test $? -eq 4") == ""
    assert "program/Pipeline" in there.shell("nlatch journal list")

    # Completion, in bash itself.
    tried = (
        completion
        + """
    complete_at() { COMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); _nlatch; echo "${COMPREPLY[*]}"; }
    complete_at nlatch conn
    complete_at nlatch connection ""
    complete_at nlatch --url http://localhost:1 connection st
    complete_at nlatch connection status --until un
    complete_at nlatch workload key --ri
    complete_at nlatch workload key --right ""
    """
    )
    lines = there.shell(tried).splitlines()
    assert lines[0] == "connection"
    assert {"list", "status", "test"} <= set(lines[1].split())
    assert lines[2:] == ["status", "unlatched", "--right", "relay draw"]
