"""A profile as an OpenAPI 3.1 description: security schemes, operations and what each needs
(OpenAPI 3.1.0 §4.8.10, §4.8.27, §4.8.30).
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..profiles import Profile
from ..schemes import API_KEY, BASIC, BEARER, CERTIFICATE, CLIENT, CODE, JWT, OAUTH2, Scheme

_HTTP = {BASIC: "basic", BEARER: "bearer"}


def document(name: str, profile: Profile, addresses: Mapping[str, str]) -> dict[str, Any]:
    """The description.

    ``addresses`` are those of one environment, by the keys of the profile's values.
    """
    schemes = security_schemes(profile, addresses)
    names = {
        "oauth2": [scheme for scheme in schemes if schemes[scheme]["type"] == "oauth2"],
        "other": [scheme for scheme in schemes if schemes[scheme]["type"] != "oauth2"],
    }
    paths: dict[str, dict[str, Any]] = {}
    for operation in profile.operations:
        needs = [
            {scheme: sorted(some)}
            for some in operation.alternatives
            for scheme in (names["oauth2"] or names["other"])
        ]
        paths.setdefault(operation.path, {})[operation.method.lower()] = {
            **({"summary": operation.summary} if operation.summary else {}),
            "security": needs or [{}],
            "responses": {"default": {"description": "The answer"}},
        }
    found: dict[str, Any] = {"openapi": "3.1.0", "info": {"title": name, "version": "1"}}
    if base := addresses.get("api_base"):
        found["servers"] = [{"url": base}]
    return found | {"components": {"securitySchemes": schemes}, "paths": paths}


def security_schemes(profile: Profile, addresses: Mapping[str, str]) -> dict[str, dict[str, Any]]:
    """The security schemes by name; the OAuth flows of an application are one scheme.

    A way that OpenAPI has no words for is described in text.
    """
    found: dict[str, dict[str, Any]] = {}
    scopes = {scope.name: scope.meaning for scope in profile.scopes}
    flows: dict[str, Any] = {}
    for scheme in profile.schemes:
        if scheme.key == CODE:
            flows["authorizationCode"] = {
                "authorizationUrl": addresses.get("authorization_endpoint", ""),
                "tokenUrl": addresses.get("token_endpoint", ""),
                "scopes": scopes,
            }
        elif scheme.key == CLIENT or (scheme.key == JWT and "clientCredentials" not in flows):
            flows["clientCredentials"] = {
                "tokenUrl": addresses.get("token_endpoint", ""),
                "scopes": scopes,
            }
        elif scheme.key not in OAUTH2:
            found[scheme.key] = _other(scheme)
    if flows:
        found = {"oauth2": {"type": "oauth2", "flows": flows}} | found
    return found


def _other(scheme: Scheme) -> dict[str, Any]:
    if scheme.key == API_KEY:
        return {
            "type": "apiKey",
            "in": scheme.settings.get("placement", "header"),
            "name": scheme.settings.get("name", "X-Api-Key"),
        }
    if scheme.key in _HTTP:
        return {"type": "http", "scheme": _HTTP[scheme.key]}
    if scheme.key == CERTIFICATE:
        return {"type": "mutualTLS"}
    # OpenAPI names no such scheme; an http one with a name of its own and a description is the
    # nearest that it allows (§4.8.27).
    return {"type": "http", "scheme": scheme.key.replace("_", "-"), "description": scheme.label}
