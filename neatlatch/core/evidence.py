"""What a test saw: rungs, exchanges and failures, with every secret masked.

The ladder in ``wire`` makes these, the diagnosis reads them, the page draws them.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, field
from enum import StrEnum
from typing import Any
from urllib.parse import parse_qsl, quote, urlsplit, urlunsplit

MASK = "•••"
_BODY_LIMIT = 4000
# Characters of a body that are masked at all; JSON is taken apart where it is not much longer.
_LOOKED_AT, _LONGEST_JSON = 65_536, 262_144
# Header fields and parameters that carry secrets, or lead to them (RFC 6749, RFC 6750, RFC 7592,
# RFC 6265).
_SECRET_HEADERS = frozenset(
    {"authorization", "proxy-authorization", "cookie", "set-cookie", "x-api-key"}
)
_SECRET_NAMES = frozenset(
    {
        "access_token",
        "refresh_token",
        "id_token",
        "client_secret",
        "code",
        "code_verifier",
        "state",
        "password",
        "assertion",
        "client_assertion",
        "registration_access_token",
        "token",
        "api_key",
        "apikey",
        "secret",
        "device_code",
    }
)


class Rung(StrEnum):
    """The steps of the ladder from the ground up."""

    FIND = "find"
    REACH = "reach"
    SECURE = "secure"
    SIGN_IN = "sign_in"
    ALLOWED = "allowed"
    WORK = "work"


RUNGS = tuple(Rung)
RUNG_LABELS = {
    Rung.FIND: "Find",
    Rung.REACH: "Reach",
    Rung.SECURE: "Secure",
    Rung.SIGN_IN: "Sign in",
    Rung.ALLOWED: "Allowed",
    Rung.WORK: "Work",
}


class CauseClass(StrEnum):
    """Why a test failed, roughly (DOMAIN §10)."""

    ROUTE = "road"  # as samples have been stored since the first version
    TLS = "tls"
    CREDENTIAL = "credential"
    RIGHT = "right"
    PACE = "pace"
    THEIRS = "theirs"
    UNKNOWN = "unknown"


@dataclass(frozen=True)
class Exchange:
    """A request and its answer, masked. Times in milliseconds, sizes in octets.

    ``status`` is ``None`` where no answer came, or where the protocol has none; ``error`` then says
    why, or is its answer in a word.
    """

    method: str
    url: str
    request_headers: tuple[tuple[str, str], ...]
    request_body: str
    status: int | None
    response_headers: tuple[tuple[str, str], ...] = ()
    response_body: str = ""
    response_size: int = 0
    ms: float = 0.0
    error: str = ""


@dataclass(frozen=True)
class Failure:
    """Why a rung failed, for the diagnosis.

    ``kind`` says where the answer came from: resolver, socket, tls, token, authorize, resource,
    work, setting or time. ``code`` is the standard's own code or our short name of it. ``scheme``
    is that of a further endpoint, where it was not the connection's own way in that was refused.
    """

    kind: str
    code: str
    cause: CauseClass
    detail: str = ""
    status: int | None = None
    scopes: tuple[str, ...] = ()
    scheme: str = ""


@dataclass(frozen=True)
class RungResult:
    """One rung: how it went, in one sentence, with its evidence.

    ``skipped``: there was nothing to try, which is no failure.
    """

    rung: Rung
    passed: bool
    says: str
    ms: float
    tries: int = 1
    facts: Mapping[str, Any] = field(default_factory=dict)
    exchanges: tuple[Exchange, ...] = ()
    failure: Failure | None = None
    skipped: bool = False

    @property
    def blip(self) -> bool:
        """It passed, but only when repeated."""
        return self.passed and self.tries > 1


def as_dict(result: RungResult) -> dict[str, Any]:
    """Plain values, for keeping and for the page."""
    return asdict(result)


def mask(text: str, secrets: Iterable[str]) -> str:
    """Replace every known secret in a text, longest first, also where it stands escaped (RFC 3986
    §2.1).
    """
    for secret in sorted({secret for secret in secrets if len(secret) >= 4}, key=len, reverse=True):
        for form in {secret, quote(secret, safe=""), quote(secret)}:
            text = text.replace(form, MASK)
    return text


def mask_headers(
    headers: Iterable[tuple[str, str]], secrets: Iterable[str]
) -> tuple[tuple[str, str], ...]:
    """Header fields with secrets masked; of ``Authorization`` the scheme stays."""
    known = tuple(secrets)
    shown = []
    for name, value in headers:
        if name.lower() in _SECRET_HEADERS:
            scheme, space, _ = value.partition(" ")
            value = f"{scheme} {MASK}" if space and name.lower().endswith("authorization") else MASK
        elif name.lower() == "location":
            value = mask_url(value, known)
        shown.append((name, mask(value, known)))
    return tuple(shown)


def _is_secret_name(name: str) -> bool:
    return name.lower() in _SECRET_NAMES


def mask_url(url: str, secrets: Iterable[str]) -> str:
    """An address with the secret parameters of its query masked."""
    parts = urlsplit(url)
    if parts.query:
        query = "&".join(
            f"{quote(key)}={MASK if _is_secret_name(key) else quote(value, safe='/:')}"
            for key, value in parse_qsl(parts.query, keep_blank_values=True)
        )
        url = urlunsplit(parts._replace(query=query))
    return mask(url, secrets)


# A value in quotes goes to its end, any other to the next space: rather too much than too little.
_NAMED = re.compile(
    rf"""(?i)\b({"|".join(sorted(_SECRET_NAMES))})(["']?\s*[=:]\s*)"""
    r"""("(?:[^"\\]++|\\.)*+"(?=[\s,;}\])>&]|$)|'[^']*+'(?=[\s,;}\])>&]|$)|\S+)"""
)
# A tag begun anew before it ended is another tag, and of each kind of quote only the last can want
# its other: each character is looked at a few times.
_INPUT = re.compile(r"""(?i)<input\b(?:[^<>"']++|"[^"]*+"|'[^']*+')*+>?""")
_HIDDEN = re.compile(r"(?i)\btype\s*=\s*[\"']?hidden")
_VALUE = re.compile(r"(?i)(\bvalue\s*=\s*)(\"[^\"]*\"?|'[^']*'?|[^\s>]+)")


def mask_body(body: str, content_type: str, secrets: Iterable[str]) -> str:
    """A body with secrets masked by their names and by their values, cut at 4,000 characters.

    Only its beginning is looked at, because no more is shown.
    """
    known = tuple(secrets)
    whole = len(body) <= (
        _LONGEST_JSON if content_type.split(";")[0].strip().lower().endswith("json") else _LOOKED_AT
    )
    shown = _mask_start(body if whole else body[:_LOOKED_AT], content_type, known)
    if not whole:
        # What was cut in its middle cannot be known as what it is: the end of the beginning is not
        # shown, however short masking has made it.
        shown = shown[: max(0, len(shown) - max(map(len, known), default=0))]
    return (
        shown
        if len(body) <= _BODY_LIMIT and len(shown) <= _BODY_LIMIT
        else shown[:_BODY_LIMIT] + f"\n… {len(body) - _BODY_LIMIT} characters more"
    )


def _mask_start(body: str, content_type: str, secrets: tuple[str, ...]) -> str:
    media = content_type.split(";")[0].strip().lower()
    if media == "application/x-www-form-urlencoded":
        body = "&".join(
            f"{quote(key)}={MASK if _is_secret_name(key) else quote(value, safe='/:')}"
            for key, value in parse_qsl(body, keep_blank_values=True)
        )
    elif media.endswith("json"):
        try:
            body = json.dumps(_mask_json(json.loads(body)), ensure_ascii=False, indent=1)
        except (ValueError, RecursionError):
            body = _mask_loose(body)
    else:
        body = _mask_loose(body)
    return mask(body, secrets)


def _mask_json(found: Any) -> Any:
    if isinstance(found, dict):
        return {
            key: MASK if _is_secret_name(str(key)) and isinstance(value, str) else _mask_json(value)
            for key, value in found.items()
        }
    return [_mask_json(item) for item in found] if isinstance(found, list) else found


def _mask_loose(body: str) -> str:
    """In text that is neither a form nor JSON, mask what follows a secret's name and the value of
    hidden fields.
    """
    return _INPUT.sub(_mask_hidden, _NAMED.sub(rf"\1\2{MASK}", body))


def _mask_hidden(tag: re.Match[str]) -> str:
    return _VALUE.sub(rf'\1"{MASK}"', tag[0]) if _HIDDEN.search(tag[0]) else tag[0]


def curl_line(
    method: str,
    url: str,
    headers: Iterable[tuple[str, str]] = (),
    body: str = "",
    *,
    kind: str = "",
    values: Mapping[str, str] | None = None,
    settings: Mapping[str, str] | None = None,
) -> str:
    """The call as a ``curl`` line for a shell, with the secret as a variable (``$TOKEN``,
    ``$PASSWORD`` …), never its value.

    ``kind`` is the scheme's (by default a bearer token); a signature of OAuth 1.0a cannot be made
    by ``curl``, so a variable stands for the header.
    """
    known, told = values or {}, settings or {}
    target, proof = _quoted(url), '-H "Authorization: Bearer $TOKEN"'
    if kind == "basic":
        proof = f'-u {_quoted(known.get("username", "") + ":")}"$PASSWORD"'
    elif kind == "key_pair":
        named = _quoted(f"{told.get('id_header', 'X-Key-Id')}: {known.get('key_id', '')}")
        proof = f'-H {named} -H "{told.get("secret_header", "X-Key-Secret")}: $KEY_SECRET"'
    elif kind == "certificate":
        proof = '--cert "$CERTIFICATE_FILE" --key "$KEY_FILE"'
    elif kind == "oauth1":
        proof = '-H "Authorization: $OAUTH1_HEADER"'
    elif kind == "api_key":
        name, placement = told.get("name", "X-Api-Key"), told.get("placement", "header")
        proof = {"header": f'-H "{name}: $API_KEY"', "cookie": f'-b "{name}=$API_KEY"'}.get(
            placement, ""
        )
        if placement == "query":
            target = _quoted(f"{url}{'&' if '?' in url else '?'}{name}=") + '"$API_KEY"'
    parts = ["curl -sS", f"-X {method}" if method != "GET" else "", target, proof]
    for name, value in headers:
        if name.lower() not in _SECRET_HEADERS | {
            "host",
            "content-length",
            "user-agent",
            "accept-encoding",
            "connection",
        }:
            parts.append(f"-H {_quoted(f'{name}: {value}')}")
    if body:
        parts.append(f"--data-raw {_quoted(body)}")
    return " ".join(part for part in parts if part)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"
