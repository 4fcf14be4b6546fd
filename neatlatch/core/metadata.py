"""What an authorization server publishes about itself (RFC 8414, and OpenID Connect
Discovery 1.0).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from . import addresses

_WELL_KNOWN = "/.well-known/oauth-authorization-server"
_OPENID = "/.well-known/openid-configuration"


@dataclass(frozen=True)
class ServerMetadata:
    """The fields of RFC 8414 §2 that a caller goes by.

    Absent lists have the standard's defaults.
    """

    issuer: str
    authorization_endpoint: str
    token_endpoint: str
    registration_endpoint: str = ""
    revocation_endpoint: str = ""
    introspection_endpoint: str = ""
    jwks_uri: str = ""
    scopes_supported: tuple[str, ...] = ()
    grant_types_supported: tuple[str, ...] = ("authorization_code", "implicit")
    token_endpoint_auth_methods_supported: tuple[str, ...] = ("client_secret_basic",)
    code_challenge_methods_supported: tuple[str, ...] = ()
    service_documentation: str = ""
    sends_issuer: bool = False

    def as_dict(self) -> dict[str, Any]:
        """Plain values, for keeping."""
        return {
            key: list(value) if isinstance(value, tuple) else value
            for key, value in asdict(self).items()
        }

    @classmethod
    def from_dict(cls, kept: Mapping[str, Any]) -> ServerMetadata:
        """The reverse of :meth:`as_dict`."""
        values: dict[str, Any] = {
            key: tuple(value) if isinstance(value, list) else value for key, value in kept.items()
        }
        return cls(**values)


class BadMetadata(ValueError):
    """The document cannot be gone by; the message says why."""


def addresses_to_try(given: str) -> tuple[str, ...]:
    """Where the metadata may lie, for an issuer or the metadata's own address.

    RFC 8414 §3.1 puts the well-known part between host and path; OpenID Connect Discovery §4 puts
    it at the end.
    """
    if "/.well-known/" in given:
        return (given,)
    address = addresses.take_apart(given)
    path = address.path.rstrip("/")
    origin = given[: len(given) - len(address.path)] if address.path else given
    return (f"{origin}{_WELL_KNOWN}{path}", f"{origin}{path}{_OPENID}")


def issuer_of(metadata_address: str) -> str | None:
    """The issuer a metadata address belongs to (RFC 8414 §3.1 backwards); ``None`` if it has no
    well-known part.
    """
    if metadata_address.endswith(_OPENID):
        return metadata_address[: -len(_OPENID)]
    if _WELL_KNOWN in metadata_address:
        origin, _, path = metadata_address.partition(_WELL_KNOWN)
        return origin + path
    return None


def read_metadata(document: Any, asked_at: str) -> ServerMetadata:
    """Read a metadata document fetched from ``asked_at``.

    Raises :class:`BadMetadata` where a required field is missing or unsafe, or the issuer is not
    the one asked for (RFC 8414 §3.3).
    """
    if not isinstance(document, dict):
        raise BadMetadata("What came back is not a JSON object, so it is not metadata.")
    issuer = _address(document, "issuer", required=True)
    expected = issuer_of(asked_at)
    if expected is not None and issuer != expected:
        raise BadMetadata(
            f"The document says its issuer is {issuer}, but it was fetched for {expected}. "
            f"The two must be the same (RFC 8414 §3.3)."
        )
    address = addresses.take_apart(issuer)
    if address.query is not None or address.fragment is not None:
        raise BadMetadata("The issuer has a query or a fragment, and must have none (RFC 8414 §2).")
    grants = _texts(document, "grant_types_supported", ServerMetadata.grant_types_supported)
    code = any(name in grants for name in ("authorization_code", "implicit"))
    return ServerMetadata(
        issuer=issuer,
        authorization_endpoint=_address(document, "authorization_endpoint", required=code),
        token_endpoint=_address(document, "token_endpoint", required=True),
        registration_endpoint=_address(document, "registration_endpoint"),
        revocation_endpoint=_address(document, "revocation_endpoint"),
        introspection_endpoint=_address(document, "introspection_endpoint"),
        jwks_uri=_address(document, "jwks_uri"),
        scopes_supported=_texts(document, "scopes_supported", ()),
        grant_types_supported=grants,
        token_endpoint_auth_methods_supported=_texts(
            document,
            "token_endpoint_auth_methods_supported",
            ServerMetadata.token_endpoint_auth_methods_supported,
        ),
        code_challenge_methods_supported=_texts(document, "code_challenge_methods_supported", ()),
        service_documentation=_address(document, "service_documentation"),
        sends_issuer=document.get("authorization_response_iss_parameter_supported") is True,
    )


def _address(document: dict[str, Any], key: str, required: bool = False) -> str:
    value = document.get(key)
    if value is None and not required:
        return ""
    if not isinstance(value, str) or not value:
        raise BadMetadata(f"“{key}” is missing from the metadata, or is not text (RFC 8414 §2).")
    wrong = addresses.unsound_web_address(value)
    if wrong is None and not addresses.is_protected(value):
        wrong = "It is not https."
    if wrong is not None:
        raise BadMetadata(f"“{key}” is {value}. {wrong}")
    return value


def _texts(document: dict[str, Any], key: str, default: tuple[str, ...]) -> tuple[str, ...]:
    value = document.get(key)
    if value is None:
        return default
    if not isinstance(value, list) or not all(isinstance(item, str) for item in value):
        raise BadMetadata(f"“{key}” must be a list of texts (RFC 8414 §2).")
    return tuple(value)
