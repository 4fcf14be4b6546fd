"""A registration request that came in, judged (RFC 7591 §2, §3.2.2)."""

from __future__ import annotations

from typing import Any

from .. import redirects, registration
from ..registration import ClientMetadata
from ..texts import unsound
from .refusing import RequestRefused
from .telling import GRANTS, METHODS

LONGEST = 2000


def read(
    document: Any, permitted: frozenset[str], allow_grants: frozenset[str] = frozenset(GRANTS)
) -> ClientMetadata:
    """The client that is asked for, with the defaults of RFC 7591 §2.

    ``permitted``: the scopes that may be asked for; those beyond them are left out, which §2 allows
    and the answer shows. Raises :class:`RequestRefused` with the codes of §3.2.2.
    """
    if not isinstance(document, dict):
        raise RequestRefused("invalid_client_metadata", "The body must be a JSON object")
    if wrong := unsound(document, LONGEST):
        raise RequestRefused("invalid_client_metadata", f"A text in it {wrong}")

    def texts(key: str, default: tuple[str, ...]) -> tuple[str, ...]:
        value = document.get(key)
        if value is None:
            return default
        if (
            not isinstance(value, list)
            or not all(isinstance(item, str) and len(item) <= LONGEST for item in value)
            or len(value) > 50
        ):
            raise RequestRefused(
                "invalid_redirect_uri" if key == "redirect_uris" else "invalid_client_metadata",
                f"{key} must be a list of texts",
            )
        return tuple(dict.fromkeys(value))

    def text(key: str, default: str) -> str:
        value = document.get(key, default)
        if not isinstance(value, str) or len(value) > LONGEST:
            raise RequestRefused("invalid_client_metadata", f"{key} must be a text")
        return value

    method, name = (
        text("token_endpoint_auth_method", "client_secret_basic"),
        text("client_name", "")[:200],
    )
    grants, uris = texts("grant_types", ("authorization_code",)), texts("redirect_uris", ())
    if method not in METHODS:
        raise RequestRefused(
            "invalid_client_metadata",
            f"token_endpoint_auth_method must be one of {', '.join(METHODS)}",
        )
    if unknown := [grant for grant in grants if grant not in allow_grants]:
        raise RequestRefused(
            "invalid_client_metadata", f"The grant {unknown[0][:60]} is not served here"
        )
    responses = texts("response_types", ("code",) if "authorization_code" in grants else ())
    if set(responses) != ({"code"} if "authorization_code" in grants else set()):
        raise RequestRefused(
            "invalid_client_metadata",
            "response_types and grant_types do not go together (RFC 7591 §2.1)",
        )
    for uri in uris:
        if grave := [lint for lint in redirects.lint(uri) if lint.grave]:
            raise RequestRefused("invalid_redirect_uri", f"{uri[:200]}: {grave[0].says}")
    scope = text("scope", " ".join(sorted(permitted)))
    fields = ClientMetadata(
        name or "A client without a name",
        texts("contacts", ()),
        method == "none",
        uris if "authorization_code" in grants else (),
        grants,
        frozenset(scope.split()) & permitted,
        method,
    )
    if errors := {
        key: said for key, said in registration.check(fields).items() if key != "contacts"
    }:
        key, said = next(iter(errors.items()))
        raise RequestRefused(
            "invalid_redirect_uri" if key == "redirect_uris" else "invalid_client_metadata", said
        )
    return fields
