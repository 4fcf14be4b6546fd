"""Scopes and operations out of an OpenAPI 3 description (OpenAPI Specification 3.1.0, §4.8.10,
§4.8.27, §4.8.30).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from .intake import trees
from .profiles import Operation, ScopeInfo, ScopeKind
from .schemes import API_KEY, BASIC, BEARER, CERTIFICATE, CLIENT, CODE, KINDS, Scheme

_METHODS = ("get", "put", "post", "delete", "patch", "head", "options")


@dataclass(frozen=True)
class ApiDescription:
    """What a description says that a profile wants to know."""

    title: str
    servers: tuple[str, ...]
    scopes: tuple[ScopeInfo, ...]
    operations: tuple[Operation, ...]
    schemes: tuple[Scheme, ...] = ()
    roles: tuple[ScopeInfo, ...] = ()
    addresses: Mapping[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


class BadDescription(ValueError):
    """The document is not an OpenAPI 3 description; the message says why."""


def read_text(text: str) -> ApiDescription:
    """Read a description in JSON or YAML. Raises :class:`BadDescription`."""
    try:
        return read_description(
            trees.read_json(text) if text.lstrip().startswith("{") else trees.read_yaml(text)
        )
    except trees.TreeRefused as error:
        raise BadDescription(str(error)) from error


def read_description(document: Any) -> ApiDescription:
    """Read the authentication schemes, the OAuth scopes, and the operations with their
    alternatives.

    Raises :class:`BadDescription`.

    ``addresses`` are those that its OAuth flows name; ``notes`` say what was left because it is not
    known here.
    """
    if not isinstance(document, dict) or not str(document.get("openapi", "")).startswith("3."):
        raise BadDescription(
            "This is not an OpenAPI 3 document: “openapi: 3.…” is missing at its top."
        )
    oauth = _oauth_schemes(document)
    found_schemes, roles_of, addresses, notes = _schemes(document)
    operations = []
    for path, item in _object(document.get("paths")).items():
        for method in _METHODS:
            if isinstance(found := _object(item).get(method), dict):
                needs = found.get("security", document.get("security", []))
                operations.append(
                    Operation(
                        method.upper(),
                        str(path),
                        str(found.get("summary", "")),
                        _alternatives(needs, oauth, roles_of),
                    )
                )
    meanings: dict[str, str] = {}
    for scheme in oauth.values():
        for flow in _object(scheme.get("flows")).values():
            meanings.update(
                {str(k): str(v) for k, v in _object(_object(flow).get("scopes")).items()}
            )
    servers = tuple(
        str(_object(text).get("url", ""))
        for text in _list(document.get("servers"))
        if isinstance(text, dict)
    )
    return ApiDescription(
        str(_object(document.get("info")).get("title", "")),
        servers,
        tuple(
            ScopeInfo(name, meaning, _kind(name, operations))
            for name, meaning in sorted(meanings.items())
        ),
        tuple(operations),
        found_schemes,
        tuple(
            ScopeInfo(name, "", _kind(name, operations))
            for name in sorted(_roles(operations, set(meanings)))
        ),
        addresses,
        notes,
    )


def _roles(operations: list[Operation], scopes: set[str]) -> set[str]:
    return {
        name for operation in operations for some in operation.alternatives for name in some
    } - scopes


def _schemes(
    document: dict[str, Any],
) -> tuple[tuple[Scheme, ...], set[str], dict[str, str], tuple[str, ...]]:
    """The security schemes (§4.8.27) as ours; the names of those that have roles in place of
    scopes; the addresses of OAuth flows.
    """
    found: dict[str, Scheme] = {}
    addresses: dict[str, str] = {}
    with_roles: set[str] = set()
    notes: list[str] = []
    for name, raw in _object(_object(document.get("components")).get("securitySchemes")).items():
        one = _object(raw)
        kind, http = one.get("type"), str(one.get("scheme", "")).lower()
        says = str(one.get("description", ""))[:200]
        if kind == "oauth2":
            for flow, key in (("authorizationCode", CODE), ("clientCredentials", CLIENT)):
                told = _object(_object(one.get("flows")).get(flow))
                if told:
                    found.setdefault(key, KINDS[key])
                    for theirs, ours in (
                        ("authorizationUrl", "authorization_endpoint"),
                        ("tokenUrl", "token_endpoint"),
                    ):
                        if isinstance(told.get(theirs), str):
                            addresses.setdefault(ours, told[theirs])
            for flow in _object(one.get("flows")):
                if flow in ("implicit", "password"):
                    notes.append(
                        f"the {flow} flow of {name} was left; it must not be used (RFC 9700 "
                        f"§2.1.2, §2.4)"
                    )
        elif kind == "openIdConnect":
            found.setdefault(CODE, KINDS[CODE])
        else:
            kept = {"apiKey": API_KEY, "mutualTLS": CERTIFICATE}.get(str(kind)) or {
                "basic": BASIC,
                "bearer": BEARER,
            }.get(http if kind == "http" else "")
            if kept is None:
                notes.append(
                    f"the scheme {name} ({kind} {http}) is not known here and was left".replace(
                        " )", ")"
                    )
                )
                continue
            with_roles.add(name)
            settings = (
                {"placement": str(one.get("in", "header")), "name": str(one.get("name", ""))}
                if kept == API_KEY
                else {}
            )
            if kept in found:
                notes.append(f"the scheme {name} is a second one of its kind and was left")
                continue
            scheme = KINDS[kept]
            values = tuple(
                replace(value, help=f"{value.help} {says}".strip()) if value.secret else value
                for value in scheme.values
            )
            found[kept] = replace(scheme, values=values, settings={**scheme.settings, **settings})
    return tuple(found.values()), with_roles, addresses, tuple(notes)


def _object(found: Any) -> dict[str, Any]:
    return found if isinstance(found, dict) else {}


def _list(found: Any) -> list[Any]:
    return found if isinstance(found, list) else []


def _oauth_schemes(document: dict[str, Any]) -> dict[str, dict[str, Any]]:
    schemes = _object(_object(document.get("components")).get("securitySchemes"))
    return {
        name: scheme
        for name, scheme in schemes.items()
        if _object(scheme).get("type") in ("oauth2", "openIdConnect")
    }


def _alternatives(
    needs: Any, oauth: dict[str, dict[str, Any]], with_roles: set[str]
) -> tuple[frozenset[str], ...]:
    """Each security requirement is one alternative (§4.8.30); an empty one means that nothing is
    needed. For schemes other than OAuth the list names roles (§4.8.30, since 3.1).
    """
    found = []
    for need in _list(needs):
        scopes = [
            scopes for name, scopes in _object(need).items() if name in oauth or name in with_roles
        ]
        if scopes or need == {}:
            found.append(frozenset(str(scope) for some in scopes for scope in _list(some)))
    return () if frozenset() in found else tuple(found)


def _kind(scope: str, operations: list[Operation]) -> ScopeKind:
    """A scope that any changing operation wants is a writing one; a person can say
    otherwise later.
    """
    uses = [
        operation.method
        for operation in operations
        if any(scope in some for some in operation.alternatives)
    ]
    return "write" if any(method not in ("GET", "HEAD", "OPTIONS") for method in uses) else "read"
