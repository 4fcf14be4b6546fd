"""How the worker starts beside a desk that is still loading."""

from __future__ import annotations

import socket
import threading
from collections.abc import Sequence

import pytest

from neatlatch import starting, worker
from neatlatch.desk.ground import starting as checks
from neatlatch.process_group import ProcessGroup


def test_its_work_begins_once_the_desk_accepts_connections(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    listening = threading.Event()
    begun: list[tuple[bool, Sequence[str]]] = []
    monkeypatch.setattr(checks, "check_or_stop", lambda: None)
    monkeypatch.setattr(
        "django.core.management.execute_from_command_line",
        lambda arguments: begun.append((listening.is_set(), arguments)),
    )
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]

    def listen() -> None:
        with socket.create_server(("127.0.0.1", port)) as desk:
            listening.set()
            desk.accept()

    late = threading.Timer(0.3, listen)
    late.start()
    worker.main(["--after", f"127.0.0.1:{port}", "--workers", "6"])
    late.join(10)
    assert begun == [(True, ["neatlatch.worker", "run_huey", "--workers", "6", "--skip-checks"])]


def test_the_group_tells_it_where_the_desk_is(monkeypatch: pytest.MonkeyPatch) -> None:
    started: dict[str, tuple[str, ...]] = {}
    monkeypatch.setattr(
        ProcessGroup, "start", lambda _, name, *command: started.update({name: command})
    )
    monkeypatch.setattr(ProcessGroup, "wait_for", lambda *_: None)
    monkeypatch.setattr(ProcessGroup, "wait_for_port", lambda *_: None)
    starting.start(ProcessGroup.__new__(ProcessGroup), "0.0.0.0", 8620)
    after = started["worker"].index("--after")
    assert started["worker"][after + 1] == "127.0.0.1:8620"
