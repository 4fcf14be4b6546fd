"""Scopes and operations out of an OpenAPI 3 description (OpenAPI Specification 3.1.0, §4.8.10, §4.8.27, §4.8.30)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from .profiles import Operation, ScopeInfo, ScopeKind

_METHODS = ("get", "put", "post", "delete", "patch", "head", "options")


@dataclass(frozen=True)
class Described:
    """What a description says that a profile wants to know."""

    title: str
    servers: tuple[str, ...]
    scopes: tuple[ScopeInfo, ...]
    operations: tuple[Operation, ...]


class BadDescription(ValueError):
    """The document is not an OpenAPI 3 description; the message says why."""


def read_description(document: Any) -> Described:
    """Read the OAuth scopes and the operations with their alternatives. Raises :class:`BadDescription`."""
    if not isinstance(document, dict) or not str(document.get("openapi", "")).startswith("3."):
        raise BadDescription("This is not an OpenAPI 3 document: “openapi: 3.…” is missing at its top.")
    oauth = _oauth_schemes(document)
    operations = []
    for path, item in _object(document.get("paths")).items():
        for method in _METHODS:
            if isinstance(found := _object(item).get(method), dict):
                needs = found.get("security", document.get("security", []))
                operations.append(Operation(method.upper(), str(path), str(found.get("summary", "")), _alternatives(needs, oauth)))
    meanings: dict[str, str] = {}
    for scheme in oauth.values():
        for flow in _object(scheme.get("flows")).values():
            meanings.update({str(k): str(v) for k, v in _object(_object(flow).get("scopes")).items()})
    servers = tuple(str(_object(one).get("url", "")) for one in _list(document.get("servers")) if isinstance(one, dict))
    return Described(
        str(_object(document.get("info")).get("title", "")),
        servers,
        tuple(ScopeInfo(name, meaning, _kind(name, operations)) for name, meaning in sorted(meanings.items())),
        tuple(operations),
    )


def _object(found: Any) -> dict[str, Any]:
    return found if isinstance(found, dict) else {}


def _list(found: Any) -> list[Any]:
    return found if isinstance(found, list) else []


def _oauth_schemes(document: dict[str, Any]) -> dict[str, dict[str, Any]]:
    schemes = _object(_object(document.get("components")).get("securitySchemes"))
    return {name: scheme for name, scheme in schemes.items() if _object(scheme).get("type") in ("oauth2", "openIdConnect")}


def _alternatives(needs: Any, oauth: dict[str, Any]) -> tuple[frozenset[str], ...]:
    """Each security requirement is one alternative (§4.8.30); an empty one means that nothing is needed."""
    found = []
    for need in _list(needs):
        scopes = [scopes for name, scopes in _object(need).items() if name in oauth]
        if scopes or need == {}:
            found.append(frozenset(str(scope) for some in scopes for scope in _list(some)))
    return () if frozenset() in found else tuple(found)


def _kind(scope: str, operations: list[Operation]) -> ScopeKind:
    """A scope that any changing operation wants is a writing one; a person can say otherwise later."""
    uses = [one.method for one in operations if any(scope in some for some in one.alternatives)]
    return "write" if any(method not in ("GET", "HEAD", "OPTIONS") for method in uses) else "read"
