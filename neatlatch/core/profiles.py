"""Profiles: what an application wants of a caller.

A profile says which schemes the application takes and which values each needs, what its scopes mean, which operations there
are and what a harmless test of real work looks like. Forms, checks and the API are made from it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

from .scopes import Alternatives

ScopeKind = Literal["read", "write", "admin"]
CODE, CLIENT = "oauth2_code", "oauth2_client"


@dataclass(frozen=True)
class Value:
    """One value a caller must give: how it is called, what it is, and where in the application's own screens it is found."""

    key: str
    label: str
    type: Literal["address", "text", "secret", "choice", "scopes"]
    help: str
    where: str = ""
    required: bool = True
    secret: bool = False
    pattern: str = ""
    choices: tuple[str, ...] = ()


@dataclass(frozen=True)
class Scheme:
    """One way of being let in."""

    key: str
    label: str
    grant: str
    values: tuple[Value, ...]


@dataclass(frozen=True)
class ScopeInfo:
    """A scope: what it means, how grave it is, who may consent, and what it implies."""

    name: str
    meaning: str = ""
    kind: ScopeKind = "read"
    administrator: bool = False
    implies: tuple[str, ...] = ()


@dataclass(frozen=True)
class Operation:
    """Something the API can do, and the alternatives of scopes that allow it (an OpenAPI security requirement)."""

    method: str
    path: str
    summary: str = ""
    alternatives: Alternatives = ()

    @property
    def name(self) -> str:
        """As people quote it: ``PUT /manifests/{number}``."""
        return f"{self.method} {self.path}"

    def covers(self, method: str, path: str) -> bool:
        """Whether a call is this operation; a slot such as ``{number}`` stands for any one segment (OpenAPI 3.1.0 §4.8.8)."""
        pattern = "".join("[^/]+" if part.startswith("{") else re.escape(part) for part in re.split(r"(\{[^{}]*\})", self.path))
        return self.method == method and re.fullmatch(pattern, path) is not None


@dataclass(frozen=True)
class Probe:
    """A piece of real work that is made, looked at and cleared away.

    In every text ``{test}`` stands for the test's own mark, so that what it makes can be told from real things and found again.
    ``make`` and ``clear`` must be idempotent (RFC 9110 §9.2.2), because a test may be cut off and repeated.
    """

    make_method: str
    make_path: str
    make_body: Mapping[str, Any]
    look_path: str
    clear_method: str
    clear_path: str


@dataclass(frozen=True)
class Limits:
    """What the application allows: live secrets, seconds a token lives, seconds a change takes to spread."""

    live_secrets: int = 1
    token_life: int = 3600
    spread: int = 30


@dataclass(frozen=True)
class Profile:
    """All of it."""

    schemes: tuple[Scheme, ...] = ()
    scopes: tuple[ScopeInfo, ...] = ()
    operations: tuple[Operation, ...] = ()
    harmless: str = ""
    probe: Probe | None = None
    limits: Limits = Limits()

    @property
    def implies(self) -> dict[str, tuple[str, ...]]:
        """What each scope implies at once."""
        return {one.name: one.implies for one in self.scopes if one.implies}

    def scope(self, name: str) -> ScopeInfo | None:
        """A scope by its name."""
        return next((one for one in self.scopes if one.name == name), None)

    def operation(self, name: str) -> Operation | None:
        """An operation by ``METHOD /path``."""
        return next((one for one in self.operations if one.name == name), None)

    def scheme(self, key: str) -> Scheme | None:
        """A scheme by its key."""
        return next((one for one in self.schemes if one.key == key), None)

    def harmless_call(self) -> Operation | None:
        """The call that tests a right and changes nothing: the one named, else the first GET whose path has no slot."""
        if named := self.operation(self.harmless):
            return named
        return next((one for one in self.operations if one.method == "GET" and "{" not in one.path), None)


_ISSUER = Value("issuer", "Issuer", "address", "The name of their sign-in server; it stands in its metadata.")
_TOKEN = Value("token_endpoint", "Token endpoint", "address", "Where codes, secrets and refresh tokens are traded for access tokens.")
_AUTHORIZE = Value("authorization_endpoint", "Authorization endpoint", "address", "Where people are sent to sign in.")
_API = Value("api_base", "API base address", "address", "What every operation's path is added to.")
_CLIENT_ID = Value("client_id", "Client ID", "text", "The name they gave our client. It is not secret, and not the ID of the secret.")
_SECRET = Value("client_secret", "Client secret", "secret", "Shown once when it is made. Its value, not its ID.", secret=True)
_METHOD = Value("client_sign_in", "Client sign-in", "choice", "How the client proves itself at the token endpoint (RFC 6749 §2.3).",
                choices=("client_secret_basic", "client_secret_post", "none"))  # fmt: skip
_REDIRECT = Value(
    "redirect_uri", "Redirect URI", "address", "Where people come back to. It must be registered there, character by character."
)
_SCOPES = Value("scopes", "Scopes", "scopes", "What we ask to be allowed to do.", required=False)
_ACCOUNT = Value("account", "Expected account", "text", "The account that must sign in, usually a service account.", required=False)

AUTHORIZATION_CODE = Scheme(CODE, "OAuth 2.0, a person or service account signs in", "authorization_code",
                            (_ISSUER, _AUTHORIZE, _TOKEN, _API, _CLIENT_ID, _SECRET, _METHOD, _REDIRECT, _SCOPES, _ACCOUNT))  # fmt: skip
CLIENT_CREDENTIALS = Scheme(CLIENT, "OAuth 2.0, the client signs in by itself", "client_credentials",
                            (_ISSUER, _TOKEN, _API, _CLIENT_ID, _SECRET, _METHOD, _SCOPES))  # fmt: skip
KNOWN_SCHEMES = {one.key: one for one in (AUTHORIZATION_CODE, CLIENT_CREDENTIALS)}


def schemes_for(grants: tuple[str, ...]) -> tuple[Scheme, ...]:
    """The schemes known here that a server's grants make possible."""
    return tuple(one for one in KNOWN_SCHEMES.values() if one.grant in grants)


def with_directions(scheme: Scheme, where: Mapping[str, str]) -> Scheme:
    """A scheme whose values say where in the application's own screens they are found."""
    return replace(scheme, values=tuple(replace(one, where=where.get(one.key, one.where)) for one in scheme.values))


def check_values(scheme: Scheme, given: Mapping[str, str]) -> dict[str, str]:
    """What is wrong with the values of a form, by key; empty: nothing. Secrets are not looked at here."""
    wrong: dict[str, str] = {}
    for value in scheme.values:
        text = given.get(value.key, "")
        if value.secret:
            continue
        if not text:
            if value.required:
                wrong[value.key] = f"{value.label} is needed. {value.help}"
        elif value.choices and text not in value.choices:
            wrong[value.key] = f"{value.label} must be one of {', '.join(value.choices)}."
        elif value.pattern and not re.fullmatch(value.pattern, text):
            wrong[value.key] = f"{value.label} does not look right. {value.help}"
    return wrong


def to_dict(profile: Profile) -> dict[str, Any]:
    """Plain values, for keeping and for answers."""
    kept = asdict(profile)
    kept["operations"] = [
        {"method": one.method, "path": one.path, "summary": one.summary, "alternatives": [sorted(some) for some in one.alternatives]}
        for one in profile.operations
    ]
    return kept


class BadProfile(ValueError):
    """A profile cannot be read; the message says what is wrong."""


def from_dict(kept: Mapping[str, Any]) -> Profile:
    """Read a profile from plain values. Raises :class:`BadProfile`."""
    try:
        return Profile(
            schemes=tuple(_scheme(one) for one in kept.get("schemes", ())),
            scopes=tuple(ScopeInfo(**{**one, "implies": tuple(one.get("implies", ()))}) for one in kept.get("scopes", ())),
            operations=tuple(_operation(one) for one in kept.get("operations", ())),
            harmless=kept.get("harmless", ""),
            probe=Probe(**kept["probe"]) if kept.get("probe") else None,
            limits=Limits(**kept.get("limits", {})),
        )
    except (TypeError, KeyError, AttributeError) as error:
        raise BadProfile(f"The profile cannot be read: {error}") from error


def _scheme(kept: Mapping[str, Any]) -> Scheme:
    """A scheme known here may be named by its key alone, with directions to where its values are found."""
    if "values" not in kept:
        if kept["key"] not in KNOWN_SCHEMES:
            raise BadProfile(f"Scheme {kept['key']!r} is not known and lists no values.")
        return with_directions(KNOWN_SCHEMES[kept["key"]], kept.get("where", {}))
    values = tuple(Value(**{**one, "choices": tuple(one.get("choices", ()))}) for one in kept["values"])
    return Scheme(kept["key"], kept["label"], kept["grant"], values)


def _operation(kept: Mapping[str, Any]) -> Operation:
    return Operation(kept["method"].upper(), kept["path"], kept.get("summary", ""),
                     tuple(frozenset(one) for one in kept.get("alternatives", ())))  # fmt: skip
