"""The desk with one address more, which answers a constant before anything else is done: the least that an answer of this server costs."""

from __future__ import annotations

from typing import Any

from neatlatch.desk.asgi import application as _desk
from neatlatch.desk.common import at_once

_ANSWER = '{"ref": "cargo-manifests-sandbox", "base": "https://127.0.0.1/", "headers": {"Authorization": "Bearer a-constant"}}'


async def application(scope: dict[str, Any], receive: Any, send: Any) -> None:
    """``/constant`` is answered here, all else by the desk."""
    if scope["type"] == "http" and scope["path"] == "/constant":
        await at_once.answer(send, "application/json", _ANSWER)
        return
    await _desk(scope, receive, send)
