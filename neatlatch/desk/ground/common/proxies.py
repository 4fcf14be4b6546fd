"""Proxies in front of the desk: who a caller is when one of them says so, and nobody else."""

from __future__ import annotations

import hmac
import ipaddress

from django.conf import settings
from django.http import HttpRequest

from neatlatch.core.addresses import inside
from neatlatch.desk.ground.common.asgi import Scope

# The header by which a proxy proves itself, and where the address is kept from which the request
# really came.
SECRET_HEADER = "Neat-Latch-Proxy"
PEER = "neatlatch.peer"


def seen_through(scope: Scope) -> Scope:
    """A request's scope with the caller's own address and scheme, where a proxy of ours tells them;
    else as it is.

    Of ``X-Forwarded-For`` the last address counts that is no proxy of ours: what stands before it,
    callers may have put there themselves.
    """
    peer = str(scope["client"][0]) if scope.get("client") else ""
    scope = {**scope, PEER: peer}
    if not settings.PROXIES or not inside(peer, settings.PROXIES):
        return scope
    chain = [
        part.strip()
        for part in ",".join(_all(scope, b"x-forwarded-for")).split(",")
        if part.strip()
    ]
    caller = next(
        (address for address in reversed(chain) if not inside(address, settings.PROXIES)), None
    )
    if caller is not None:
        scope["client"] = (caller if _is_address(caller) else "", 0)
    if scheme := next(
        (text for text in _all(scope, b"x-forwarded-proto") if text in ("http", "https")), None
    ):
        scope["scheme"] = scheme
    return scope


def has_proven(request: HttpRequest) -> bool:
    """Whether a request came through a proxy of ours that told its secret."""
    peer = str(getattr(request, "scope", {}).get(PEER, request.META.get("REMOTE_ADDR", "")))
    told = request.headers.get(SECRET_HEADER, "")
    return (
        bool(settings.PROXY_SECRET)
        and inside(peer, settings.PROXIES)
        and hmac.compare_digest(told.encode(), settings.PROXY_SECRET.encode())
    )


def _all(scope: Scope, name: bytes) -> list[str]:
    return [value.decode("latin-1") for key, value in scope["headers"] if key == name]


def _is_address(text: str) -> bool:
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True
