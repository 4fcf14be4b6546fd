"""The ASGI application."""

import hashlib
import os
import re
from typing import Any

from django.conf import settings
from django.core.asgi import get_asgi_application
from django.urls import resolve

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
_django = get_asgi_application()

# Django must be set up before these.
from neatlatch.desk.ground import alive, starting  # noqa: E402
from neatlatch.desk.ground.common import body_limits, caller, fast_path, proxies  # noqa: E402
from neatlatch.desk.ground.common.asgi import Event, Scope  # noqa: E402

from .drawing import draw_endpoints  # noqa: E402
from .house import endpoints  # noqa: E402

# A desk that cannot open what it keeps does more harm than one that does not start.
starting.check_or_stop()
# Django loads the pages at the first request. ``/alive`` is answered without it, and a process that
# says that it can serve would let anyone who comes first wait for seconds.
resolve("/")
_INTROSPECTION = re.compile(r"/house/[\w-]+/introspect")


async def application(scope: Scope, receive: Any, send: Any) -> None:
    """Each request within its limits: what is too large is refused before it is kept, and work for
    anyone who hangs up is told so.
    """
    if scope["type"] != "http":
        await _django(scope, receive, send)
        return
    # A copy: servers put the trailers of a chunked body into the list that they gave, and a trailer
    # is no header (RFC 9110 §6.5.1).
    scope = proxies.seen_through({**scope, "headers": list(scope["headers"])})
    most, began = body_limits.of(scope["path"]), False

    async def sending(event: Event) -> None:
        nonlocal began
        began = began or event["type"] == "http.response.start"
        await send(event)

    if body_limits.declared(scope["headers"]) > most:
        await body_limits.refuse(send, most)
        return
    asker = caller.begin(_key_of(scope))
    try:
        await _answer(scope, _watched(body_limits.counted(receive, most), asker), sending)
    except body_limits.TooLarge:
        if not began:
            await body_limits.refuse(send, most)
    except body_limits.TooSlow:
        if not began:
            await body_limits.give_up(send)


def _key_of(scope: Scope) -> str:
    """What a caller is counted by: a digest of the session, else the address."""
    ours = settings.SESSION_COOKIE_NAME.encode()
    for name, value in scope["headers"]:
        for part in value.split(b";") if name == b"cookie" else ():
            key, _, session = part.strip().partition(b"=")
            if key == ours:
                return hashlib.sha256(session).hexdigest()[:32]
    return fast_path.address_of(scope)


def _watched(receive: Any, asker: caller.Caller) -> Any:
    """A ``receive`` that notes that the caller has gone (ASGI HTTP §2.8)."""

    async def watch() -> Event:
        event: Event = await receive()
        if event["type"] == "http.disconnect":
            asker.hung_up.set()
        return event

    return watch


async def _answer(scope: Scope, receive: Any, send: Any) -> None:
    """Draws, introspections and requests to be relayed that are in order are answered at once; all
    else goes to Django.
    """
    if scope["path"] == "/alive" and scope["method"] in ("GET", "HEAD"):
        await alive.answer(send, with_body=scope["method"] == "GET")
        return
    if scope["path"].startswith("/draw/"):
        await draw_endpoints.usual(scope, send, lambda: _django(scope, receive, send))
        return
    if scope["path"].startswith("/relay/"):
        await draw_endpoints.usual_relay(
            scope, receive, send, lambda again: _django(scope, again, send)
        )
        return
    if scope["method"] == "POST" and _INTROSPECTION.fullmatch(scope["path"]):
        body, receive = await fast_path.read(receive)
        if body is not None and await endpoints.usual(scope, body, send):
            return
    await _django(scope, receive, send)
