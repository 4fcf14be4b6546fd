"""Time-based one-time codes, the second factor (RFC 6238, RFC 4226)."""

from __future__ import annotations

import base64
import hashlib
import hmac
from urllib.parse import quote, urlencode

STEP, DIGITS = 30, 6
# RFC 4226 §4 R6: the shared secret has at least 128 bits, better 160.
SECRET_OCTETS = 20


def code_at(secret: bytes, counter: int, digits: int = DIGITS, algorithm: str = "sha1") -> str:
    """HOTP (RFC 4226 §5.3): the code of a counter, by dynamic truncation.

    Raises ``ValueError`` for an unknown hash or number of digits.
    """
    if not 6 <= digits <= 8 or algorithm not in ("sha1", "sha256", "sha512"):
        raise ValueError("6 to 8 digits by SHA-1, SHA-256 or SHA-512 (RFC 6238 §1.2)")
    if not 0 <= counter < 2**64:
        raise ValueError("a counter has 64 bits (RFC 4226 §5.1)")
    mac = hmac.new(secret, counter.to_bytes(8, "big"), getattr(hashlib, algorithm)).digest()
    offset = mac[-1] & 0xF
    number = int.from_bytes(mac[offset : offset + 4], "big") & 0x7FFFFFFF
    return str(number % 10**digits).rjust(digits, "0")


def code(
    secret: bytes,
    now: float,
    digits: int = DIGITS,
    algorithm: str = "sha1",
    step: int = STEP,
    start: int = 0,
) -> str:
    """TOTP (RFC 6238 §4.2): the code at a moment, in seconds since 1970; ``step`` and ``start``
    (T0) are seconds too.

    Raises ``ValueError`` for a step that is not above 0, and a moment before the start or beyond a
    counter of 64 bits.
    """
    return code_at(secret, counter_at(now, step, start), digits, algorithm)


def counter_at(now: float, step: int = STEP, start: int = 0) -> int:
    """The number of steps since the start (RFC 6238 §4.2).

    Raises ``ValueError`` as :func:`code` does.
    """
    if step <= 0:
        raise ValueError("a time step is longer than 0 s (RFC 6238 §4.1)")
    counter = int((now - start) // step)
    if not 0 <= counter < 2**64:
        raise ValueError(
            "the moment lies before the start, or beyond what a counter of 64 bits can "
            "count (RFC 4226 §5.1)"
        )
    return counter


def accept(secret: bytes, shown: str, now: float, last: int = -1) -> int | None:
    """The time step whose code was shown, if it is this one, the one before or the one after (RFC
    6238 §5.2), and later than the last that was accepted: each serves once. ``None``: it is not
    accepted. All three are compared, so that the time taken tells nothing.
    """
    shown = "".join(shown.split())
    here, found = int(now // STEP), None
    for step in (here - 1, here, here + 1):
        if (
            hmac.compare_digest(code_at(secret, max(step, 0)).encode(), shown.encode("utf-8"))
            and step > last
            and found is None
        ):
            found = step
    return found


def as_text(secret: bytes) -> str:
    """The secret as it is typed into a device: base32 without padding (RFC 4648 §6)."""
    return base64.b32encode(secret).decode("ascii").rstrip("=")


def address(secret: bytes, account: str, issuer: str) -> str:
    """The secret as an address that devices take (``otpauth:``; common practice, no source)."""
    label = quote(f"{issuer}:{account}", safe="")
    query = urlencode({"secret": as_text(secret), "issuer": issuer}, quote_via=quote)
    return f"otpauth://totp/{label}?{query}"
