"""``bin/demo`` itself: starts everything, prints address and logins, keeps its data, stops
everything at Ctrl-C.
"""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
import yaml

from tests.harness import NOBODY, OFFSETS, ROOT, free_ports


@pytest.fixture
def port() -> Iterator[int]:
    # The desk's port and, 100 above it, those of the stand-ins.
    base = free_ports((0, 1, *(100 + offset for offset in OFFSETS)))
    yield base
    shutil.rmtree(ROOT / "var" / "demo" / str(base), ignore_errors=True)


def start(*words: str) -> subprocess.Popen[str]:
    environment = {
        key: value
        for key, value in os.environ.items()
        if not key.startswith(("NEATLATCH", "DJANGO"))
    }
    return subprocess.Popen(
        [sys.executable, "-m", "neatlatch.demo", *words],
        cwd=ROOT,
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        start_new_session=True,
    )


def read_until_ready(demo: subprocess.Popen[str]) -> str:
    assert demo.stdout is not None
    said = ""
    for line in demo.stdout:
        said += line
        if "Ctrl-C" in line:
            return said
    raise AssertionError(said + (demo.stderr.read() if demo.stderr else ""))


def children(pid: int) -> list[int]:
    """Processes whose parent this one is."""
    found = []
    for path in Path("/proc").iterdir():
        if path.name.isdigit():
            try:
                parent = int((path / "stat").read_text().rpartition(")")[2].split()[1])
            except (OSError, IndexError):
                continue
            if parent == pid:
                found.append(int(path.name))
    return found


def stop(demo: subprocess.Popen[str]) -> None:
    started = children(demo.pid)
    assert len(started) == 4  # stand-ins, desk, worker, the TLS listener
    demo.send_signal(signal.SIGINT)
    demo.wait(60)
    for pid in started:
        assert not Path(f"/proc/{pid}").exists(), "something still runs"


def test_start_stop_start_again_and_a_taken_port(port: int) -> None:
    left = (
        ROOT / "var" / "demo" / str(port) / "logins.json"
    )  # of a demo that somebody wants no more
    left.parent.mkdir(parents=True)
    left.write_text("{}")
    demo = start("--port", str(port), "--fresh")
    said = read_until_ready(demo)
    address = f"http://localhost:{port}"
    assert address in said
    logins = {
        line.split()[1]: line.split()[2] for line in said.splitlines() if line.startswith("   ")
    }
    assert set(logins) == {"morag", "ewan", "isla", "hamish", "rowan"}

    web = httpx.Client(base_url=address, timeout=90, verify=NOBODY)
    web.headers["X-CSRFToken"] = web.get("/api/session").json()["csrf"]
    assert (
        web.post(
            "/api/session", json={"username": "morag", "password": logins["morag"]}
        ).status_code
        == 200
    )
    states = {item["ref"]: item["state"] for item in web.get("/api/connections").json()["items"]}
    assert (
        states["production/cargo-manifests"],
        states["sandbox/cargo-manifests"],
        states["staging/cargo-manifests"],
    ) == (
        "unlatched",
        "latched",
        "not_proven",
    )
    assert len(states) >= 30
    # Every connection that nobody slipped works, and those that were do not.
    story = yaml.safe_load((ROOT / "neatlatch" / "demo" / "scenario.yaml").read_text())
    for told in (
        one
        for application in story["applications"]
        for one in application["connections"]
        if not one.get("by_hand")
    ):
        works_all_the_same = set(told.get("slip", {})) <= {"vendor_shared", "ends_in_hours"}
        ref = f"{told['environment']}/{told['name']}"
        assert (states[ref] == "latched") is works_all_the_same, ref

    second = start("--port", str(port))
    out, err = second.communicate(timeout=90)
    assert f"Port {port} is taken" in err
    assert "--port" in err
    stop(demo)

    with socket.create_server(("127.0.0.1", port + 100)):
        out, err = start("--port", str(port)).communicate(timeout=90)
        assert f"Port {port + 100} is taken" in err

    demo = start("--port", str(port))
    again = read_until_ready(demo)
    assert logins["morag"] in again  # the data was kept
    stop(demo)
