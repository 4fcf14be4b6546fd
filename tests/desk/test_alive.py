"""What a load balancer is told."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Any

import pytest

from neatlatch.desk.ground import alive


def asked(with_body: bool = True, times: int = 1) -> tuple[int, bytes]:
    sent: list[dict[str, Any]] = []

    async def one() -> None:
        own: list[dict[str, Any]] = []

        async def send(event: dict[str, Any]) -> None:
            own.append(event)

        await alive.answer(send, with_body=with_body)
        sent.extend(own)

    async def ask() -> None:
        await asyncio.gather(*(one() for _ in range(times)))

    asyncio.run(ask())
    assert len({event.get("status") for event in sent[::2]}) == 1
    return sent[0]["status"], sent[1]["body"]


@pytest.fixture(autouse=True)
def nothing_known(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(alive, "_known", (0.0, False))


@pytest.mark.parametrize("damaged", [None, b"", b"no database at all" * 100])
def test_a_database_that_cannot_be_read(
    tmp_path: Path, settings: Any, damaged: bytes | None
) -> None:
    path = tmp_path / "with space?.sqlite3"
    settings.DATABASES = {"default": {"NAME": path}}
    if damaged is not None:
        path.write_bytes(damaged)
    assert asked() == (503, b"The database does not respond.\n")
    assert list(tmp_path.iterdir()) == ([path] if damaged is not None else [])


def test_it_is_looked_at_once_a_second(
    monkeypatch: pytest.MonkeyPatch, settings: Any, tmp_path: Path
) -> None:
    looks: list[int] = []
    monkeypatch.setattr(alive, "database_reads", lambda: looks.append(1) or True)
    assert asked(times=20) == (200, b"alive\n")
    assert asked(with_body=False) == (200, b"")
    assert len(looks) == 1
