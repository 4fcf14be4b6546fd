"""An authorization request, judged (RFC 6749 §4.1.1, RFC 7636 §4.4.1, RFC 9700 §2.1,
RFC 8707 §2).
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from .. import redirects
from ..scopes import split
from .refusing import Fatal, RedirectedRefusal, RequestRefused

# A challenge by S256 is a SHA-256 in base64url: 43 characters (RFC 7636 §4.2).
_CHALLENGE = re.compile(r"[A-Za-z0-9_-]{43}")
LONGEST_STATE = 2000


@dataclass(frozen=True)
class RegisteredClient:
    """What the authority holds of a client.

    ``permitted``: its scopes; ``wants_consent``: those of them that only an administrator may
    consent to; ``consented``: those that one has consented to; ``audience``: whom its tokens are
    for.
    """

    client_id: str
    public: bool
    redirect_uris: tuple[str, ...]
    grants: frozenset[str]
    permitted: frozenset[str]
    wants_consent: frozenset[str]
    consented: frozenset[str]
    audience: str

    @property
    def allowed(self) -> frozenset[str]:
        """The scopes it can be given now."""
        return self.permitted - (self.wants_consent - self.consented)


@dataclass(frozen=True)
class AuthorizationRequest:
    """A request that may be put before a person.

    ``redirect_given``: the request named it, so that the token request must too (RFC 6749 §4.1.3).
    """

    redirect_uri: str
    redirect_given: bool
    scopes: frozenset[str]
    challenge: str
    state: str


def judge(params: Mapping[str, str], client: RegisteredClient | None) -> AuthorizationRequest:
    """Judge an authorization request.

    Raises :class:`Fatal` where it must not be sent back, :class:`RedirectedRefusal` where it is.

    PKCE with S256 is asked of every client, confidential or not (RFC 9700 §2.1.1).
    """
    if client is None:
        raise Fatal("invalid_client", "This client is not registered here.")
    given = params.get("redirect_uri")
    matched = redirects.match(client.redirect_uris, given, "native" if client.public else "web")
    if not matched.match:
        raise Fatal(
            "invalid_request",
            f"The redirect URI is not one that is registered for this client. {matched.reason}",
        )
    redirect_uri, state = given or client.redirect_uris[0], params.get("state", "")

    def back(error: str, says: str) -> RedirectedRefusal:
        return RedirectedRefusal(redirect_uri, error, says, state[:LONGEST_STATE])

    if len(state) > LONGEST_STATE:
        raise back("invalid_request", "state is too long")
    if "authorization_code" not in client.grants:
        raise back(
            "unauthorized_client", "The authorization code grant is not switched on for this client"
        )
    if params.get("response_type") != "code":
        missing = "response_type" not in params
        raise back(
            "invalid_request" if missing else "unsupported_response_type",
            "response_type must be code",
        )
    if params.get("response_mode", "query") != "query":
        raise back("invalid_request", "response_mode must be query")
    challenge = params.get("code_challenge", "")
    if not challenge:
        raise back("invalid_request", "code_challenge is required (RFC 7636 §4.4.1)")
    if params.get("code_challenge_method", "plain") != "S256":
        raise back("invalid_request", "code_challenge_method must be S256 (RFC 7636 §4.4.1)")
    if not _CHALLENGE.fullmatch(challenge):
        raise back("invalid_request", "code_challenge is no SHA-256 in base64url (RFC 7636 §4.2)")
    try:
        check_resource(params, client)
        scopes = choose_scopes(params.get("scope"), client)
    except RequestRefused as refused:
        raise back(refused.error, refused.says) from refused
    return AuthorizationRequest(redirect_uri, given is not None, scopes, challenge, state)


def check_resource(params: Mapping[str, str], client: RegisteredClient) -> None:
    """Hold ``resource`` to the one API the client is registered for (RFC 8707 §2).

    Raises :class:`RequestRefused`.
    """
    if params.get("resource", client.audience) != client.audience:
        raise RequestRefused("invalid_target", f"Tokens of this client are for {client.audience}")


def choose_scopes(
    asked: str | None, client: RegisteredClient, granted: frozenset[str] | None = None
) -> frozenset[str]:
    """The scopes of a token: those asked for, or all that the client may have (RFC 6749 §3.3); on
    renewal no more than were granted (§6).

    Raises :class:`RequestRefused` with ``invalid_scope``, naming the first that cannot be given and
    why.
    """
    most = client.allowed if granted is None else client.allowed & granted
    if asked is None:
        if not most and client.permitted:
            raise RequestRefused(
                "invalid_scope", "No scope of this client has the consent that it requires"
            )
        return most
    scopes = split(asked)
    for scope in sorted(scopes - most):
        if scope not in client.permitted:
            says = "is not permitted for this client"
        elif scope not in client.allowed:
            says = "waits for an administrator's consent"
        else:
            says = "was not granted"
        raise RequestRefused(
            "invalid_scope",
            f"{scope} {says}"
            if re.fullmatch(r"[\x21\x23-\x5b\x5d-\x7e]+", scope)
            else "A scope holds characters that it must not",
        )
    return scopes
