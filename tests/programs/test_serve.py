"""``nlatch serve`` on an empty folder: the first administrator, programs that are started again, a
clean end and a second start.
"""

from __future__ import annotations

import os
import signal
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from neatlatch.process_group import port_in_use
from tests.harness import free_ports, wait_until
from tests.served import Served

PORT = free_ports((0, 1, 10, 11, 20, 21))
PASSWORD = "anchor bollard davit 7"


class Visitor:
    """Somebody who has no account yet."""

    def __init__(self) -> None:
        self.client = httpx.Client(base_url=f"http://localhost:{PORT}", timeout=60)

    def post(self, path: str, body: dict[str, Any]) -> httpx.Response:
        """Send something, as the page does."""
        token = self.client.get("/api/session").json()["csrf"]
        return self.client.post(f"/api{path}", json=body, headers={"X-CSRFToken": token})

    def make_first(self, token: str, **other: str) -> httpx.Response:
        """Ask for the first administrator."""
        fields = {"username": "morag", "name": "Morag Orr", "password": PASSWORD, **other}
        return self.post("/session/first-administrators", {"token": token, **fields})


@pytest.fixture
def home(tmp_path: Path) -> Path:
    return tmp_path / "home"


@pytest.fixture
def serve(home: Path) -> Iterator[Callable[..., Served]]:
    begun: list[Served] = []

    def start(*more: str) -> Served:
        begun.append(Served(home, PORT, *more))
        return begun[-1]

    yield start
    for served in begun:
        if served.program.poll() is None:
            served.program.kill()
            served.program.wait()


def test_from_an_empty_folder_to_a_clean_end(home: Path, serve: Callable[..., Served]) -> None:
    served = serve()
    token = served.says(rf"http://localhost:{PORT}/set-up#([\w-]+)")[1]
    served.says("Ctrl-C stops everything")
    assert oct(home.stat().st_mode & 0o777) == "0o700"
    assert token not in (home / "first-administrator.json").read_text()

    visitor = Visitor()
    assert visitor.client.get("/api/session").json()["set_up_first"] is True
    assert visitor.client.get("/set-up").status_code == 200
    assert visitor.make_first("wrong" + token).status_code == 403
    weak = visitor.make_first(token, password="short")
    assert (weak.status_code, list(weak.json()["errors"])) == (422, ["password"])
    made = visitor.make_first(token)
    assert (made.status_code, made.json()["role"]) == (200, "administrator"), made.text
    assert visitor.client.get("/api/today").status_code == 200
    again = Visitor()
    assert again.client.get("/api/session").json()["set_up_first"] is False
    assert again.make_first(token, username="ewan").status_code == 409

    # A balancer calls by an address that the desk does not go by.
    alive = visitor.client.get("/alive", headers={"Host": "10.0.0.7"})
    assert (alive.status_code, alive.text) == (200, "alive\n")
    assert visitor.client.head("/alive").status_code == 200
    assert visitor.client.post("/alive").status_code in (403, 404, 405)

    # What ends is started again, and the desk knows who was logged in.
    first = served.children()
    assert {"desk", "neatlatch.worker", "tls-listener"} <= set(first), first
    for name in ("desk", "neatlatch.worker"):
        os.kill(first[name], signal.SIGKILL)
    served.says(r"desk ended \(signal 9\)")
    wait_until(lambda: {"desk", "neatlatch.worker"} <= set(served.children()), 30)

    def answers() -> bool:
        try:
            return visitor.client.get("/api/today").status_code == 200
        except httpx.TransportError:
            return False

    wait_until(answers, 60)
    assert served.children()["desk"] != first["desk"]

    # One at a time on a folder, whatever its port.
    other = serve("--port", str(PORT + 10))
    assert other.program.wait(60) == 1
    assert "runs already on the folder" in other.printed.read_text()

    running = served.children()
    assert served.stop() == 0
    assert not [pid for pid in running.values() if Path(f"/proc/{pid}").exists()]

    stamps = [(home / name).stat().st_mtime_ns for name in (".tables", ".static")]
    second = serve()
    second.says("Ctrl-C stops everything")
    assert "set-up" not in second.printed.read_text()
    assert [(home / name).stat().st_mtime_ns for name in (".tables", ".static")] == stamps

    # Killed itself, it leaves nothing behind.
    second.program.kill()
    second.program.wait()
    wait_until(lambda: port_in_use((PORT, PORT + 1)) is None, 60, "the end of its programs")


@pytest.mark.parametrize(
    ("given", "says"),
    [
        (("--host", "0.0.0.0"), "Say with --url which https address"),
        (("--url", "http://desk.gannet.example"), "must be https"),
        (("--port", "70000"), "is not a port"),
        (("--host", "192.0.2.1"), "Nothing can listen on 192.0.2.1"),
        (("--home", "/proc/nowhere"), "cannot be made"),
    ],
)
def test_what_cannot_be_served_is_said(
    serve: Callable[..., Served], given: tuple[str, ...], says: str
) -> None:
    served = serve("--port", str(PORT + 20), *given)  # a second --port counts
    assert served.program.wait(60) == 1
    assert says in served.printed.read_text()
    assert "Traceback" not in served.printed.read_text()
