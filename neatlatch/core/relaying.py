"""Sending a caller's request on: which headers travel, where it goes, and when it may be repeated."""

from __future__ import annotations

import re
from collections.abc import Iterable
from urllib.parse import unquote

from .retries import IDEMPOTENT

_WHOLE = re.compile(r"[A-Za-z][\w+.-]*://|//")
Headers = tuple[tuple[str, str], ...]
# RFC 9110 §7.6.1 and §11.7: between two neighbours only. The rest is the caller's way in to us, or what we set ourselves.
_HOP = frozenset(
    {
        "connection",
        "keep-alive",
        "proxy-authenticate",
        "proxy-authorization",
        "proxy-connection",
        "te",
        "trailer",
        "transfer-encoding",
        "upgrade",
    }
)
_OURS = frozenset(
    {"host", "content-length", "authorization", "cookie", "forwarded", "via", "origin", "referer", "accept-encoding", "expect"}
)
_NOT_BACK = frozenset(
    {
        "set-cookie",
        "content-length",
        "content-encoding",
        "strict-transport-security",
        "www-authenticate",
        "clear-site-data",
        "server",
        "date",
    }
)


class BadPath(ValueError):
    """The path leads out of the connection's API; the message says how."""


def _named(headers: Iterable[tuple[str, str]]) -> frozenset[str]:
    """The fields that Connection names: they too are for one hop (RFC 9110 §7.6.1)."""
    return frozenset(one.strip().lower() for name, value in headers if name.lower() == "connection" for one in value.split(","))


def onward(headers: Headers) -> Headers:
    """The caller's headers that travel on. What says who the caller is stays here, and so does all that starts with ``x-forwarded``."""
    left = _HOP | _OURS | _named(headers)
    return tuple((name, value) for name, value in headers if name.lower() not in left and not name.lower().startswith("x-forwarded"))


def back(headers: Headers) -> Headers:
    """The answer's headers that travel back. Cookies and challenges are between us and the application."""
    left = _HOP | _NOT_BACK | _named(headers)
    return tuple((name, value) for name, value in headers if name.lower() not in left)


def target(base: str, path: str, query: str = "") -> str:
    """The address below a connection's API base; ``path`` is as it was sent, its escapes kept; an empty one is the base itself. Raises :class:`BadPath` for one that would leave it, in plain or escaped writing (RFC 3986 §5.2.4)."""
    plain = path
    for _ in range(3):  # escaped once, or twice by a program on the way
        if any(part in ("..", ".") for part in plain.replace("\\", "/").split("/")):
            raise BadPath("A path that goes up (..) leads out of the connection's API.")
        if plain == unquote(plain):
            break
        plain = unquote(plain)
    if _WHOLE.match(plain) or any(ord(one) < 33 or ord(one) == 127 for one in path):
        raise BadPath("Give the path alone, below the connection's API base address.")
    below = f"{base.rstrip('/')}/{path.lstrip('/')}" if path else base
    return below + (f"?{query}" if query else "")


def may_repeat_after_renewal(method: str, headers: Headers) -> bool:
    """Whether a request may be sent again after its token was refused (RFC 9110 §9.2.2): an idempotent method, or a key by which the application knows a
    repeated one."""
    return method.upper() in IDEMPOTENT or any(name.lower() == "idempotency-key" for name, _ in headers)
