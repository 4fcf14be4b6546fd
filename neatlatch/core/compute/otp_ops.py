"""One-time codes (RFC 4226, RFC 6238)."""

from __future__ import annotations

import hmac

from .. import totp
from .op import BadInput, Inputs, Op, hexadecimal, integer, number, text


def _algorithm(inputs: Inputs) -> str:
    return (
        text(inputs, "algorithm").lower().replace("-", "")
        if inputs.get("algorithm") is not None
        else "sha1"
    )


def _whole(inputs: Inputs, key: str, default: int) -> int:
    return default if inputs.get(key) is None else integer(inputs, key)


def _hotp(inputs: Inputs) -> str:
    return totp.code_at(
        hexadecimal(inputs, "key_hex"),
        integer(inputs, "counter"),
        _whole(inputs, "digits", totp.DIGITS),
        _algorithm(inputs),
    )


def _totp(inputs: Inputs) -> str:
    return totp.code(
        hexadecimal(inputs, "key_hex"),
        number(inputs, "unix_time"),
        _whole(inputs, "digits", totp.DIGITS),
        _algorithm(inputs),
        _whole(inputs, "step_seconds", totp.STEP),
        _whole(inputs, "t0", 0),
    )


def _verify(inputs: Inputs) -> bool:
    window = _whole(inputs, "window_steps", 1)
    if not 0 <= window <= 100:
        raise BadInput("“window_steps” must be a whole number from 0 to 100")
    key, shown, digits = (
        hexadecimal(inputs, "key_hex"),
        text(inputs, "code"),
        _whole(inputs, "digits", totp.DIGITS),
    )
    here = totp.counter_at(
        number(inputs, "unix_time"),
        _whole(inputs, "step_seconds", totp.STEP),
        _whole(inputs, "t0", 0),
    )
    counters = range(max(0, here - window), here + window + 1)
    found = [
        hmac.compare_digest(
            totp.code_at(key, counter, digits, _algorithm(inputs)).encode(), shown.encode()
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
