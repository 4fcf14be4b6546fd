"""Entropy and passwords, and facts of the standards that are asked for by their question (NIST SP
800-63B, RFC 6749, RFC 7636).
"""

from __future__ import annotations

from typing import Any

from .. import standing_facts, strength
from .op import BadInput, Given, Op, integer, text, texts


def _entropy(given: Given) -> dict[str, Any]:
    return {
        "bits": strength.entropy_bits(integer(given, "length"), integer(given, "alphabet_size"))
    }


def _min_length(given: Given) -> dict[str, Any]:
    return {"length": strength.min_length(integer(given, "bits"), integer(given, "alphabet_size"))}


def _password(given: Given) -> dict[str, Any]:
    used_as = text(given, "used_as")
    if used_as not in strength.SHORTEST:
        raise BadInput("“used_as” must be single or mfa")
    password = text(given, "password")
    blocklist = texts(given, "blocklist") if "blocklist" in given else ()
    found = strength.password(password, used_as, blocklist)  # type: ignore[arg-type]
    return {
        "acceptable": found.acceptable,
        "reason": found.reason,
        "code_points": found.code_points,
    }


def _fact(given: Given) -> dict[str, Any]:
    question = text(given, "question")
    found = standing_facts.find(question)
    if found is None:
        raise BadInput("this question is not known; docs/compute.md lists those that are")
    return {"value": found.value, "source": found.source} | (
        {"note": found.note} if found.note else {}
    )


OPS = (
    Op(
        "entropy_bits",
        "length, alphabet_size",
        "arithmetic: length x log2(alphabet size)",
        _entropy,
    ),
    Op("min_length", "bits, alphabet_size", "arithmetic", _min_length),
    Op(
        "password_acceptable",
        "password, used_as (single | mfa), blocklist: [password]",
        "NIST SP 800-63B-4 §3.1.1.2",
        _password,
    ),
    Op("fact", "question", "the standard that its answer names", _fact),
)
