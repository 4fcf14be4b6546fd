"""Trading a code or a refresh token for tokens: whether it may be (RFC 6749 §4.1.3, §6; RFC 7636
§4.6; RFC 9700 §4.14.2).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from .. import pkce, redirects
from .refusing import RequestRefused

_GONE = "It is not known, has expired, or was used"


class GrantReused(RequestRefused):
    """A code or refresh token came a second time: anyone who has it may have stolen it, so all that
    came of it ends (RFC 6749 §4.1.2, RFC 9700 §4.14.2).
    """

    def __init__(self, what: str) -> None:
        super().__init__("invalid_grant", _GONE, logged=f"{what} reused")


@dataclass(frozen=True)
class Code:
    """A code as it is kept."""

    client_id: str
    redirect_uri: str
    redirect_given: bool
    challenge: str
    ends: datetime
    used: bool
    revoked: bool


@dataclass(frozen=True)
class Refresh:
    """A refresh token as it is kept."""

    client_id: str
    ends: datetime
    used: bool
    revoked: bool


def redeem(code: Code | None, client_id: str, params: Mapping[str, str], now: datetime) -> None:
    """Whether a code may be traded.

    Raises :class:`RequestRefused`, or :class:`GrantReused`; what exactly was wrong is in ``logged``
    only.

    A code that comes from another client than it was given to is refused, and is not spoilt by it.
    """
    if code is None:
        raise RequestRefused("invalid_grant", _GONE, logged="code unknown")
    if code.client_id != client_id:
        raise RequestRefused("invalid_grant", _GONE, logged="code of another client")
    if code.used:
        raise GrantReused("code")
    if code.revoked or now >= code.ends:
        raise RequestRefused(
            "invalid_grant", _GONE, logged="code revoked" if code.revoked else "code ended"
        )
    same, why = redirects.token_request(
        code.redirect_uri if code.redirect_given else None, params.get("redirect_uri")
    )
    if not same:
        raise RequestRefused(
            "invalid_grant", f"redirect_uri: {why}", logged="code with another redirect URI"
        )
    if "code_verifier" not in params:
        raise RequestRefused(
            "invalid_grant", "code_verifier is required", logged="code without verifier"
        )
    if not pkce.verify(params["code_verifier"], code.challenge).holds:
        raise RequestRefused(
            "invalid_grant",
            "code_verifier does not fit the challenge",
            logged="code with a wrong verifier",
        )


def renew(refresh: Refresh | None, client_id: str, now: datetime) -> None:
    """Whether a refresh token may be traded.

    Each serves once. Raises :class:`RequestRefused`, or :class:`GrantReused`.
    """
    if refresh is None:
        raise RequestRefused("invalid_grant", _GONE, logged="refresh token unknown")
    if refresh.client_id != client_id:
        raise RequestRefused("invalid_grant", _GONE, logged="refresh token of another client")
    if refresh.revoked:
        raise RequestRefused("invalid_grant", _GONE, logged="refresh token revoked")
    if refresh.used:
        raise GrantReused("refresh token")
    if now >= refresh.ends:
        raise RequestRefused("invalid_grant", _GONE, logged="refresh token ended")
