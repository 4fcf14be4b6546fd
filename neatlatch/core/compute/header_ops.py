"""HTTP Basic, bearer tokens, form encoding and Digest (RFC 7617, 6749, 6750, 7616)."""

from __future__ import annotations

from typing import Any

from .. import basic, bearer, forms, http_digest
from .op import Inputs, Op, text


def _basic_decode(inputs: Inputs) -> dict[str, Any]:
    try:
        user_id, password = basic.decode(text(inputs, "authorization"))
    except basic.BadBasic as error:
        return {"error": str(error)}
    return {"user_id": user_id, "password": password}


def _client(inputs: Inputs) -> dict[str, Any]:
    client_id, secret = text(inputs, "client_id"), text(inputs, "client_secret")
    return {
        "encoded_client_id": forms.encode(client_id),
        "encoded_client_secret": forms.encode(secret),
        "authorization": basic.client(client_id, secret),
    }


def _bearer(inputs: Inputs) -> dict[str, Any]:
    wrong = bearer.wrong_with(text(inputs, "token"))
    return {"valid": wrong is None, "reason": wrong or "it keeps to b64token"}


def _digest(inputs: Inputs) -> dict[str, Any]:
    names = (
        "algorithm",
        "username",
        "password",
        "realm",
        "method",
        "uri",
        "nonce",
        "nc",
        "cnonce",
        "qop",
    )
    return {"response": http_digest.response(*(text(inputs, name) for name in names))}


OPS = (
    Op(
        "basic_encode",
        "user_id, password",
        "RFC 7617 §2",
        lambda inputs: basic.encode(text(inputs, "user_id"), text(inputs, "password")),
    ),
    Op("basic_decode", "authorization", "RFC 7617 §2", _basic_decode),
    Op("client_secret_basic", "client_id, client_secret", "RFC 6749 §2.3.1, App. B", _client),
    Op(
        "form_urlencode_value",
        "text",
        "RFC 6749 App. B",
        lambda inputs: forms.encode(text(inputs, "text")),
    ),
    Op(
        "form_urldecode_value",
        "text",
        "RFC 6749 App. B",
        lambda inputs: forms.decode(text(inputs, "text")),
    ),
    Op("bearer_token_syntax", "token", "RFC 6750 §2.1", _bearer),
    Op(
        "digest_response",
        (
            "algorithm (MD5 | SHA-256 | SHA-512-256), username, password, realm, method, uri, "
            "nonce, nc, cnonce, qop (auth)"
        ),
        "RFC 7616 §3.4",
        _digest,
    ),
)
