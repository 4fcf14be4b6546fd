"""What pages and programs are told of applications, and what they send."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from neatlatch.core import profiles
from neatlatch.core.schemes import Value
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground.common.request_bodies import RequestBody


@dataclass(frozen=True)
class EnvironmentOut:
    """An environment."""

    key: str
    name: str
    look: str
    production: bool
    wants_service_account: bool


@dataclass(frozen=True, kw_only=True)
class IssuingOut:
    """What a caller can be issued: by the house or the application, what it is, and for which kind
    of scheme."""

    by: str
    what: str
    kind: str
    # Of a client: what can be switched on, and how it can prove itself.
    grants: list[str]
    sign_in_methods: list[str]


@dataclass(frozen=True, kw_only=True)
class DeploymentOut:
    """An application in one environment.

    ``issues``: what its callers can be issued, what is usual first.
    """

    environment: EnvironmentOut
    issuer: str
    authorization_endpoint: str
    token_endpoint: str
    api_base: str
    more: dict[str, str]
    metadata_address: str
    registers: bool
    house: bool
    grants: list[str]
    sign_in_methods: list[str]
    issues: list[IssuingOut]
    read_at: datetime | None
    clients: int
    connections: int


class ScopeIO(RequestBody):
    """A scope and its meaning."""

    name: str
    meaning: str = ""
    kind: str = "read"
    administrator: bool = False
    implies: list[str] = []


@dataclass(frozen=True, kw_only=True)
class OperationOut:
    """An operation, and the alternatives of scopes that allow it."""

    name: str
    method: str
    path: str
    summary: str
    alternatives: list[list[str]]


@dataclass(frozen=True, kw_only=True)
class ValueOut:
    """A value that a caller must give."""

    key: str
    label: str
    type: str
    help: str
    where: str
    required: bool
    secret: bool
    choices: list[str]
    pattern: str
    example: str


@dataclass(frozen=True, kw_only=True)
class SchemeOut:
    """An authentication scheme.

    ``registers``: a client is registered for it; ``signs_in``: people sign in; ``house_issues``:
    the house authority can issue for it.
    """

    key: str
    label: str
    grant: str
    grants: list[str]
    registers: bool
    signs_in: bool
    house_issues: bool
    values: list[ValueOut]
    settings: dict[str, str]
    switches: list[str]


@dataclass(frozen=True, kw_only=True)
class ApplicationRow:
    """An application in the list.

    ``schemes`` as people read them; ``scopes``: how many are known; ``own``: it is Neat Latch
    itself.
    """

    key: str
    name: str
    own: bool
    purpose: str
    owner: str
    schemes: list[str]
    scopes: int
    environments: list[EnvironmentOut]
    connections: int
    tags: list[str]


@dataclass(frozen=True, kw_only=True)
class Applications:
    """A page of applications."""

    items: list[ApplicationRow]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class VersionOut:
    """An earlier profile of the application."""

    number: int
    by: str
    at: datetime


@dataclass(frozen=True, kw_only=True)
class ChangeEffectOut:
    """What a change of the profile means for one connection: a pin that would stand otherwise, or a
    request of a test that would be sent otherwise.
    """

    ref: str
    pin: str
    before: str
    after: str
    sent: str
    why: str


@dataclass(frozen=True, kw_only=True)
class ProfilePreview:
    """A profile as it would be: the forms it yields, and what it changes. Nothing is saved."""

    schemes: list[SchemeOut]
    slots: list[ValueOut]
    meanings: list[ChangeEffectOut]
    says: str


class ProfileIn(RequestBody):
    """A profile to try: plain values, or the same as YAML text."""

    profile: dict[str, Any] | None = None
    text: str = ""


@dataclass(frozen=True, kw_only=True)
class ProfileText:
    """A profile as YAML, for editing."""

    text: str


@dataclass(frozen=True, kw_only=True)
class ApplicationOut:
    """An application in full."""

    key: str
    name: str
    purpose: str
    owner: str
    version: int
    deployments: list[DeploymentOut]
    schemes: list[SchemeOut]
    scopes: list[ScopeIO]
    operations: list[OperationOut]
    probe: dict[str, Any] | None
    limits: dict[str, int]
    slots: list[ValueOut]
    roles: list[ScopeIO]
    roles_label: str
    profile: dict[str, Any]
    versions: list[VersionOut]
    rules_kept: bool


class ApplicationIn(RequestBody):
    """A new application, or one more environment of one: by its metadata address, its API
    description, or manually.

    ``description`` is the API description itself, where it is not published at an address.
    """

    name: str = ""
    environment: str
    purpose: str = ""
    owner: str = ""
    metadata_address: str = ""
    description_address: str = ""
    description: str | None = None
    issuer: str = ""
    authorization_endpoint: str = ""
    token_endpoint: str = ""
    api_base: str = ""
    more: dict[str, str] = {}
    scheme: str = ""
    shipped: str = ""
    profile: dict[str, Any] | None = None


@dataclass(frozen=True, kw_only=True)
class ShippedOut:
    """A profile that comes with Neat Latch."""

    key: str
    name: str
    purpose: str
    schemes: list[SchemeOut]
    slots: list[ValueOut]


class ApplicationChange(RequestBody):
    """What to change; absent: stays."""

    purpose: str | None = None
    owner: str | None = None
    scopes: list[ScopeIO] | None = None
    text: str | None = None
    profile: dict[str, Any] | None = None


def environment_out(environment: Environment) -> EnvironmentOut:
    """An environment as the page shows it."""
    return EnvironmentOut(
        key=environment.key,
        name=environment.name,
        look=environment.look,
        production=environment.production,
        wants_service_account=environment.wants_service_account,
    )


def scheme_out(scheme: profiles.Scheme) -> SchemeOut:
    """A scheme as the page shows it."""
    return SchemeOut(
        key=scheme.key,
        label=scheme.label,
        grant=scheme.grant,
        grants=list(scheme.grants),
        registers=scheme.registers,
        signs_in=scheme.signs_in,
        house_issues=scheme.house_issues,
        values=[value_out(value) for value in scheme.all_values()],
        settings=dict(scheme.settings),
        switches=list(scheme.switches),
    )


def value_out(value: Value) -> ValueOut:
    """A described value as the page shows it."""
    return ValueOut(
        key=value.key,
        label=value.label,
        type=value.type,
        help=value.help,
        where=value.where,
        required=value.required,
        secret=value.secret,
        choices=list(value.choices),
        pattern=value.pattern,
        example=value.example,
    )
