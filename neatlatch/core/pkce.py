"""Proof Key for Code Exchange (RFC 7636)."""

from __future__ import annotations

import hashlib
import hmac
import re
from dataclasses import dataclass

from .jose import b64

# RFC 7636 §4.1: code-verifier = 43*128unreserved
_VERIFIER = re.compile(r"[A-Za-z0-9\-._~]*")
SHORTEST, LONGEST = 43, 128
METHODS = ("S256", "plain")


@dataclass(frozen=True)
class PkceVerdict:
    """A yes or no with its reason."""

    holds: bool
    reason: str


def verifier_from(octets: bytes) -> str:
    """A code verifier from 32 to 96 random octets (RFC 7636 §4.1 recommends 32).

    Raises ``ValueError`` where the result would not be 43 to 128 characters long.
    """
    verifier = b64.encode(octets)
    verdict = verifier_syntax(verifier)
    if not verdict.holds:
        raise ValueError(verdict.reason)
    return verifier


def verifier_syntax(verifier: str) -> PkceVerdict:
    """Whether a code verifier is well formed (RFC 7636 §4.1)."""
    length = len(verifier)
    if length < SHORTEST:
        return PkceVerdict(False, f"{length} characters, {SHORTEST - length} too short")
    if length > LONGEST:
        return PkceVerdict(False, f"{length} characters, {length - LONGEST} too long")
    end = _VERIFIER.match(verifier)
    assert end is not None
    if end.end() != length:
        return PkceVerdict(False, f"{verifier[end.end()]!r} is not an unreserved character")
    return PkceVerdict(True, f"{length} characters, all unreserved")


def challenge(verifier: str, method: str = "S256") -> str:
    """The code challenge of a verifier (RFC 7636 §4.2).

    Raises ``ValueError`` for an unknown method or a verifier that is not ASCII.
    """
    if method == "plain":
        return verifier
    if method != "S256":
        raise ValueError(
            f"code_challenge_method {method!r} is not known; S256 and plain are (RFC 7636 §4.3)"
        )
    if not verifier.isascii():
        raise ValueError("a code verifier is ASCII (RFC 7636 §4.1)")
    return b64.encode(hashlib.sha256(verifier.encode("ascii")).digest())


def verify(verifier: str, expected: str, method: str = "S256") -> PkceVerdict:
    """Whether a verifier answers a challenge (RFC 7636 §4.6)."""
    syntax = verifier_syntax(verifier)
    if not syntax.holds:
        return syntax
    computed = challenge(verifier, method)
    if hmac.compare_digest(computed.encode(), expected.encode()):
        return PkceVerdict(True, "the challenge is the one this verifier gives")
    if computed == expected.rstrip("="):
        return PkceVerdict(
            False, "the challenge has no padding; a padded one is a different string"
        )
    return PkceVerdict(False, "this verifier gives another challenge")
