"""Putting a credential on a request, for the schemes that send it with every call."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from urllib.parse import quote

from . import basic, bearer, oauth1
from .oauth2 import Request
from .schemes import API_KEY, BASIC, BEARER, CERTIFICATE, OAUTH1, PAIR


@dataclass(frozen=True)
class Credentials:
    """What a caller holds for one endpoint, by the keys of the scheme's values without the
    endpoint's own name.

    ``settings`` are the profile's: where an API key travels, and under which name.
    """

    kind: str
    values: Mapping[str, str] = field(default_factory=dict)
    secrets: Mapping[str, str] = field(default_factory=dict)
    settings: Mapping[str, str] = field(default_factory=dict)

    def __repr__(self) -> str:
        return f"Credentials({self.kind!r}, {sorted(self.values)}, •••)"


class NotComplete(ValueError):
    """A value is missing or cannot be sent; the message says which, in words for a person."""


def with_credential(request: Request, held: Credentials, nonce: str, timestamp: int) -> Request:
    """The request with its credential on.

    ``nonce`` and ``timestamp`` (seconds since 1970) are for signatures. Raises
    :class:`NotComplete`.
    """
    secrets = tuple(secret for secret in held.secrets.values() if secret)
    if held.kind == API_KEY:
        return _api_key(request, held, secrets)
    if held.kind == PAIR:
        pair = (
            (held.settings.get("id_header", "X-Key-Id"), _value(held, "key_id")),
            (held.settings.get("secret_header", "X-Key-Secret"), _secret(held, "key_secret")),
        )
        return _with(request, pair, secrets)
    if held.kind == BASIC:
        try:
            header = basic.encode(_value(held, "username"), _secret(held, "password"))
        except basic.BadBasic as error:
            raise NotComplete(f"User name and password cannot be sent: {error}.") from error
        return _with(
            request, (("Authorization", header),), (*secrets, header.removeprefix("Basic "))
        )
    if held.kind == BEARER:
        token = _secret(held, "token")
        if wrong := bearer.wrong_with(token):
            raise NotComplete(f"The token cannot be sent: {wrong}.")
        return _with(request, (("Authorization", f"Bearer {token}"),), secrets)
    if held.kind == OAUTH1:
        keys = oauth1.Keys(
            _value(held, "client_key"),
            _secret(held, "client_secret"),
            _value(held, "token_id"),
            _secret(held, "token_secret"),
            held.settings.get("signature_method", "HMAC-SHA1"),
        )
        content_type = dict(request.headers).get("Content-Type")
        header = oauth1.authorization(
            request.method, request.url, keys, nonce, timestamp, request.body or None, content_type
        )
        return _with(request, (("Authorization", header),), secrets)
    if held.kind == CERTIFICATE:  # the line itself says who we are
        _value(held, "certificate")
        _secret(held, "private_key")
        return request
    raise NotComplete(f"There is no way of sending {held.kind}.")


def _api_key(request: Request, held: Credentials, secrets: tuple[str, ...]) -> Request:
    placement, name, key = (
        held.settings.get("placement", "header"),
        held.settings.get("name", "X-Api-Key"),
        _secret(held, "api_key"),
    )
    if placement == "query":
        joins = "&" if "?" in request.url else "?"
        return replace(
            request,
            url=f"{request.url}{joins}{quote(name)}={quote(key, safe='')}",
            secrets=(*request.secrets, *secrets),
        )
    if any(ord(c) < 32 or ord(c) > 126 for c in key):
        raise NotComplete("The API key holds a character that a header cannot carry.")
    return _with(
        request,
        (("Cookie", f"{name}={key}"),) if placement == "cookie" else ((name, key),),
        secrets,
    )


def _with(
    request: Request, headers: tuple[tuple[str, str], ...], secrets: tuple[str, ...]
) -> Request:
    return replace(
        request, headers=(*request.headers, *headers), secrets=(*request.secrets, *secrets)
    )


def _value(held: Credentials, key: str) -> str:
    if not held.values.get(key):
        raise NotComplete(f"The {_key_in_words(key)} is not filled in.")
    return held.values[key]


def _secret(held: Credentials, key: str) -> str:
    if not held.secrets.get(key):
        raise NotComplete(f"The {_key_in_words(key)} has not been put in.")
    return held.secrets[key]


def _key_in_words(key: str) -> str:
    return " ".join({"api": "API", "id": "ID"}.get(part, part) for part in key.split("_"))
