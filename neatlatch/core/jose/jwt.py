"""JSON Web Tokens: reading and judging claims (RFC 7519 §4.1), and the assertion that a client
signs (RFC 7523).
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes

from . import jws, signing


@dataclass(frozen=True)
class ClaimsVerdict:
    """Whether claims may be gone by at a moment, and why not."""

    valid: bool
    reason: str


def judge(
    claims: Mapping[str, Any],
    now: float,
    leeway: float = 0,
    issuer: str | None = None,
    audience: str | None = None,
) -> ClaimsVerdict:
    """Judge the registered claims.

    ``now`` and the dates are seconds since 1970, ``leeway`` a few seconds for clocks that differ.

    On and after ``exp`` a token must not be taken (RFC 7519 §4.1.4); before ``nbf`` neither
    (§4.1.5); ``aud`` must name us (§4.1.3).
    """
    for name in ("exp", "nbf", "iat"):
        if name in claims and (
            isinstance(claims[name], bool) or not isinstance(claims[name], int | float)
        ):
            return ClaimsVerdict(False, f"{name} is not a number")
    if "exp" in claims and now >= claims["exp"] + leeway:
        return ClaimsVerdict(False, "it has expired (exp)")
    if "nbf" in claims and now < claims["nbf"] - leeway:
        return ClaimsVerdict(False, "it is not valid yet (nbf)")
    if issuer is not None and claims.get("iss") != issuer:
        return ClaimsVerdict(False, "it is from another issuer (iss)")
    if audience is not None:
        named = claims.get("aud")
        if audience not in (named if isinstance(named, list) else [named]):
            return ClaimsVerdict(False, "it is for another audience (aud)")
    return ClaimsVerdict(True, "all claims hold")


@dataclass(frozen=True)
class Decoded:
    """A token decoded to be looked at; nothing in it is trusted."""

    header: Mapping[str, Any]
    claims: Mapping[str, Any]
    ends: datetime | None


def decode(token: str) -> Decoded:
    """Decode header and claims without verifying. Raises :class:`jws.BadToken`."""
    parts = jws.take_apart(token)
    try:
        claims = json.loads(parts.payload)
    except (ValueError, RecursionError) as error:
        raise jws.BadToken("its payload is not JSON, so it is no JWT") from error
    if not isinstance(claims, dict):
        raise jws.BadToken("its payload is not a JSON object, so it is no JWT")
    exp, ends = claims.get("exp"), None
    if isinstance(exp, int | float) and not isinstance(exp, bool):
        try:
            ends = datetime.fromtimestamp(exp, UTC)
        except (ValueError, OverflowError, OSError):
            ends = None
    return Decoded(parts.header, claims, ends)


def assertion(
    key: PrivateKeyTypes,
    issuer: str,
    subject: str,
    audience: str,
    now: datetime,
    jti: str,
    *,
    life: int = 120,
    thumbprint: str = "",
    scope: str = "",
) -> str:
    """The JWT that a client signs to be given a token (RFC 7523 §3): short-lived, for one audience,
    used once.

    ``life`` in seconds; ``thumbprint`` is the certificate's ``x5t#S256`` (RFC 7515 §4.1.8), by
    which the server finds the key. Raises :class:`jwk.BadKey`.
    """
    algorithm = jws.algorithm_for(key)
    at = int(now.timestamp())
    header = {"alg": algorithm, "typ": "JWT"} | ({"x5t#S256": thumbprint} if thumbprint else {})
    claims: dict[str, Any] = {
        "iss": issuer,
        "sub": subject,
        "aud": audience,
        "iat": at,
        "nbf": at - 5,
        "exp": at + life,
        "jti": jti,
    }
    if scope:
        claims["scope"] = scope
    return signing.sign(header, claims, signing.signer(key))
