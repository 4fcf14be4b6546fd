"""What ``deploy`` holds fits this version: systemd reads the units, and their commands exist."""

from __future__ import annotations

import re
import shlex
import shutil
import subprocess
from pathlib import Path

import pytest

from neatlatch import cli
from neatlatch.desk.pages.urls import urlpatterns
from tests.harness import ROOT

DEPLOY = ROOT / "deploy"
UNITS = sorted(path.name for path in DEPLOY.glob("neatlatch*"))


def commands() -> list[list[str]]:
    """Every command of ours that a unit or the container starts."""
    found = []
    for name in UNITS:
        for line in re.findall(r"^ExecStart=(.*)$", (DEPLOY / name).read_text(), re.MULTILINE):
            found.append(shlex.split(line)[1:])
    entry = re.search(r"^ENTRYPOINT \[(.*)\]$", (DEPLOY / "Containerfile").read_text(), re.M)
    assert entry is not None
    found.append(re.findall(r'"([^"]+)"', entry[1])[1:])
    return found


@pytest.mark.parametrize("words", commands(), ids=" ".join)
def test_the_commands_exist(words: list[str]) -> None:
    given = cli.parser().parse_args(words)
    assert callable(given.run)


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="there is no systemd here")
def test_systemd_reads_the_units(tmp_path: Path) -> None:
    program = tmp_path / "nlatch"
    program.write_text("#!/bin/sh\n")
    program.chmod(0o755)
    for name in UNITS:
        text = (DEPLOY / name).read_text().replace("/opt/neatlatch/bin/nlatch", str(program))
        (tmp_path / name).write_text(text)
    done = subprocess.run(
        ["systemd-analyze", "verify", *(str(tmp_path / name) for name in UNITS)],
        capture_output=True,
        text=True,
        timeout=60,
    )
    ours = [line for line in done.stderr.splitlines() if "neatlatch" in line]
    assert (done.returncode, ours) == (0, []), done.stderr


def test_the_proxy_passes_on_what_is_watched_live() -> None:
    text = (DEPLOY / "nginx.conf").read_text()
    (live,) = re.findall(r"location ~ (\S+) \{", text)
    watched = [
        str(urlpattern.pattern)
        for urlpattern in urlpatterns
        if str(urlpattern.pattern).endswith("/events")
    ]
    assert len(watched) == 2
    for pattern in watched:
        address = "/" + re.sub(r"<[^>]+>", "7", pattern)
        assert re.search(live, address), address
