"""OAuth 1.0a: signing a request (RFC 5849 §3).

Nonce and timestamp come in as arguments, so that the very signature can be compared with another
implementation.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from urllib.parse import unquote_to_bytes

from .addresses import take_apart

FORM = "application/x-www-form-urlencoded"
METHODS = ("HMAC-SHA1", "PLAINTEXT")
_UNRESERVED = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
Parameters = Sequence[tuple[str, str]]


@dataclass(frozen=True)
class SignedRequest:
    """What was signed, step by step, and the signature: where two sides disagree, one of the first
    three differs.
    """

    base_string_uri: str
    normalized_parameters: str
    base_string: str
    signature: str


def percent_encode(text: str) -> str:
    """RFC 5849 §3.6: UTF-8, and everything but RFC 3986's unreserved characters as %XX
    in capitals.
    """
    return "".join(
        chr(octet) if octet in _UNRESERVED else f"%{octet:02X}" for octet in text.encode("utf-8")
    )


def _form_decode(text: str) -> str:
    return unquote_to_bytes(text.replace("+", " ")).decode("utf-8", "replace")


def _query_parameters(query: str) -> list[tuple[str, str]]:
    """Names and values of a query or form body, decoded; a name without “=” has an empty value
    (§3.4.1.3.1).
    """
    return [
        (_form_decode(name), _form_decode(value))
        for name, _, value in (part.partition("=") for part in query.split("&") if part)
    ]


def base_string_uri(url: str) -> str:
    """Scheme and host in small letters, the port unless it is the default one, the path; no query
    (§3.4.1.2).

    Raises ``ValueError`` for a text that is no web address.
    """
    address = take_apart(url)
    scheme = (address.scheme or "").lower()
    if scheme not in ("http", "https") or not address.host:
        raise ValueError("an http or https address is required")
    port = (
        ""
        if address.port in (None, "", {"http": "80", "https": "443"}[scheme])
        else f":{address.port}"
    )
    return f"{scheme}://{address.host.lower()}{port}{address.path or '/'}"


def normalized_parameters(
    url: str, oauth: Parameters, body: str | None = None, content_type: str | None = None
) -> str:
    """All parameters, encoded, sorted by octets, joined (§3.4.1.3).

    ``realm`` and ``oauth_signature`` stay out; a body counts if it is a form.
    """
    found = _query_parameters(take_apart(url).query or "")
    found += [(name, value) for name, value in oauth if name not in ("realm", "oauth_signature")]
    if body and (content_type or "").split(";")[0].strip().lower() == FORM:
        found += _query_parameters(body)
    return "&".join(
        f"{name}={value}"
        for name, value in sorted(
            (percent_encode(name), percent_encode(value)) for name, value in found
        )
    )


def base_string(
    method: str,
    url: str,
    oauth: Parameters,
    body: str | None = None,
    content_type: str | None = None,
) -> str:
    """What is signed (§3.4.1.1)."""
    parts = (
        method.upper(),
        base_string_uri(url),
        normalized_parameters(url, oauth, body, content_type),
    )
    return "&".join(percent_encode(part) for part in parts)


def key(client_secret: str, token_secret: str) -> str:
    """The key of HMAC-SHA1, which is also the signature of PLAINTEXT (§3.4.2, §3.4.4)."""
    return f"{percent_encode(client_secret)}&{percent_encode(token_secret)}"


def sign(
    method: str,
    url: str,
    oauth: Parameters,
    client_secret: str,
    token_secret: str,
    *,
    body: str | None = None,
    content_type: str | None = None,
    signature_method: str = "HMAC-SHA1",
    rsa: Callable[[bytes], bytes] | None = None,
) -> SignedRequest:
    """Sign a request (§3.4.2 to §3.4.4).

    ``rsa`` signs octets by RSASSA-PKCS1-v1_5 with SHA-1. Raises ``ValueError`` for an unknown
    method.
    """
    text = base_string(method, url, oauth, body, content_type)
    if signature_method == "HMAC-SHA1":
        mac = hmac.new(
            key(client_secret, token_secret).encode("ascii"), text.encode("ascii"), hashlib.sha1
        )
        signature = base64.b64encode(mac.digest()).decode("ascii")
    elif signature_method == "PLAINTEXT":
        signature = key(client_secret, token_secret)
    elif signature_method == "RSA-SHA1" and rsa is not None:
        signature = base64.b64encode(rsa(text.encode("ascii"))).decode("ascii")
    else:
        raise ValueError(f"signature method {signature_method!r} is not known")
    return SignedRequest(
        base_string_uri(url), normalized_parameters(url, oauth, body, content_type), text, signature
    )


@dataclass(frozen=True)
class Keys:
    """The four values that a caller of OAuth 1.0a holds; two of them are secret."""

    client_key: str
    client_secret: str
    token: str
    token_secret: str
    signature_method: str = "HMAC-SHA1"

    def __repr__(self) -> str:
        return f"Keys({self.client_key!r}, •••, {self.token!r}, •••)"


def authorization(
    method: str,
    url: str,
    keys: Keys,
    nonce: str,
    timestamp: int,
    body: str | None = None,
    content_type: str | None = None,
) -> str:
    """The ``Authorization`` value of a signed request (§3.5.1).

    ``timestamp`` in seconds since 1970 (§3.3).
    """
    oauth = [
        ("oauth_consumer_key", keys.client_key),
        ("oauth_token", keys.token),
        ("oauth_signature_method", keys.signature_method),
        ("oauth_timestamp", str(timestamp)),
        ("oauth_nonce", nonce),
        ("oauth_version", "1.0"),
    ]
    signed = sign(
        method,
        url,
        oauth,
        keys.client_secret,
        keys.token_secret,
        body=body,
        content_type=content_type,
        signature_method=keys.signature_method,
    )
    return "OAuth " + ", ".join(
        f'{percent_encode(name)}="{percent_encode(value)}"'
        for name, value in [*oauth, ("oauth_signature", signed.signature)]
    )
