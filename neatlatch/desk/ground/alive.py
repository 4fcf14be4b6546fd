"""Whether this process can serve, for load balancers, which ask every few seconds.

It is answered without Django: a balancer calls by an address that the desk does not go by, and must
not wait behind the work of people.
"""

from __future__ import annotations

import asyncio
import sqlite3
import time
from contextlib import closing
from pathlib import Path
from typing import Any

from django.conf import settings

from .common.asgi import Event

# Seconds: how long the database may take, and for how long an answer holds.
_WITHIN, _HOLDS = 1.0, 1.0
# Until when the last look holds, and what it found; and a look that is under way.
_known: tuple[float, bool] = (0.0, False)
_looking: asyncio.Future[bool] | None = None


async def answer(send: Any, *, with_body: bool) -> None:
    """Send 200 where the database can be read, else 503; ``with_body``: it was no HEAD."""
    alive = await _is_alive()
    body = b"alive\n" if alive else b"The database does not respond.\n"
    start: Event = {
        "type": "http.response.start",
        "status": 200 if alive else 503,
        "headers": [
            (b"content-type", b"text/plain; charset=utf-8"),
            (b"content-length", str(len(body)).encode()),
            (b"cache-control", b"no-store"),
        ],
    }
    await send(start)
    await send({"type": "http.response.body", "body": body if with_body else b""})


async def _is_alive() -> bool:
    """What the last look found; those who ask during a look wait for the same one."""
    global _known, _looking
    if time.monotonic() < _known[0]:
        return _known[1]
    if _looking is not None:
        return await asyncio.shield(_looking)
    _looking = asyncio.ensure_future(asyncio.to_thread(database_reads))
    try:
        _known = (time.monotonic() + _HOLDS, await _looking)
    finally:
        _looking = None
    return _known[1]


def database_reads() -> bool:
    """Whether the database can be read."""
    path = Path(str(settings.DATABASES["default"]["NAME"]))
    try:
        with closing(sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True, timeout=_WITHIN)) as own:
            own.execute("SELECT 1 FROM django_migrations LIMIT 1").fetchone()
    except sqlite3.Error:
        return False
    return True
