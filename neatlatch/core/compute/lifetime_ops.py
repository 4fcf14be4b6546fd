"""How long things live (CA/Browser Forum Baseline Requirements, RFC 6749)."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from .. import lifetimes
from .op import BadInput, Given, Op, integer, moment, number


def _moment(given: Given, key: str) -> datetime:
    found = moment(given, key)
    if found is None:
        raise BadInput(f"“{key}” must be a moment like 2026-06-01T00:00:00Z")
    return found


def _public_tls(given: Given) -> dict[str, Any]:
    found = lifetimes.public_tls(_moment(given, "not_before"), _moment(given, "not_after"))
    return {
        "validity_seconds": found.seconds,
        "days_counted": found.days,
        "maximum_days": found.most,
        "within_limit": found.within_limit,
    }


def _access_token(given: Given) -> dict[str, Any]:
    """Counted from the moment the token was received (RFC 6749 §5.1)."""
    ends = number(given, "received_at") + number(given, "expires_in")
    left = ends - number(given, "now")
    return {
        "expires_at": ends,
        "seconds_left": left,
        "usable": left > number(given, "safety_seconds", 0),
    }


def _code(given: Given) -> dict[str, Any]:
    lifetime = (
        lifetimes.LONGEST_CODE
        if given.get("lifetime_seconds") is None
        else integer(given, "lifetime_seconds")
    )
    if given.get("already_used") is True:
        return {
            "usable": False,
            "reason": "used before; what was issued for it should be revoked (RFC 6749 §4.1.2)",
        }
    age = number(given, "now") - number(given, "issued_at")
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
