"""The ASGI application."""

import os
import re
from typing import Any

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
_django = get_asgi_application()

# Django must be set up before these.
from neatlatch.desk.common import at_once, starting  # noqa: E402
from neatlatch.desk.drawing import doors  # noqa: E402
from neatlatch.desk.house import endpoints  # noqa: E402

# A desk that cannot open what it keeps does more harm than one that does not start.
starting.check_or_stop()
_INTROSPECTION = re.compile(r"/house/[\w-]+/introspect")


async def application(scope: dict[str, Any], receive: Any, send: Any) -> None:
    """Draws and introspections that are in order are answered at once; all else goes to Django."""
    if scope["type"] == "http":
        if scope["path"].startswith("/draw/"):
            await doors.usual(scope, send, lambda: _django(scope, receive, send))
            return
        if scope["method"] == "POST" and _INTROSPECTION.fullmatch(scope["path"]):
            body, receive = await at_once.read(receive)
            if body is not None and await endpoints.usual(scope, body, send):
                return
    await _django(scope, receive, send)
