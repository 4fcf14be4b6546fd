"""How an office's API wants to be told who calls: each returns the key that a request shows, or a
refusal.
"""

from __future__ import annotations

import base64
import binascii
import secrets
from collections.abc import Callable
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from oauthlib.common import Request as SignedRequest
from oauthlib.oauth1.rfc5849 import signature, utils
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from .. import clock

Keys = dict[str, dict[str, Any]]
Proof = Callable[[Request, Keys, str], "dict[str, Any] | Response"]


def _no(says: str, challenge: str = "") -> Response:
    return JSONResponse(
        {"error": "unauthorized", "says": says},
        401,
        {"WWW-Authenticate": challenge} if challenge else None,
    )


def _by_secret(keys: Keys, shown: str) -> dict[str, Any] | None:
    return next(
        (
            key
            for key in keys.values()
            if secrets.compare_digest(key["secret"].encode(), shown.encode())
        ),
        None,
    )


def _live(
    key: dict[str, Any] | None, spread: float, challenge: str = ""
) -> dict[str, Any] | Response:
    now = clock.now()
    if key is None or key["made"] + spread > now:
        return _no("This key is not known", challenge)
    if key["ends"] and key["ends"] < now:
        return _no("This key has ended", challenge)
    return key


def header(name: str, spread: float = 0) -> Proof:
    """An API key in a header."""
    return lambda request, keys, body: _live(
        _by_secret(keys, request.headers.get(name, "")), spread
    )


def query(name: str) -> Proof:
    """An API key in the query."""
    return lambda request, keys, body: _live(
        _by_secret(keys, request.query_params.get(name, "")), 0
    )


def bearer(request: Request, keys: Keys, body: str) -> dict[str, Any] | Response:
    """A bearer token (RFC 6750)."""
    shown = request.headers.get("authorization", "")
    if not shown.startswith("Bearer "):
        return _no("A token is required", 'Bearer realm="office"')
    return _live(_by_secret(keys, shown[7:]), 0, 'Bearer realm="office", error="invalid_token"')


def basic(request: Request, keys: Keys, body: str) -> dict[str, Any] | Response:
    """User name and password (RFC 7617)."""
    try:
        user, _, password = (
            base64.b64decode(request.headers.get("authorization", "")[6:], validate=True)
            .decode()
            .partition(":")
        )
    except (binascii.Error, UnicodeDecodeError):
        user, password = "", ""
    key = keys.get(user)
    if key is None or not secrets.compare_digest(key["secret"].encode(), password.encode()):
        return _no("User name or password is wrong", 'Basic realm="office", charset="UTF-8"')
    return _live(key, 0, 'Basic realm="office"')


def oauth1(request: Request, keys: Keys, body: str) -> dict[str, Any] | Response:
    """OAuth 1.0a, HMAC-SHA1 (RFC 5849 §3.2), checked by a library."""
    shown = request.headers.get("authorization", "")
    if not shown.startswith("OAuth "):
        return _no("A signed request is wanted", 'OAuth realm="office"')
    given = {name: utils.unescape(value) for name, value in utils.parse_authorization_header(shown)}
    key = keys.get(given.get("oauth_token", ""))
    if key is None or key["client_key"] != given.get("oauth_consumer_key"):
        return _no("Client key or token is not known", 'OAuth realm="office"')
    if abs(clock.now() - int(given.get("oauth_timestamp") or 0)) > 300:
        return _no("The timestamp is too far from our clock", 'OAuth realm="office"')
    if given.get("oauth_nonce", "") in key.setdefault("nonces", []):
        return _no("This nonce was used before", 'OAuth realm="office"')
    is_form = request.headers.get("content-type", "").startswith(
        "application/x-www-form-urlencoded"
    )
    signed = SignedRequest(str(request.url), request.method)
    form = parse_qsl(body, keep_blank_values=True) if is_form else []
    signed.params = signature.collect_parameters(
        urlsplit(str(request.url)).query, form, {"Authorization": shown}, with_realm=False
    )
    signed.signature = given.get("oauth_signature", "")
    if not signature.verify_hmac_sha1(signed, key["client_secret"], key["secret"]):
        return _no("The signature does not hold", 'OAuth realm="office"')
    key["nonces"] = [*key["nonces"][-200:], given["oauth_nonce"]]
    return _live(key, 0)


def certificate(request: Request, keys: Keys, body: str) -> dict[str, Any] | Response:
    """The client certificate of the line, found by its thumbprint."""
    shown = request.scope.get("extensions", {}).get("client_certificate", "")
    return keys.get(shown) or _no("This certificate is not registered here")
