"""HTTP Basic (RFC 7617), and the way OAuth clients use it (RFC 6749 §2.3.1)."""

from __future__ import annotations

import base64
import binascii

from . import forms


class BadBasic(ValueError):
    """Credentials that cannot be sent, or a header that cannot be read; the message says why."""


def encode(user_id: str, password: str) -> str:
    """The ``Authorization`` value, in UTF-8 (RFC 7617 §2, §2.1).

    Raises :class:`BadBasic` where the user ID holds a colon or either part a control character (RFC
    7617 §2).
    """
    if ":" in user_id:
        raise BadBasic(
            "a user ID must not hold a colon; everything after it would be read as the password"
        )
    if any(ord(c) < 32 or ord(c) == 127 for c in user_id + password):
        raise BadBasic("control characters must not be in a user ID or password")
    return "Basic " + base64.b64encode(f"{user_id}:{password}".encode()).decode("ascii")


def decode(authorization: str) -> tuple[str, str]:
    """User ID and password of an ``Authorization`` value; the first colon parts them.

    Raises :class:`BadBasic`.
    """
    scheme, _, token = authorization.strip().partition(" ")
    if scheme.lower() != "basic":
        raise BadBasic("not the Basic scheme")
    if not token.strip():
        raise BadBasic("no credentials after the scheme")
    try:
        octets = base64.b64decode(token.strip(), validate=True)
    except (binascii.Error, ValueError) as error:
        raise BadBasic("not base64") from error
    try:
        text = octets.decode("utf-8")
    except UnicodeDecodeError:
        text = octets.decode("latin-1")  # before RFC 7617 the encoding was not said
    user_id, colon, password = text.partition(":")
    if not colon:
        raise BadBasic("no colon in the decoded credentials")
    return user_id, password


def client(client_id: str, client_secret: str) -> str:
    """The ``Authorization`` value of client_secret_basic: both parts form-encoded first (RFC 6749
    §2.3.1, Appendix B).
    """
    return encode(forms.encode(client_id), forms.encode(client_secret))
