"""Refusals of an authorization server, and reading parameters (RFC 6749 §3.1, §3.2, §5.2)."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from urllib.parse import unquote_plus, urlencode, urlsplit, urlunsplit


class RequestRefused(Exception):
    """A refusal to answer with.

    ``error`` is the code of the standard, ``says`` its description; ``logged`` is what was really
    wrong, which callers are not told.

    ``status`` is the HTTP status (RFC 6749 §5.2: 401 only for a client that could not sign in).
    """

    def __init__(self, error: str, says: str = "", status: int = 400, logged: str = "") -> None:
        super().__init__(f"{error}: {says}")
        self.error, self.says, self.status, self.logged = error, says, status, logged or error

    def body(self) -> dict[str, str]:
        """Return the error response as JSON (RFC 6749 §5.2)."""
        return {"error": self.error} | ({"error_description": self.says} if self.says else {})


class Fatal(RequestRefused):
    """A refusal of an authorization request that must not be sent back by redirect: nobody knows
    whom it would be sent to (RFC 6749 §4.1.2.1).
    """


@dataclass(frozen=True)
class RedirectedRefusal(Exception):
    """A refusal of an authorization request that is sent back to the client (RFC 6749 §4.1.2.1)."""

    redirect_uri: str
    error: str
    says: str
    state: str = ""

    def location(self, issuer: str) -> str:
        """The address to send the browser to, with the issuer in it (RFC 9207 §2)."""
        return with_query(
            self.redirect_uri,
            {
                "error": self.error,
                "error_description": self.says,
                "state": self.state,
                "iss": issuer,
            },
        )


def with_query(uri: str, values: Mapping[str, str]) -> str:
    """A redirect URI with values added to its query, those that are empty left out (RFC 6749
    §4.1.2: what it had is kept).
    """
    parts = urlsplit(uri)
    added = urlencode({key: value for key, value in values.items() if value})
    return urlunsplit(parts._replace(query=f"{parts.query}&{added}" if parts.query else added))


def once(pairs: Iterable[tuple[str, str]]) -> dict[str, str]:
    """Parameters, each at most once; one without a value counts as left out (RFC 6749 §3.1, §3.2).

    Raises :class:`RequestRefused`.

    ``resource`` may come several times (RFC 8707 §2); more than one is not served here.
    """
    found: dict[str, str] = {}
    for key, value in pairs:
        if key in found:
            raise RequestRefused(
                "invalid_target" if key == "resource" else "invalid_request",
                f"{key} is given more than once",
            )
        if value:
            found[key] = value
    return found


@dataclass(frozen=True)
class PresentedClient:
    """How a client says who it is: by which method, and with what.

    A public client has no secret.
    """

    client_id: str
    secret: str
    method: str

    def __repr__(self) -> str:
        return f"Presented({self.client_id}, •••, {self.method})"


def presented(authorization: str, form: Mapping[str, str]) -> PresentedClient:
    """Read a client's sign-in (RFC 6749 §2.3.1: Basic, each half form-encoded; or in the body).

    Raises :class:`RequestRefused` where there are two, or none.
    """
    if authorization:
        scheme, _, rest = authorization.partition(" ")
        if scheme.lower() != "basic":
            raise RequestRefused(
                "invalid_client", "Sign in with HTTP Basic", 401, "sign-in by an unknown scheme"
            )
        try:
            user, colon, password = (
                base64.b64decode(rest.strip(), validate=True).decode("utf-8").partition(":")
            )
        except (binascii.Error, UnicodeDecodeError) as error:
            raise RequestRefused(
                "invalid_client", "The header cannot be read", 401, "sign-in that cannot be read"
            ) from error
        if "client_secret" in form or form.get("client_id", unquote_plus(user)) != unquote_plus(
            user
        ):
            raise RequestRefused(
                "invalid_request", "A client signs in by one method only (RFC 6749 §2.3)"
            )
        if not colon or not user:
            raise RequestRefused("invalid_client", "", 401, "sign-in without a name")
        return PresentedClient(unquote_plus(user), unquote_plus(password), "client_secret_basic")
    if not form.get("client_id"):
        raise RequestRefused(
            "invalid_client", "The client does not say who it is", 401, "no client named"
        )
    if "client_secret" in form:
        return PresentedClient(form["client_id"], form["client_secret"], "client_secret_post")
    return PresentedClient(form["client_id"], "", "none")
