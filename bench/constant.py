"""The desk with two addresses more. One answers a constant before anything else is done: the least
that an answer of this server costs. The other answers the same through all of Django.

``python -m bench.constant --port N`` serves it; ``bench.draws`` does.
"""

from __future__ import annotations

import argparse
from typing import Any

import uvicorn
from django.http import HttpResponse
from django.urls import get_resolver, path

from neatlatch.desk.ground import serving
from neatlatch.desk.ground.common import fast_path
from neatlatch.desk.pages.asgi import application as _desk

_ANSWER = (
    '{"ref": "sandbox/cargo-manifests", "base": "https://127.0.0.1/", "headers": '
    '{"Authorization": "Bearer a-constant"}}'
)


get_resolver().url_patterns.insert(
    0,
    path("constant-by-django", lambda _: HttpResponse(_ANSWER, content_type="application/json")),
)


async def application(scope: dict[str, Any], receive: Any, send: Any) -> None:
    """``/constant`` is answered here, all else by the desk."""
    if scope["type"] == "http" and scope["path"] == "/constant":
        await fast_path.answer(send, "application/json", _ANSWER)
        return
    await _desk(scope, receive, send)


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--port", type=int, required=True)
    serving.APPLICATION = "bench.constant:application"
    config = serving.config("127.0.0.1", parser.parse_args().port)
    config.load()
    uvicorn.Server(config).run()
