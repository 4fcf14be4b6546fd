"""Entropy and passwords, and facts of the standards that are asked for by their question (NIST SP
800-63B, RFC 6749, RFC 7636).
"""

from __future__ import annotations

from typing import Any

from .. import standing_facts, strength
from .op import BadInput, Inputs, Op, integer, text, texts


def _entropy(inputs: Inputs) -> dict[str, Any]:
    return {
        "bits": strength.entropy_bits(integer(inputs, "length"), integer(inputs, "alphabet_size"))
    }


def _min_length(inputs: Inputs) -> dict[str, Any]:
    return {
        "length": strength.min_length(integer(inputs, "bits"), integer(inputs, "alphabet_size"))
    }


def _password(inputs: Inputs) -> dict[str, Any]:
    used_as = text(inputs, "used_as")
    if used_as not in strength.SHORTEST:
        raise BadInput("“used_as” must be single or mfa")
    password = text(inputs, "password")
    blocklist = texts(inputs, "blocklist") if "blocklist" in inputs else ()
    found = strength.password(password, used_as, blocklist)  # type: ignore[arg-type]
    return {
        "acceptable": found.acceptable,
        "reason": found.reason,
        "code_points": found.code_points,
    }


def _fact(inputs: Inputs) -> dict[str, Any]:
    question = text(inputs, "question")
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
