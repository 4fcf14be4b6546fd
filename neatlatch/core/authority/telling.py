"""What an authorization server tells: claims of its tokens (RFC 9068 §2), introspection (RFC 7662
§2.2), metadata (RFC 8414 §2), registration (RFC 7591 §3.2.1).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from ..registration import ClientMetadata
from ..scopes import joined

METHODS = ("client_secret_basic", "client_secret_post", "none")
GRANTS = ("authorization_code", "refresh_token", "client_credentials")


@dataclass(frozen=True)
class AccessToken:
    """An access token as it is kept.

    Moments are seconds since 1970. ``subject`` is the person, or the client where it acts for
    itself.
    """

    issuer: str
    client_id: str
    subject: str
    audience: str
    scopes: frozenset[str]
    issued: int
    ends: int
    jti: str
    auth_time: int | None = None
    username: str = ""


def claims(token: AccessToken, status: tuple[str, int] | None = None) -> dict[str, Any]:
    """The claims of a JWT access token (RFC 9068 §2.2).

    ``status``: address of the status list and the token's place in it (Token Status List §6.1).
    """
    found: dict[str, Any] = {
        "iss": token.issuer,
        "exp": token.ends,
        "aud": token.audience,
        "sub": token.subject,
        "client_id": token.client_id,
        "iat": token.issued,
        "jti": token.jti,
        "scope": joined(token.scopes),
    }
    if token.auth_time is not None:
        found["auth_time"] = token.auth_time
    if status is not None:
        found["status"] = {"status_list": {"uri": status[0], "idx": status[1]}}
    return found


INACTIVE: Mapping[str, Any] = {"active": False}


def introspection(token: AccessToken, token_type: str = "Bearer") -> dict[str, Any]:
    """The answer for a token that is good (RFC 7662 §2.2).

    For any other it is :data:`INACTIVE` and nothing more, whatever the reason.
    """
    found = {
        "active": True,
        "scope": joined(token.scopes),
        "client_id": token.client_id,
        "token_type": token_type,
        "iat": token.issued,
        "sub": token.subject,
        "aud": token.audience,
        "iss": token.issuer,
        "jti": token.jti,
    }
    if token.ends:
        found["exp"] = token.ends
    if token.username:
        found["username"] = token.username
    return found


def metadata(issuer: str, scopes: Iterable[str]) -> dict[str, Any]:
    """Authorization server metadata (RFC 8414 §2, RFC 9207 §3)."""
    return {
        "issuer": issuer,
        "authorization_endpoint": f"{issuer}/authorize",
        "token_endpoint": f"{issuer}/token",
        "jwks_uri": f"{issuer}/jwks",
        "registration_endpoint": f"{issuer}/register",
        "introspection_endpoint": f"{issuer}/introspect",
        "introspection_endpoint_auth_methods_supported": [
            "client_secret_basic",
            "client_secret_post",
        ],
        "revocation_endpoint": f"{issuer}/revoke",
        "revocation_endpoint_auth_methods_supported": list(METHODS),
        "scopes_supported": sorted(scopes),
        "response_types_supported": ["code"],
        "response_modes_supported": ["query"],
        "grant_types_supported": list(GRANTS),
        "token_endpoint_auth_methods_supported": list(METHODS),
        "code_challenge_methods_supported": ["S256"],
        "authorization_response_iss_parameter_supported": True,
    }


def registration_answer(
    fields: ClientMetadata,
    client_id: str,
    issued: int,
    secret: str = "",
    ends: int = 0,
    address: str = "",
    token: str = "",
) -> dict[str, Any]:
    """The answer to a registration (RFC 7591 §3.2.1, RFC 7592 §3).

    ``ends``: seconds since 1970, 0 for a secret without an end.
    """
    found: dict[str, Any] = {
        "client_id": client_id,
        "client_id_issued_at": issued,
        **fields.request(),
    }
    if secret:
        found |= {"client_secret": secret, "client_secret_expires_at": ends}
    if address:
        found |= {"registration_client_uri": address, "registration_access_token": token}
    return found
