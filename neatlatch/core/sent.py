"""What a test of a connection would send, request by request, worked out without sending anything.

Each request is made by the very functions that make it for a test, with a placeholder where a
secret or a token goes; so whatever changes a request shows here, also a setting that nothing else
compares.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from . import oauth2
from .addresses import joined_path
from .oauth2 import Request
from .probing import Piece
from .profiles import Operation, Profile, first_harmless, readings
from .schemes import CLIENT, CODE, JWT, OAUTH2, STREAM, Endpoint, Scheme
from .scopes import allows
from .sending import Credentials, NotComplete, with_credential

# A nonce and a moment that are the same each time, so that equal requests have equal signatures.
_NONCE, _MOMENT = "nonce", 0
_MARK = "TEST"
# It follows from everything else that is signed.
_SIGNATURE = re.compile(r'(oauth_signature=")[^"]*')


@dataclass(frozen=True)
class Sender:
    """What a connection brings along: its scheme, its values and the places it calls.

    ``held`` are the scopes it was granted, or the rights its account has; ``None``: not known.
    ``secrets`` are the keys of those it holds.
    """

    scheme: str
    values: Mapping[str, str]
    secrets: frozenset[str]
    scopes: frozenset[str] = frozenset()
    held: frozenset[str] | None = None


@dataclass(frozen=True)
class SentRequest:
    """A request as it would be sent, or why it would not be (``missing``)."""

    method: str = ""
    address: str = ""
    headers: Mapping[str, str] = field(default_factory=dict)
    body: str = ""
    missing: str = ""
    # Where the answer to the making has the ID that stands in the address.
    id_at: str = ""

    def as_plain(self) -> dict[str, Any]:
        """Return it as changes are told (:func:`changes.in_words`)."""
        request = f"{self.method} {self.address}".strip()
        header = {name: _SIGNATURE.sub(r"\1…", value) for name, value in self.headers.items()}
        return {
            "request": request,
            "header": header,
            "content": self.body,
            "ID at": self.id_at,
            "not sent": self.missing,
        }


def requests(profile: Profile, sender: Sender) -> dict[str, SentRequest]:
    """Return every request of a test by what it is for, in their order; empty: its
    scheme is gone.
    """
    scheme = profile.scheme(sender.scheme)
    if scheme is None:
        return {}
    found = {}
    if sender.scheme in OAUTH2:
        found["sign-in"] = _sign_in(scheme, sender)
    for endpoint in scheme.endpoints:
        found[f"call of {endpoint.label}"] = _further(endpoint, sender)
    if sender.scheme != STREAM:
        found |= _calls(profile, scheme, sender)
    return found


def _sign_in(scheme: Scheme, sender: Sender) -> SentRequest:
    try:
        return _shown(_token_request(scheme, sender))
    except ValueError as error:
        return SentRequest("POST", sender.values.get("token_endpoint", ""), missing=str(error))


def _token_request(scheme: Scheme, sender: Sender) -> Request:
    endpoint, values = sender.values.get("token_endpoint", ""), sender.values
    secret = _placeholder("client_secret") if "client_secret" in sender.secrets else ""
    client = oauth2.Client(
        values.get("client_id", ""), secret, values.get("client_sign_in", "client_secret_basic")
    )
    if sender.scheme == CODE:
        old = "ACCESS-TOKEN" if scheme.settings.get("renews_with") == "access" else ""
        return oauth2.refresh_request(endpoint, client, "REFRESH-TOKEN", old)
    if sender.scheme == JWT:
        return oauth2.assertion_request(endpoint, "ASSERTION", sender.scopes)
    assert sender.scheme == CLIENT
    return oauth2.client_credentials_request(endpoint, client, sender.scopes)


def _further(endpoint: Endpoint, sender: Sender) -> SentRequest:
    values = endpoint.own(sender.values)
    secrets = endpoint.own({key: _placeholder(key.rpartition(".")[2]) for key in sender.secrets})
    address = joined_path(values.get("api_base", ""), endpoint.harmless)
    return _sent_or_missing(
        oauth2.api_request("GET", address),
        Credentials(endpoint.kind, values, secrets, endpoint.settings),
    )


def _calls(profile: Profile, scheme: Scheme, sender: Sender) -> dict[str, SentRequest]:
    def may(operation: Operation) -> bool:
        return sender.held is None or allows(sender.held, operation.alternatives, profile.implies)

    def call(method: str, path: str, body: Mapping[str, Any] | None = None) -> SentRequest:
        address = joined_path(sender.values.get("api_base", ""), path)
        if sender.scheme in OAUTH2:
            return _shown(oauth2.api_request(method, address, "ACCESS-TOKEN", body))
        held = Credentials(
            sender.scheme,
            sender.values,
            {key: _placeholder(key) for key in sender.secrets},
            scheme.settings,
        )
        return _sent_or_missing(oauth2.api_request(method, address, "", body), held)

    found = {}
    harmless = profile.harmless_call()
    if sender.scheme in OAUTH2:
        harmless = first_harmless(harmless, profile.operations, may)
    if harmless is not None:
        found["harmless call"] = call("GET", harmless.path)
    elif sender.scheme not in OAUTH2:
        found["harmless call"] = call("GET", "")
    probe = profile.probe
    if probe is not None:
        # The application's own ID is known only afterwards; its name stands in its place.
        piece = replace(Piece(probe, _MARK), id="ID")
        if piece.may_be_made(profile.operations, may):
            found["making"] = call(probe.make_method, piece.path(probe.make_path), piece.body())
            if probe.look_path:
                found["look at what was made"] = call("GET", piece.path(probe.look_path))
            found["clearing away"] = replace(
                call(probe.clear_method, piece.path(probe.clear_path)), id_at=probe.id_at
            )
            return found
    for operation in readings(profile.operations, may):
        found[f"reading {operation.path}"] = call("GET", operation.path)
    return found


def _placeholder(key: str) -> str:
    return key.upper().replace("_", "-")


def _sent_or_missing(request: Request, held: Credentials) -> SentRequest:
    try:
        return _shown(with_credential(request, held, _NONCE, _MOMENT))
    except NotComplete as error:
        return replace(_shown(request), missing=str(error))


def _shown(request: Request) -> SentRequest:
    return SentRequest(request.method, request.url, dict(request.headers), request.body)
