"""base64url without padding (RFC 7515 §2, RFC 4648 §5)."""

from __future__ import annotations

import base64
import binascii
import re

_ALPHABET = re.compile(r"[A-Za-z0-9_-]*")


def encode(octets: bytes) -> str:
    """Encode octets as base64url text (RFC 4648 §5, without padding)."""
    return base64.urlsafe_b64encode(octets).decode("ascii").rstrip("=")


def decode(text: str) -> bytes:
    """Text as octets.

    Raises ``ValueError`` for padding, other characters, or a length that cannot be.
    """
    if not _ALPHABET.fullmatch(text):
        raise ValueError("not base64url without padding")
    try:
        return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
    except binascii.Error as error:
        raise ValueError("not base64url without padding") from error
