"""Redirect URIs (RFC 6749 §3.1.2, RFC 8252 §7, RFC 9700 §2.1)."""

from __future__ import annotations

from typing import Any

from .. import redirects
from .op import BadInput, Given, Op, optional_text, text, texts


def _match(given: Given) -> dict[str, Any]:
    kind = given.get("client_type", "web")
    if kind not in ("web", "native"):
        raise BadInput("“client_type” must be web or native")
    found = redirects.match(texts(given, "registered"), optional_text(given, "presented"), kind)
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
    if given.get("presented") is not None:
        answer |= {
            "simple_string_equal": found.simple_string_equal,
            "rfc3986_equivalent": found.alike,
        }
    return answer


def _token_request(given: Given) -> dict[str, Any]:
    holds, reason = redirects.token_request(
        optional_text(given, "authorization_request"), optional_text(given, "token_request")
    )
    return {"match": holds, "reason": reason}


def _private_use(given: Given) -> dict[str, Any]:
    holds = redirects.private_use_scheme(text(given, "uri"))
    reason = (
        "contains a period" if holds else "a private-use scheme without a period SHOULD be rejected"
    )
    return {"acceptable": holds, "reason": reason}


def _lint(given: Given) -> dict[str, Any]:
    found = redirects.lint(text(given, "uri"))
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
