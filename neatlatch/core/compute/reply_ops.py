"""Replies of authorization servers and APIs (RFC 6749 §5, RFC 6750 §3, RFC 9110, and the RFCs
beside them).
"""

from __future__ import annotations

from typing import Any

from .. import replies
from .op import BadInput, Inputs, Op, integer, mapping, moment, optional_text, text, texts


def _reply(inputs: Inputs) -> dict[str, Any]:
    reading = replies.read(
        text(inputs, "endpoint"),
        integer(inputs, "status"),
        mapping(inputs, "headers"),
        inputs.get("body") or "",
        moment(inputs, "now"),
    )
    return {
        **reading.fields,
        "ok": reading.ok,
        "error": reading.error,
        "meaning": reading.meaning,
        "same_request_may_be_repeated": reading.may_repeat,
        "to_do": reading.to_do,
        "retry_after_seconds": reading.retry_after,
    }


def _authorization(inputs: Inputs) -> dict[str, Any]:
    found = replies.authorization_reply(
        text(inputs, "redirected_to"),
        text(inputs, "state_sent"),
        optional_text(inputs, "issuer_expected"),
        inputs.get("issuer_required") is True,
    )
    return {
        "accept": found.accept,
        "code": found.code,
        "error": found.error,
        "meaning": found.meaning,
        "may_try_later": found.may_try_later,
    }


def _challenges(inputs: Inputs) -> dict[str, Any]:
    found = replies.read_challenges(texts(inputs, "field_lines"))
    return {
        "challenges": [
            {
                "scheme": challenge.scheme,
                "params": dict(challenge.params),
                "token68": challenge.token68,
            }
            for challenge in found
        ]
    }


def _retry_after(inputs: Inputs) -> dict[str, Any]:
    delay = replies.retry_after(text(inputs, "value"), moment(inputs, "now"))
    return (
        {"delay_seconds": delay}
        if delay is not None
        else {"delay_seconds": None, "reason": "not a valid value: ignore it"}
    )


def _problem(inputs: Inputs) -> dict[str, Any]:
    found = replies.problem_details(
        integer(inputs, "status"), mapping(inputs, "headers"), text(inputs, "body")
    )
    if found is None:
        return {
            "problem_details": False,
            "reason": "media type is not application/problem+json, or the body is not an object",
        }
    return {
        "type": found.type,
        "title": found.title,
        "status": found.status,
        "detail": found.detail,
        "instance": found.instance,
        "extensions": dict(found.extensions),
        "note": found.note,
    }


def _device(inputs: Inputs) -> dict[str, Any]:
    interval = None if inputs.get("interval") is None else integer(inputs, "interval")
    if interval is not None and interval < 0:
        raise BadInput("“interval” must not be negative")
    waits, state = replies.device_poll_waits(interval, texts(inputs, "replies"))
    return {"wait_seconds_after_each_pending_reply": waits, "state": state}


OPS = (
    Op(
        "reply",
        (
            "endpoint (token | device_token | resource | revocation | introspection | "
            "registration), status, headers, body, now"
        ),
        "RFC 6749 §5, RFC 6750 §3, RFC 7009 §2.2, RFC 7591 §3.2, RFC 7662 §2.2, RFC 8628 §3.5",
        _reply,
    ),
    Op(
        "authorization_reply",
        "redirected_to, state_sent, issuer_expected (or null), issuer_required (false)",
        "RFC 6749 §4.1.2, RFC 9207 §2.4",
        _authorization,
    ),
    Op("www_authenticate", "field_lines: [text]", "RFC 9110 §11.2, §11.6.1", _challenges),
    Op("retry_after", "value, now", "RFC 9110 §10.2.3", _retry_after),
    Op("problem_details", "status, headers, body", "RFC 9457 §3", _problem),
    Op(
        "device_poll_waits",
        "interval (or null), replies: [error code | ok]",
        "RFC 8628 §3.2, §3.5",
        _device,
    ),
)
