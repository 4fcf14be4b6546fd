"""One-time codes (RFC 4226, RFC 6238)."""

from __future__ import annotations

import hmac

from .. import totp
from .op import BadInput, Given, Op, hexadecimal, integer, number, text


def _algorithm(given: Given) -> str:
    return (
        text(given, "algorithm").lower().replace("-", "")
        if given.get("algorithm") is not None
        else "sha1"
    )


def _whole(given: Given, key: str, default: int) -> int:
    return default if given.get(key) is None else integer(given, key)


def _hotp(given: Given) -> str:
    return totp.code_at(
        hexadecimal(given, "key_hex"),
        integer(given, "counter"),
        _whole(given, "digits", totp.DIGITS),
        _algorithm(given),
    )


def _totp(given: Given) -> str:
    return totp.code(
        hexadecimal(given, "key_hex"),
        number(given, "unix_time"),
        _whole(given, "digits", totp.DIGITS),
        _algorithm(given),
        _whole(given, "step_seconds", totp.STEP),
        _whole(given, "t0", 0),
    )


def _verify(given: Given) -> bool:
    window = _whole(given, "window_steps", 1)
    if not 0 <= window <= 100:
        raise BadInput("“window_steps” must be a whole number from 0 to 100")
    key, shown, digits = (
        hexadecimal(given, "key_hex"),
        text(given, "code"),
        _whole(given, "digits", totp.DIGITS),
    )
    here = totp.counter_at(
        number(given, "unix_time"), _whole(given, "step_seconds", totp.STEP), _whole(given, "t0", 0)
    )
    counters = range(max(0, here - window), here + window + 1)
    found = [
        hmac.compare_digest(
            totp.code_at(key, counter, digits, _algorithm(given)).encode(), shown.encode()
        )
        for counter in counters
    ]
    return any(found)


OPS: tuple[Op, ...] = (
    Op("hotp", "key_hex, counter, digits (6), algorithm (SHA1)", "RFC 4226 §5.3", _hotp),
    Op(
        "totp",
        (
            "key_hex, unix_time, step_seconds (30), t0 (0), digits (6), algorithm (SHA1 | "
            "SHA256 | SHA512)"
        ),
        "RFC 6238 §4.2",
        _totp,
    ),
    Op(
        "totp_verify",
        (
            "key_hex, unix_time, code, step_seconds (30), t0 (0), digits (6), algorithm (SHA1), "
            "window_steps (1)"
        ),
        "RFC 6238 §5.2",
        _verify,
    ),
)
