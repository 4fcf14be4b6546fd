"""Client metadata as RFC 7591 §2 has it: what we ask a provider to register, and the acts that do
the same manually.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from . import lifetimes, redirects
from .schemes import JWT_GRANT
from .scopes import joined, malformed

GRANTS = ("authorization_code", "refresh_token", "client_credentials", JWT_GRANT)
SIGN_IN_METHODS = ("client_secret_basic", "client_secret_post", "none")


@dataclass(frozen=True)
class ClientMetadata:
    """The fields of a client that a provider holds."""

    name: str
    contacts: tuple[str, ...] = ()
    public: bool = False
    redirect_uris: tuple[str, ...] = ()
    grants: tuple[str, ...] = ("authorization_code", "refresh_token")
    scopes: frozenset[str] = frozenset()
    sign_in_method: str = "client_secret_basic"

    def request(self) -> dict[str, Any]:
        """The body of a registration request (RFC 7591 §2, §3.1)."""
        code = "authorization_code" in self.grants
        return {
            "client_name": self.name,
            "contacts": list(self.contacts),
            "redirect_uris": list(self.redirect_uris) if code else [],
            "grant_types": list(self.grants),
            "response_types": ["code"] if code else [],
            "scope": joined(self.scopes),
            "token_endpoint_auth_method": "none" if self.public else self.sign_in_method,
        }


def read_answer(fields: Mapping[str, Any], asked: ClientMetadata) -> ClientMetadata:
    """What the provider registered, which need not be what was asked for (RFC 7591 §3.2.1: it may
    replace any value).
    """

    def texts(key: str, default: tuple[str, ...]) -> tuple[str, ...]:
        value = fields.get(key)
        return tuple(str(item) for item in value) if isinstance(value, list) else default

    method = str(
        fields.get("token_endpoint_auth_method") or asked.request()["token_endpoint_auth_method"]
    )
    scope = fields.get("scope")
    return ClientMetadata(
        name=str(fields.get("client_name") or asked.name),
        contacts=texts("contacts", asked.contacts),
        public=method == "none",
        redirect_uris=texts("redirect_uris", asked.redirect_uris),
        grants=texts("grant_types", asked.grants),
        scopes=frozenset(scope.split()) if isinstance(scope, str) else asked.scopes,
        sign_in_method=method,
    )


def secret_end(fields: Mapping[str, Any]) -> datetime | None:
    """When the secret in a provider's answer ends (RFC 7591 §3.2.1); ``None``: never, or it does
    not say.
    """
    return lifetimes.at_epoch(fields.get("client_secret_expires_at"))


def check(client: ClientMetadata) -> dict[str, str]:
    """What is wrong with a client before it is registered, by field; empty: nothing."""
    wrong: dict[str, str] = {}
    if not client.name.strip():
        wrong["name"] = "The client needs a name that the application's people will recognise."
    if not client.grants:
        wrong["grants"] = "Switch on at least one grant."
    elif unknown := [grant for grant in client.grants if grant not in GRANTS]:
        wrong["grants"] = (
            f"{unknown[0]} is not a grant that is used here; password and implicit must not "
            f"be (RFC 9700 §2.1.2, §2.4)."
        )
    elif client.public and "client_credentials" in client.grants:
        wrong["grants"] = (
            "A public client cannot use client_credentials: it has nothing to prove itself "
            "with (RFC 6749 §4.4)."
        )
    if "authorization_code" in client.grants and not client.redirect_uris:
        wrong["redirect_uris"] = "Signing people in needs at least one redirect URI."
    for uri in client.redirect_uris:
        if grave := [lint for lint in redirects.lint(uri) if lint.grave]:
            wrong["redirect_uris"] = f"{uri}: {grave[0].says}"
    if bad := sorted(scope for scope in client.scopes if malformed(scope)):
        wrong["scopes"] = f"“{bad[0]}” holds characters that a scope must not (RFC 6749 §3.3)."
    if client.sign_in_method not in SIGN_IN_METHODS:
        wrong["sign_in_method"] = f"Choose one of {', '.join(SIGN_IN_METHODS)}."
    return wrong


@dataclass(frozen=True)
class RegistrationStep:
    """One numbered act in the application's own screens: what to do there and, if something is to
    be copied, what.
    """

    key: str
    says: str
    copy: str = ""


def manual_steps(
    client: ClientMetadata, application: str, administrator_scopes: frozenset[str]
) -> tuple[RegistrationStep, ...]:
    """The acts that register a client manually, in the order in which an application's screens
    usually ask (common practice, no source).
    """
    kind = "public: it keeps no secret" if client.public else "confidential: it can keep a secret"
    steps = [
        RegistrationStep("create", f"In {application}, add a client with this name", client.name)
    ]
    if client.contacts:
        steps.append(RegistrationStep("contact", "Give this contact", ", ".join(client.contacts)))
    steps.append(RegistrationStep("type", f"Choose the type {kind}"))
    steps.append(
        RegistrationStep("grants", "Switch on these grants, no others", " ".join(client.grants))
    )
    steps += [
        RegistrationStep(f"redirect:{uri}", "Give it this redirect URI, exactly", uri)
        for uri in client.redirect_uris
    ]
    if client.scopes:
        steps.append(
            RegistrationStep("scopes", "Allow these scopes, no more", joined(client.scopes))
        )
    if wanted := sorted(client.scopes & administrator_scopes):
        steps.append(
            RegistrationStep("consent", "Let their administrator consent to", " ".join(wanted))
        )
    if not client.public:
        steps.append(
            RegistrationStep(
                "secret",
                (
                    "Make a secret and keep the page open: it is shown once. Take its value, "
                    "not its ID"
                ),
            )
        )
    steps.append(RegistrationStep("client_id", "Carry the client ID across and enter it here"))
    return tuple(steps)
