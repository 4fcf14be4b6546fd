"""The ASGI application."""

import os
from typing import Any

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
_django = get_asgi_application()

from neatlatch.desk.drawing import doors  # noqa: E402 (Django must be set up first)


async def application(scope: dict[str, Any], receive: Any, send: Any) -> None:
    """Draws that are ready are answered at once; all else goes to Django."""
    if scope["type"] == "http" and scope["path"].startswith("/draw/") and await doors.usual(scope, send):
        return
    await _django(scope, receive, send)
