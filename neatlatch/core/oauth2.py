"""OAuth 2.0 requests as plain values: what is sent where (RFC 6749, 7009, 7591, 7592, 7636, 7662).

Nothing is sent here; ``wire`` does that. So the very bytes can be compared with another
implementation.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import urlencode

from . import basic
from .schemes import JWT_GRANT
from .scopes import joined

FORM = "application/x-www-form-urlencoded"


@dataclass(frozen=True)
class Request:
    """An HTTP request. ``secrets`` are the values in it that no evidence may show."""

    method: str
    url: str
    headers: tuple[tuple[str, str], ...] = ()
    body: str = ""
    secrets: tuple[str, ...] = ()

    def __repr__(self) -> str:
        # Address, headers and body may all hold a secret, encoded in some way that masking could
        # miss.
        return f"Request({self.method!r}, •••)"


@dataclass(frozen=True)
class Client:
    """How a client proves itself (RFC 6749 §2.3): ``method`` is a ``token_endpoint_auth_method``
    (RFC 7591 §2).
    """

    client_id: str
    secret: str = ""
    method: str = "client_secret_basic"

    def __repr__(self) -> str:
        return f"Client({self.client_id!r}, •••, {self.method!r})"


def authorization_url(
    endpoint: str,
    client_id: str,
    redirect_uri: str,
    scopes: frozenset[str],
    state: str,
    challenge: str,
    *,
    hint: str = "",
) -> str:
    """Where to send a person (RFC 6749 §4.1.1, RFC 7636 §4.3).

    A query the endpoint has is kept (RFC 6749 §3.1).
    """
    values = {
        "response_type": "code",
        "client_id": client_id,
        "redirect_uri": redirect_uri,
        "scope": joined(scopes),
        "state": state,
        "code_challenge": challenge,
        "code_challenge_method": "S256",
    }
    if not scopes:
        del values["scope"]
    if hint:
        values["login_hint"] = hint
    return f"{endpoint}{'&' if '?' in endpoint else '?'}{urlencode(values)}"


def _form_request(
    endpoint: str, client: Client, values: dict[str, str], secrets: tuple[str, ...]
) -> Request:
    headers = [("Content-Type", FORM), ("Accept", "application/json")]
    if client.method == "client_secret_basic":
        headers.append(("Authorization", basic.client(client.client_id, client.secret)))
        secrets += (headers[-1][1].removeprefix("Basic "),)
    else:
        values = {**values, "client_id": client.client_id}
        if client.method == "client_secret_post":
            values["client_secret"] = client.secret
    return Request(
        "POST",
        endpoint,
        tuple(headers),
        urlencode(values),
        (*secrets, client.secret) if client.secret else secrets,
    )


def code_request(
    endpoint: str, client: Client, code: str, redirect_uri: str, verifier: str
) -> Request:
    """Trade a code for tokens (RFC 6749 §4.1.3, RFC 7636 §4.5)."""
    values = {
        "grant_type": "authorization_code",
        "code": code,
        "redirect_uri": redirect_uri,
        "code_verifier": verifier,
    }
    return _form_request(endpoint, client, values, (code, verifier))


def refresh_request(
    endpoint: str, client: Client, refresh_token: str, old_access: str = ""
) -> Request:
    """Renew (RFC 6749 §6). No scope is sent: the same as before is asked for.

    ``old_access``: some applications want the old access token to renew (common practice, no
    source; a parameter of their own, §8.2).
    """
    values = {"grant_type": "refresh_token", "refresh_token": refresh_token} | (
        {"access_token": old_access} if old_access else {}
    )
    return _form_request(
        endpoint, client, values, (refresh_token, *([old_access] if old_access else []))
    )


def assertion_request(endpoint: str, assertion: str, scopes: frozenset[str]) -> Request:
    """A token for a signed assertion (RFC 7523 §2.1); the assertion proves who asks, so the client
    sends no secret.
    """
    values = {"grant_type": JWT_GRANT, "assertion": assertion} | (
        {"scope": joined(scopes)} if scopes else {}
    )
    headers = (("Content-Type", FORM), ("Accept", "application/json"))
    return Request("POST", endpoint, headers, urlencode(values), (assertion,))


def client_credentials_request(endpoint: str, client: Client, scopes: frozenset[str]) -> Request:
    """A token for the client itself (RFC 6749 §4.4.2)."""
    values = {"grant_type": "client_credentials"} | ({"scope": joined(scopes)} if scopes else {})
    return _form_request(endpoint, client, values, ())


def revocation_request(endpoint: str, client: Client, token: str, hint: str) -> Request:
    """Revoke a token (RFC 7009 §2.1); ``hint`` is access_token or refresh_token."""
    return _form_request(endpoint, client, {"token": token, "token_type_hint": hint}, (token,))


def introspection_request(
    endpoint: str, client: Client, token: str, hint: str = "access_token"
) -> Request:
    """Ask whether a token is alive, and whose it is (RFC 7662 §2.1); ``hint`` is access_token or
    refresh_token.
    """
    return _form_request(endpoint, client, {"token": token, "token_type_hint": hint}, (token,))


def registration_request(
    endpoint: str, fields: Mapping[str, Any], initial_token: str = ""
) -> Request:
    """Register a client (RFC 7591 §3.1); some servers want an initial access token."""
    return _json_request("POST", endpoint, fields, initial_token)


def update_request(
    address: str, fields: Mapping[str, Any], token: str, secret: str = ""
) -> Request:
    """Replace a client's metadata (RFC 7592 §2.2).

    Fields that must not be sent back are left out. With its present ``secret`` the client says
    which one it has; an application may answer with a new one.
    """
    kept = {
        key: value
        for key, value in fields.items()
        if key
        not in (
            "registration_access_token",
            "registration_client_uri",
            "client_secret_expires_at",
            "client_id_issued_at",
            "client_secret",
        )
    }
    request = _json_request(
        "PUT", address, kept | ({"client_secret": secret} if secret else {}), token
    )
    return replace(request, secrets=(*request.secrets, secret)) if secret else request


def read_request(address: str, token: str) -> Request:
    """Read a client's metadata (RFC 7592 §2.1)."""
    return _json_request("GET", address, None, token)


def delete_request(address: str, token: str) -> Request:
    """Deprovision a client (RFC 7592 §2.3)."""
    return _json_request("DELETE", address, None, token)


def _json_request(
    method: str, address: str, fields: Mapping[str, Any] | None, token: str
) -> Request:
    headers = [("Accept", "application/json")]
    if fields is not None:
        headers.append(("Content-Type", "application/json"))
    if token:
        headers.append(("Authorization", f"Bearer {token}"))
    body = "" if fields is None else json.dumps(dict(fields), ensure_ascii=False)
    return Request(method, address, tuple(headers), body, (token,) if token else ())


def api_request(
    method: str, address: str, token: str = "", body: Mapping[str, Any] | None = None
) -> Request:
    """A call of an API; with a bearer token in the header, if there is one (RFC 6750 §2.1)."""
    return _json_request(method, address, body, token)
