"""OAuth 1.0 signatures (RFC 5849 §3)."""

from __future__ import annotations

from functools import partial
from typing import Any

from .. import keys, oauth1
from .op import BadInput, Inputs, Op, optional_text, pairs, text


def _sign(inputs: Inputs) -> dict[str, Any]:
    signed = oauth1.sign(
        text(inputs, "method"),
        text(inputs, "url"),
        pairs(inputs, "oauth_parameters"),
        text(inputs, "client_secret"),
        text(inputs, "token_secret"),
        body=optional_text(inputs, "body"),
        content_type=optional_text(inputs, "content_type"),
        signature_method=optional_text(inputs, "signature_method") or "HMAC-SHA1",
    )
    return {
        "base_string_uri": signed.base_string_uri,
        "normalized_parameters": signed.normalized_parameters,
        "base_string": signed.base_string,
        "signature": signed.signature,
    }


def _rsa(inputs: Inputs) -> dict[str, Any]:
    try:
        private = keys.open_private(text(inputs, "private_key_pem").encode("utf-8"))
    except keys.BadKey as error:
        raise BadInput(f"“private_key_pem”: {error}") from error
    signed = oauth1.sign(
        text(inputs, "method"),
        text(inputs, "url"),
        pairs(inputs, "oauth_parameters"),
        "",
        "",
        signature_method="RSA-SHA1",
        rsa=partial(keys.rsa_sha1, private),
    )
    return {"base_string": signed.base_string, "signature": signed.signature}


OPS = (
    Op(
        "oauth1_sign",
        "method, url, oauth_parameters: [[name, value]], body (null), content_type (null), "
        "client_secret, token_secret, "
        "signature_method (HMAC-SHA1 | PLAINTEXT)",
        "RFC 5849 §3.4",
        _sign,
    ),
    Op(
        "oauth1_rsa_sha1",
        "method, url, oauth_parameters: [[name, value]], private_key_pem",
        "RFC 5849 §3.4.3",
        _rsa,
    ),
    Op(
        "oauth1_base_string_uri",
        "url",
        "RFC 5849 §3.4.1.2",
        lambda inputs: oauth1.base_string_uri(text(inputs, "url")),
    ),
    Op(
        "oauth1_percent_encode",
        "text",
        "RFC 5849 §3.6",
        lambda inputs: oauth1.percent_encode(text(inputs, "text")),
    ),
    Op(
        "oauth1_plaintext",
        "client_secret, token_secret",
        "RFC 5849 §3.4.4",
        lambda inputs: oauth1.key(text(inputs, "client_secret"), text(inputs, "token_secret")),
    ),
)
