"""What the API takes and gives of the house authority."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from neatlatch.desk.ground.common.request_bodies import Moment, RequestBody
from neatlatch.desk.pages.applications.shapes import EnvironmentOut
from neatlatch.desk.work.credentials.shown import DrawnByOut


@dataclass(frozen=True, kw_only=True)
class SigningKeyOut:
    """A signing key and its turn."""

    kid: str
    turn: str
    published_from: datetime
    signs_from: datetime
    signs_until: datetime | None
    published_until: datetime | None
    made_by: str


@dataclass(frozen=True, kw_only=True)
class AcceptingOut:
    """An application that accepts what the house issues.

    ``asks_as``: the client that it asks about tokens as.
    """

    application: str
    name: str
    clients: int
    asks_as: str
    asker: UUID | None


@dataclass(frozen=True, kw_only=True)
class AcceptingApplications:
    """A page of these rows, and the cursor of the next."""

    items: list[AcceptingOut]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class RejectedRequestOut:
    """A request that was rejected, and what was really wrong."""

    at: datetime
    endpoint: str
    what: str
    client: str
    address: str


@dataclass(frozen=True, kw_only=True)
class RegistrationRightOut:
    """A right to register clients by protocol, without its token; ``scopes`` and ``grants`` are the
    most that such a client may have (``null``: any).
    """

    id: UUID
    application: str
    hint: str
    made_by: str
    made: datetime
    ends: datetime
    left: int
    scopes: list[str] | None
    grants: list[str] | None


@dataclass(frozen=True, kw_only=True)
class AuthorityOut:
    """The authority of one environment.

    ``accepting``: how many applications accept what it issues.
    """

    environment: EnvironmentOut
    issuer: str
    metadata_address: str
    keys: list[SigningKeyOut]
    accepting: int
    clients: int
    tokens: int
    rights: list[RegistrationRightOut]
    rejected_requests: list[RejectedRequestOut]


class AcceptsIn(RequestBody):
    """Whether an application accepts what the house issues."""

    accepts: bool


@dataclass(frozen=True, kw_only=True)
class HandoverMade:
    """Where the new secret is handed over."""

    client: UUID
    handover: UUID


class RegistrationRightIn(RequestBody):
    """Who may register: for one application, so many clients, for so many days; with what scopes
    and grants at most (``null``: any).
    """

    application: str
    uses: int = 1
    days: int = 7
    scopes: list[str] | None = None
    grants: list[str] | None = None


@dataclass(frozen=True, kw_only=True)
class RegistrationRightMade(RegistrationRightOut):
    """A new right; its token is shown this once."""

    token: str


@dataclass(frozen=True, kw_only=True)
class QuestionOut:
    """What a client asks a person to allow. ``refused``: why it cannot be asked."""

    client: str
    application: str
    environment: EnvironmentOut | None
    scopes: list[dict[str, str]]
    back_to: str
    person: str
    refused: str
    over: bool


class AllowIn(RequestBody):
    """The person's answer."""

    allow: bool


@dataclass(frozen=True, kw_only=True)
class RedirectionOut:
    """Where the browser goes on to."""

    location: str


@dataclass(frozen=True, kw_only=True)
class SecretLife:
    """A secret of a client of the house."""

    id: UUID
    kind: str
    hint: str
    named: str
    state: str
    issued: datetime
    ends: datetime | None
    over: bool
    # Whether its state lets it in; its end is another question.
    lives: bool
    last_used: datetime | None
    last_used_from: str
    tokens: int
    connections: list[str]
    drawn_by: list[DrawnByOut]
    why: str
    handover: UUID | None
    made_by: str


@dataclass(frozen=True, kw_only=True)
class TokenLife:
    """An access token that is alive."""

    number: int
    person: str
    secret: str
    scopes: list[str]
    issued: datetime
    ends: datetime


@dataclass(frozen=True, kw_only=True)
class IssuedOut:
    """What a client of the house holds."""

    client: UUID
    client_id: str
    issuer: str
    most_secrets: int
    secrets: list[SecretLife]
    tokens: list[TokenLife]
    tokens_alive: int
    allowed_by: list[str]
    rejected_requests: list[RejectedRequestOut]


class AnotherSecretIn(RequestBody):
    """Another secret. ``ends``: by default in half a year."""

    ends: Moment | None = None


class RevokeIn(RequestBody):
    """RevokeIn something is revoked; ``tokens``: only these, by their numbers."""

    why: str = ""
    tokens: list[int] | None = None


class WhyIn(RequestBody):
    """Why something is ended."""

    why: str = ""


@dataclass(frozen=True, kw_only=True)
class EndedTokensOut:
    """How many tokens ended."""

    ended: int
