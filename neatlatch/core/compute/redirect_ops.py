"""Redirect URIs (RFC 6749 §3.1.2, RFC 8252 §7, RFC 9700 §2.1)."""

from __future__ import annotations

from typing import Any

from .. import redirects
from .op import BadInput, Inputs, Op, optional_text, text, texts


def _match(inputs: Inputs) -> dict[str, Any]:
    kind = inputs.get("client_type", "web")
    if kind not in ("web", "native"):
        raise BadInput("“client_type” must be web or native")
    found = redirects.match(texts(inputs, "registered"), optional_text(inputs, "presented"), kind)
    answer: dict[str, Any] = {
        "match": found.match,
        "reason_code": found.reason_code,
        "reason": found.reason,
        "nearest": found.nearest,
        "differences": [
            {"piece": difference.piece, "says": difference.says} for difference in found.differences
        ],
        "warnings": list(found.warnings),
    }
    if inputs.get("presented") is not None:
        answer |= {
            "simple_string_equal": found.simple_string_equal,
            "rfc3986_equivalent": found.alike,
        }
    return answer


def _token_request(inputs: Inputs) -> dict[str, Any]:
    holds, reason = redirects.token_request(
        optional_text(inputs, "authorization_request"), optional_text(inputs, "token_request")
    )
    return {"match": holds, "reason": reason}


def _private_use(inputs: Inputs) -> dict[str, Any]:
    holds = redirects.private_use_scheme(text(inputs, "uri"))
    reason = (
        "contains a period" if holds else "a private-use scheme without a period SHOULD be rejected"
    )
    return {"acceptable": holds, "reason": reason}


def _lint(inputs: Inputs) -> dict[str, Any]:
    found = redirects.lint(text(inputs, "uri"))
    return {
        "acceptable": not any(lint.grave for lint in found),
        "findings": [
            {"code": lint.code, "says": lint.says, "grave": lint.grave, "source": lint.source}
            for lint in found
        ],
    }


OPS = (
    Op(
        "redirect_uri_match",
        "registered: [uri], presented (null: left out), client_type (web | native)",
        "RFC 6749 §3.1.2.3, RFC 8252 §7.3, RFC 9700 §2.1",
        _match,
    ),
    Op(
        "token_request_redirect_uri",
        "authorization_request, token_request (null: left out)",
        "RFC 6749 §4.1.3",
        _token_request,
    ),
    Op("private_use_scheme", "uri", "RFC 8252 §7.1, §8.4", _private_use),
    Op("redirect_uri_lint", "uri", "RFC 6749 §3.1.2, RFC 8252 §7.1, RFC 9700 §4.1", _lint),
)
