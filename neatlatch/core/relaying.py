"""Sending a caller's request on: which headers travel, where it goes, and when it may
be repeated.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from urllib.parse import unquote, urljoin, urlsplit

from .retries import IDEMPOTENT

_WHOLE = re.compile(r"[A-Za-z][\w+.-]*://|//")
Headers = tuple[tuple[str, str], ...]
# RFC 9110 §9.3 and RFC 5789. CONNECT and TRACE are for the way, and not for an application.
METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")
# What travels on: about the content that is sent, and about the one that is wanted (RFC 9110 §8,
# §12, §13, §14), about the call itself, and where it stands in a trace. What says who the caller
# is, or from where it came, stays here; what is for one hop only does as well (RFC 9110 §7.6.1).
_ONWARD = frozenset(
    [
        "accept",
        "accept-language",
        "content-type",
        "content-language",
        "content-encoding",
        "content-disposition",
        "content-md5",
        "content-digest",
        "repr-digest",
        "want-content-digest",
        "want-repr-digest",
        "range",
        "if-range",
        "if-match",
        "if-none-match",
        "if-modified-since",
        "if-unmodified-since",
        "cache-control",
        "pragma",
        "prefer",
        "idempotency-key",
        "user-agent",
        "soapaction",
        "x-request-id",
        "x-correlation-id",
        "traceparent",
        "tracestate",
    ]
)
# And back. Cookies, challenges, and what a browser would take as an order to itself (origins,
# frames, caches, other addresses) do not.
_BACK = frozenset(
    [
        "content-type",
        "content-language",
        "content-disposition",
        "content-range",
        "content-digest",
        "repr-digest",
        "accept-ranges",
        "accept-patch",
        "accept-post",
        "allow",
        "etag",
        "last-modified",
        "retry-after",
        "link",
        "deprecation",
        "sunset",
        "preference-applied",
        "warning",
        "ratelimit",
        "ratelimit-policy",
        "ratelimit-limit",
        "ratelimit-remaining",
        "ratelimit-reset",
        "x-ratelimit-limit",
        "x-ratelimit-remaining",
        "x-ratelimit-reset",
        "x-rate-limit-limit",
        "x-rate-limit-remaining",
        "x-rate-limit-reset",
        "x-request-id",
        "x-correlation-id",
        "x-total-count",
        "x-next-page",
    ]
)
# What a profile may never add: it would say who asks, move a request elsewhere, or steer a browser.
_NEVER = frozenset(
    [
        "host",
        "connection",
        "keep-alive",
        "proxy-authenticate",
        "proxy-authorization",
        "proxy-connection",
        "te",
        "trailer",
        "transfer-encoding",
        "upgrade",
        "content-length",
        "expect",
        "authorization",
        "cookie",
        "set-cookie",
        "forwarded",
        "via",
        "origin",
        "referer",
        "accept-encoding",
        "client-cert",
        "client-cert-chain",
        "x-real-ip",
        "x-client-ip",
        "true-client-ip",
        "x-original-url",
        "x-original-uri",
        "x-original-host",
        "x-rewrite-url",
        "x-http-method",
        "x-http-method-override",
        "x-method-override",
        "x-host",
        "www-authenticate",
        "strict-transport-security",
        "clear-site-data",
        "location",
        "content-location",
        "refresh",
        "alt-svc",
        "service-worker",
        "service-worker-allowed",
        "content-security-policy",
        "content-security-policy-report-only",
        "x-frame-options",
        "x-content-type-options",
    ]
)
_NEVER_BEGIN = (
    "x-forwarded",
    "x-ssl-",
    "ssl-client",
    "access-control-",
    "sec-",
    "proxy-",
    "cross-origin-",
    "neat-latch-",
)
_NAME = re.compile(r"[!#$%&'*+\-.^_`|~0-9A-Za-z]{1,100}")


def may_travel(name: str) -> bool:
    """Whether a profile may let a further header field through the relay: a field name (RFC 9110
    §5.1) that is not for this hop and says nothing of the caller.
    """
    lower = name.lower()
    return (
        _NAME.fullmatch(name) is not None
        and lower not in _NEVER
        and not lower.startswith(_NEVER_BEGIN)
    )


class BadPath(ValueError):
    """The path leads out of the connection's API; the message says how."""


def onward(headers: Headers, further: Iterable[str] = ()) -> Headers:
    """The caller's headers that travel on: those of every application, and the ``further`` ones of
    this one's profile.
    """
    return _through(headers, _ONWARD, further)


def back(headers: Headers, further: Iterable[str] = ()) -> Headers:
    """The answer's headers that travel back."""
    return _through(headers, _BACK, further)


def _through(headers: Headers, usual: frozenset[str], further: Iterable[str]) -> Headers:
    let = usual | {name.lower() for name in further if may_travel(name)}
    # A field that Connection names is for one hop, whatever it is called.
    hop = {
        one.strip().lower()
        for name, value in headers
        if name.lower() == "connection"
        for one in value.split(",")
    }
    return tuple((name, value) for name, value in headers if name.lower() in let - hop)


def location(text: str, url: str, base: str, start: str) -> str | None:
    """Where an answer says that something is (RFC 9110 §10.2.2), as the caller reaches it: below
    ``start`` in place of ``base``.

    ``url`` is what was asked. ``None``: it is elsewhere, where the caller's credential does not
    belong.
    """
    try:
        there = urljoin(url, text)
    except ValueError:
        return None
    root = base.rstrip("/")
    if there != root and not there.startswith((f"{root}/", f"{root}?")):
        return None
    try:
        target(base, urlsplit(there).path.removeprefix(urlsplit(root).path).lstrip("/"))
    except BadPath:
        return None
    return start + there[len(root) :]


def target(base: str, path: str, query: str = "") -> str:
    """The address below a connection's API base; ``path`` is as it was sent, its escapes kept; an
    empty one is the base itself. Raises :class:`BadPath` for one that would leave it, in plain or
    escaped writing (RFC 3986 §5.2.4).
    """
    plain = path
    for _ in range(3):  # escaped once, or twice by a program on the way
        # What stands after ; is a parameter to some servers, which then go up all the same (RFC
        # 3986 §3.3).
        if any(
            part.partition(";")[0] in ("..", ".") for part in plain.replace("\\", "/").split("/")
        ):
            raise BadPath("A path that goes up (..) leads out of the connection's API.")
        if plain == unquote(plain):
            break
        plain = unquote(plain)
    if _WHOLE.match(plain) or any(ord(letter) < 33 or ord(letter) == 127 for letter in path):
        raise BadPath("Give the path alone, below the connection's API base address.")
    below = f"{base.rstrip('/')}/{path.lstrip('/')}" if path else base
    return below + (f"?{query}" if query else "")


def may_repeat_after_renewal(method: str, headers: Headers) -> bool:
    """Whether a request may be sent again after its token was refused (RFC 9110 §9.2.2): an
    idempotent method, or a key by which the application knows a repeated one.
    """
    return method.upper() in IDEMPOTENT or any(
        name.lower() == "idempotency-key" for name, _ in headers
    )
