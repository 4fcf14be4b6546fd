"""Reading what an authorization server or an API answers, above all when it refuses.

Each endpoint has its own vocabulary: the token endpoint (RFC 6749 §5), the authorization endpoint
(§4.1.2), protected resources (RFC 6750 §3), revocation (RFC 7009), introspection (RFC 7662),
registration (RFC 7591), device (RFC 8628).
"""

from __future__ import annotations

import hmac
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from .challenges import Challenge, read_challenges

TOKEN_ERRORS = {  # RFC 6749 §5.2
    "invalid_request": "a required parameter is missing, repeated, unsupported or malformed",
    "invalid_client": (
        "client authentication failed: unknown client, no authentication, or unsupported method"
    ),
    "invalid_grant": "grant or refresh token is invalid, expired, "
    "revoked, was issued to another client, "
    "or the redirect URI does not match",
    "unauthorized_client": "this authenticated client may not use this grant type",
    "unsupported_grant_type": "the server does not support this grant type",
    "invalid_scope": "scope is invalid, unknown, malformed, or exceeds what was granted",
    "invalid_target": "the resource asked for is unknown, malformed or not allowed",  # RFC 8707 §2
    "use_dpop_nonce": "a nonce supplied by the server must be in the DPoP proof",  # RFC 9449 §8
    "invalid_dpop_proof": "the DPoP proof is not valid",  # RFC 9449 §5
    # RFC 7009 §2.2.1
    "unsupported_token_type": (
        "the server does not revoke tokens of this type: the token is still valid"
    ),
    # RFC 8628 §3.5
    "authorization_pending": "the user has not finished; poll again after the interval",
    "slow_down": (
        "poll again, with the interval raised by 5 seconds for this and all later requests"
    ),
    "expired_token": "device_code has expired; a new device authorization request is needed",
    "access_denied": "the person or the server refused",
}
AUTHORIZATION_ERRORS = {  # RFC 6749 §4.1.2.1
    "invalid_request": "a parameter is missing, invalid, repeated or malformed",
    "unauthorized_client": "the client may not ask for a code with this method",
    "access_denied": "the resource owner or the server refused",
    "unsupported_response_type": "the server does not support this response type",
    "invalid_scope": "scope is invalid, unknown or malformed",
    "server_error": "unexpected condition at the server (500 cannot be sent through a redirect)",
    "temporarily_unavailable": (
        "overloaded or under maintenance (503 cannot be sent through a redirect)"
    ),
    "login_required": "the person must sign in first",  # OpenID Connect Core 1.0 §3.1.2.6
    "consent_required": "the person, or an administrator, must consent first",
    "interaction_required": "the person must do something at the server first",
    "account_selection_required": "the person must choose an account first",
    "invalid_target": "the resource asked for is unknown, malformed or not allowed",  # RFC 8707 §2
}
RESOURCE_ERRORS = {  # RFC 6750 §3.1
    "invalid_request": (
        "parameter missing, repeated or malformed, or the token was sent in more than one way"
    ),
    "invalid_token": (
        "token is expired, revoked, malformed or otherwise invalid: get a new access token and "
        "retry"
    ),
    "insufficient_scope": (
        "token has too few privileges; a refresh with the same scope does not help"
    ),
    # RFC 9470 §3
    "insufficient_user_authentication": "the sign-in behind the token was too weak or too long ago",
}
REGISTRATION_ERRORS = {  # RFC 7591 §3.2.2
    "invalid_redirect_uri": "one or more redirect URIs are invalid",
    "invalid_client_metadata": "one of the client's fields is invalid",
    "invalid_software_statement": "the software statement is invalid",
    "unapproved_software_statement": "the software statement is not approved by this server",
}
_TO_DO = {
    "invalid_grant": "a new grant is needed",
    "use_dpop_nonce": "repeat with a new proof that holds the nonce",
    "invalid_token": "get a new access token, then try again",
    "insufficient_scope": "ask for the scope and sign in again",
}
# Answers after which the very same request may be sent again, later.
_REPEATABLE_ERRORS = ("temporarily_unavailable", "authorization_pending", "slow_down")
_REPEATABLE_STATUS = (429, 503)


@dataclass(frozen=True)
class Reading:
    """What a reply says. ``fields`` holds what the endpoint gave: tokens, flags, scopes."""

    ok: bool
    error: str | None
    meaning: str
    may_repeat: bool = False
    to_do: str | None = None
    retry_after: float | None = None
    description: str | None = None
    fields: Mapping[str, Any] = field(default_factory=dict)


def header(headers: Mapping[str, str], name: str) -> str | None:
    """A header field's value by its name, which knows no case (RFC 9110 §5.1)."""
    wanted = name.lower()
    return next((value for key, value in headers.items() if key.lower() == wanted), None)


def read(
    endpoint: str, status: int, headers: Mapping[str, str], body: str, now: datetime | None = None
) -> Reading:
    """Read the reply of an ``endpoint``: token, device_token, resource, revocation, introspection
    or registration.

    ``now`` (aware) is only needed where ``Retry-After`` holds a date. Raises ``ValueError`` for an
    unknown endpoint.
    """
    readers = {
        "token": _token,
        "device_token": _token,
        "resource": _resource,
        "revocation": _revocation,
        "introspection": _introspection,
        "registration": _registration,
    }
    if endpoint not in readers:
        raise ValueError(f"endpoint {endpoint!r} is not known; {', '.join(readers)} are")
    wait = None
    if (value := header(headers, "Retry-After")) is not None:
        wait = retry_after(value, now)
    return readers[endpoint](status, headers, body, wait)


def _object(body: str) -> dict[str, Any] | None:
    try:
        found = json.loads(body, parse_constant=_no_number)
        # Half a surrogate pair can be written as an escape, and then neither stored nor sent
        # (RFC 8259 §8.2).
        if "\\u" in body:
            found = json.loads(json.dumps(found, ensure_ascii=False).encode("utf-8", "replace"))
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None


def _no_number(word: str) -> float:
    """NaN and Infinity are no JSON (RFC 8259 §6), though Python reads them."""
    raise ValueError(f"{word} is no number in JSON")


def _text(values: Mapping[str, Any] | None, key: str) -> str | None:
    value = (values or {}).get(key)
    return value if isinstance(value, str) and value else None


def _refusal(
    status: int, headers: Mapping[str, str], body: str, wait: float | None, known: Mapping[str, str]
) -> Reading:
    """A reply that is not a success, by its error code where it has one and else by its status."""
    found = _object(body)
    error = _text(found, "error")
    if status == 429:
        meaning, to_do = "too many requests", "wait at least the Retry-After time"
    elif error is None and status >= 500:
        meaning, to_do = "server error without an OAuth error object", None
    elif error is None:
        meaning, to_do = f"refused with status {status} and no OAuth error object", None
    else:
        meaning, to_do = known.get(error, f"the server's own code {error!r}"), _TO_DO.get(error)
    fields: dict[str, Any] = {}
    if (nonce := header(headers, "DPoP-Nonce")) is not None:
        fields["dpop_nonce"] = nonce
    may_repeat = error in _REPEATABLE_ERRORS or status in _REPEATABLE_STATUS
    return Reading(
        False, error, meaning, may_repeat, to_do, wait, _text(found, "error_description"), fields
    )


def _token(status: int, headers: Mapping[str, str], body: str, wait: float | None) -> Reading:
    """RFC 6749 §5.1 and §5.2."""
    if status != 200:
        return _refusal(status, headers, body, wait, TOKEN_ERRORS)
    found = _object(body)
    if found is None:
        return Reading(False, None, "the answer is not a JSON object")
    for needed in ("access_token", "token_type"):
        if _text(found, needed) is None:
            return Reading(False, None, f"{needed} is REQUIRED")
    expires = found.get("expires_in")
    if isinstance(expires, str) and expires.isascii() and expires.isdigit() and len(expires) < 20:
        expires = int(expires)  # some servers send the number as a string
    if isinstance(expires, bool) or not isinstance(expires, int | float) or expires < 0:
        expires = None
    fields = {
        "access_token": found["access_token"],
        "token_type": found["token_type"],
        "expires_in": expires,
        "refresh_token": _text(found, "refresh_token"),
        "scope": _text(found, "scope"),
    }
    return Reading(True, None, "a token was issued", fields=fields)


def _resource(status: int, headers: Mapping[str, str], body: str, wait: float | None) -> Reading:
    """RFC 6750 §3."""
    if status < 400:
        return Reading(True, None, "allowed")
    challenges = read_challenges([header(headers, "WWW-Authenticate") or ""])
    bearer = next((challenge for challenge in challenges if challenge.scheme == "bearer"), None)
    params = bearer.params if bearer else {}
    error = params.get("error")
    fields: dict[str, Any] = {}
    if scopes := params.get("scope"):
        fields["required_scopes"] = scopes.split()
    if error is not None:
        meaning = RESOURCE_ERRORS.get(error, f"the server's own code {error!r}")
    elif status == 401 and bearer is not None:
        meaning = "no credentials were sent: no error code is given"
    elif status == 429:
        meaning = "too many requests"
    else:
        meaning = STATUS_MEANINGS.get(
            status, "server error" if status >= 500 else f"refused with status {status}"
        )
    may_repeat = status in _REPEATABLE_STATUS
    return Reading(
        False,
        error,
        meaning,
        may_repeat,
        _TO_DO.get(error or ""),
        wait,
        params.get("error_description"),
        fields,
    )


def _revocation(status: int, headers: Mapping[str, str], body: str, wait: float | None) -> Reading:
    """RFC 7009 §2.2."""
    if status == 200:
        return Reading(True, None, "the token is revoked or was already invalid; both are 200")
    return _refusal(status, headers, body, wait, TOKEN_ERRORS)


def _introspection(
    status: int, headers: Mapping[str, str], body: str, wait: float | None
) -> Reading:
    """RFC 7662 §2.2 and §2.3."""
    if status != 200:
        return _refusal(status, headers, body, wait, TOKEN_ERRORS)
    found = _object(body)
    if found is None or not isinstance(found.get("active"), bool):
        return Reading(False, None, "active is REQUIRED, and true or false")
    if not found["active"]:
        return Reading(
            True,
            None,
            (
                "token is not active (unknown, expired, revoked, or not for this caller to "
                "know); not an error reply"
            ),
            fields={"active": False},
        )
    fields = {**found, "scopes": (_text(found, "scope") or "").split()}
    return Reading(True, None, "token is active", fields=fields)


def _registration(
    status: int, headers: Mapping[str, str], body: str, wait: float | None
) -> Reading:
    """RFC 7591 §3.2 and RFC 7592 §3."""
    if status in (200, 201):
        found = _object(body)
        if found is None or _text(found, "client_id") is None:
            return Reading(False, None, "client_id is REQUIRED")
        return Reading(True, None, "the client is registered", fields=found)
    return _refusal(status, headers, body, wait, {**TOKEN_ERRORS, **REGISTRATION_ERRORS})


STATUS_MEANINGS = {  # RFC 9110 §15
    400: "the request is malformed",
    401: "no valid credential",
    403: "the credential is known, but has not the right",
    404: "nothing is there, or the caller may not know of it",
    405: "this method is not allowed there",
    410: "what was there is gone for good",
    407: "the proxy requires its own credential",
    408: "the server waited too long for the request",
    415: "the server does not take this kind of content",
    422: "the content is understood, but not acceptable",
    429: "too many requests",  # RFC 6585 §4
    500: "the server failed",
    502: "a server in between got no good answer",
    503: "the server is not available now",
    504: "a server in between waited too long",
}


@dataclass(frozen=True)
class AuthorizationReply:
    """What came back to the redirect URI. Not ``accept``ed: discard it."""

    accept: bool
    code: str | None
    error: str | None
    meaning: str
    description: str | None = None
    may_try_later: bool = False


def authorization_reply(
    redirected_to: str,
    state_sent: str,
    issuer_expected: str | None = None,
    issuer_required: bool = False,
) -> AuthorizationReply:
    """Read the address a person came back with (RFC 6749 §4.1.2, state §10.12, ``iss`` RFC 9207
    §2.4).

    ``issuer_required``: the server's metadata says it always sends ``iss``.
    """
    address = urlsplit(redirected_to)
    pairs = parse_qsl(address.query, keep_blank_values=True)
    if not any(name in ("code", "error", "state") for name, _ in pairs):
        # Errors of other response types come in the fragment (RFC 6749 §4.2.2.1), which a page can
        # pass on. A code never does.
        pairs += [
            (name, value)
            for name, value in parse_qsl(address.fragment, keep_blank_values=True)
            if name != "code"
        ]
    values = dict(pairs)
    if len(values) != len(pairs):
        return AuthorizationReply(
            False, None, None, "a parameter occurs twice: drop the reply (RFC 6749 §3.1)"
        )
    if not hmac.compare_digest(values.get("state", "").encode(), state_sent.encode()):
        return AuthorizationReply(False, None, None, "state does not match: drop the reply")
    issuer = values.get("iss")
    if issuer_expected is not None and issuer is not None and issuer != issuer_expected:
        return AuthorizationReply(
            False, None, None, "iss does not match the expected issuer (mix-up)"
        )
    if issuer_expected is not None and issuer is None and issuer_required:
        return AuthorizationReply(
            False, None, None, "iss is missing, and this issuer always sends it (mix-up)"
        )
    if error := values.get("error"):
        meaning = AUTHORIZATION_ERRORS.get(error, f"the server's own code {error!r}")
        return AuthorizationReply(
            True,
            None,
            error,
            meaning,
            values.get("error_description"),
            error == "temporarily_unavailable",
        )
    if not values.get("code"):
        return AuthorizationReply(False, None, None, "there is neither a code nor an error in it")
    return AuthorizationReply(True, values["code"], None, "a code was issued")


def retry_after(value: str, now: datetime | None) -> float | None:
    """Seconds to wait by a ``Retry-After`` value, never below 0 (RFC 9110 §10.2.3).

    ``None``: not a valid value, ignore it. A date needs ``now`` (aware).
    """
    text = value.strip()
    if text.isascii() and text.isdigit():
        return int(text)
    try:
        moment = parsedate_to_datetime(text)
    except (ValueError, TypeError, IndexError):
        return None
    if now is None:
        return None
    if moment.tzinfo is None:
        moment = moment.replace(tzinfo=UTC)
    return max(0.0, (moment - now).total_seconds())


@dataclass(frozen=True)
class Problem:
    """Problem details of an HTTP API (RFC 9457 §3)."""

    type: str
    title: str | None
    status: int
    detail: str | None
    instance: str | None
    extensions: Mapping[str, Any]
    note: str | None = None


def problem_details(status: int, headers: Mapping[str, str], body: str) -> Problem | None:
    """Read problem details; ``None`` where the media type is another (RFC 9457 §3).

    The reply's own status counts (§3.1.2).
    """
    media = (header(headers, "Content-Type") or "").split(";")[0].strip().lower()
    found = _object(body)
    if media != "application/problem+json" or found is None:
        return None
    known = ("type", "title", "status", "detail", "instance")
    note = None
    if isinstance(found.get("status"), int) and found["status"] != status:
        note = "the member is advisory; the status of the reply counts"
    return Problem(
        _text(found, "type") or "about:blank",
        _text(found, "title"),
        status,
        _text(found, "detail"),
        _text(found, "instance"),
        {key: value for key, value in found.items() if key not in known},
        note,
    )


def device_poll_waits(interval: int | None, replies: Sequence[str]) -> tuple[list[int], str]:
    """Seconds to wait after each pending reply, and how it ended (RFC 8628 §3.2 and §3.5; 5 s
    by default).
    """
    wait = 5 if interval is None else interval
    waits: list[int] = []
    for reply in replies:
        if reply == "slow_down":
            wait += 5
        elif reply != "authorization_pending":
            return waits, "authorized" if reply == "ok" else reply
        waits.append(wait)
    return waits, "pending"


__all__ = [
    "AuthorizationReply",
    "Challenge",
    "Problem",
    "Reading",
    "authorization_reply",
    "device_poll_waits",
    "header",
    "problem_details",
    "read",
    "read_challenges",
    "retry_after",
]
