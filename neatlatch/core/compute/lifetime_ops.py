"""How long things live (CA/Browser Forum Baseline Requirements, RFC 6749)."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from .. import lifetimes
from .op import BadInput, Inputs, Op, integer, moment, number


def _moment(inputs: Inputs, key: str) -> datetime:
    found = moment(inputs, key)
    if found is None:
        raise BadInput(f"“{key}” must be a moment like 2026-06-01T00:00:00Z")
    return found


def _public_tls(inputs: Inputs) -> dict[str, Any]:
    found = lifetimes.public_tls(_moment(inputs, "not_before"), _moment(inputs, "not_after"))
    return {
        "validity_seconds": found.seconds,
        "days_counted": found.days,
        "maximum_days": found.most,
        "within_limit": found.within_limit,
    }


def _access_token(inputs: Inputs) -> dict[str, Any]:
    """Counted from the moment the token was received (RFC 6749 §5.1)."""
    ends = number(inputs, "received_at") + number(inputs, "expires_in")
    left = ends - number(inputs, "now")
    return {
        "expires_at": ends,
        "seconds_left": left,
        "usable": left > number(inputs, "safety_seconds", 0),
    }


def _code(inputs: Inputs) -> dict[str, Any]:
    lifetime = (
        lifetimes.LONGEST_CODE
        if inputs.get("lifetime_seconds") is None
        else integer(inputs, "lifetime_seconds")
    )
    if inputs.get("already_used") is True:
        return {
            "usable": False,
            "reason": "used before; what was issued for it should be revoked (RFC 6749 §4.1.2)",
        }
    age = number(inputs, "now") - number(inputs, "issued_at")
    if age < 0:
        return {"usable": False, "reason": "issued in the future"}
    return {
        "usable": age <= lifetime,
        "reason": f"within {lifetime} s" if age <= lifetime else "expired",
    }


OPS = (
    Op(
        "public_tls_lifetime",
        "not_before, not_after",
        "CA/Browser Forum Baseline Requirements §6.3.2",
        _public_tls,
    ),
    Op(
        "access_token_usable",
        "received_at, expires_in, now, safety_seconds (0)",
        "RFC 6749 §5.1",
        _access_token,
    ),
    Op(
        "authorization_code_usable",
        "issued_at, now, already_used, lifetime_seconds (600)",
        "RFC 6749 §4.1.2",
        _code,
    ),
)
