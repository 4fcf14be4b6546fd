"""PKCE (RFC 7636)."""

from __future__ import annotations

from typing import Any

from .. import pkce
from ..jose import b64
from .op import BadInput, Inputs, Op, text


def _method(inputs: Inputs, unsaid: str) -> str:
    method = (
        unsaid if inputs.get("code_challenge_method") is None else inputs["code_challenge_method"]
    )
    if method not in pkce.METHODS:
        raise BadInput("“code_challenge_method” must be S256 or plain")
    return str(method)


def _challenge(inputs: Inputs) -> dict[str, Any]:
    return {
        "code_challenge": pkce.challenge(text(inputs, "code_verifier"), _method(inputs, "S256"))
    }


def _syntax(inputs: Inputs) -> dict[str, Any]:
    verdict = pkce.verifier_syntax(text(inputs, "code_verifier"))
    return {"valid": verdict.holds, "reason": verdict.reason}


def _verify(inputs: Inputs) -> dict[str, Any]:
    verdict = pkce.verify(
        text(inputs, "code_verifier"), text(inputs, "code_challenge"), _method(inputs, "plain")
    )
    return {"match": verdict.holds, "reason": verdict.reason}


def _base64url(inputs: Inputs) -> str:
    octets = inputs.get("octets")
    if not isinstance(octets, list) or not all(
        isinstance(octet, int) and 0 <= octet <= 255 for octet in octets
    ):
        raise BadInput("“octets” must be a list of whole numbers from 0 to 255")
    return b64.encode(bytes(octets))


OPS = (
    Op(
        "pkce_challenge", "code_verifier, code_challenge_method (S256)", "RFC 7636 §4.2", _challenge
    ),
    Op("pkce_verifier_syntax", "code_verifier", "RFC 7636 §4.1", _syntax),
    Op(
        "pkce_verify",
        "code_verifier, code_challenge, code_challenge_method (plain where it is not said)",
        "RFC 7636 §4.3, §4.6",
        _verify,
    ),
    Op("base64url_no_padding", "octets: [0..255]", "RFC 7636 App. A, RFC 4648 §5", _base64url),
)
