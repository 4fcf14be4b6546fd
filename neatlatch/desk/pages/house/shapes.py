"""What the API takes and gives of the house authority."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from ninja import Schema

from neatlatch.desk.ground.common.given import Given, Moment
from neatlatch.desk.pages.applications import EnvironmentOut
from neatlatch.desk.pages.credentials.shapes import DrawnByOut


class SigningKeyOut(Schema):
    """A signing key and its turn."""

    kid: str
    turn: str
    published_from: datetime
    signs_from: datetime
    signs_until: datetime | None
    published_until: datetime | None
    made_by: str


class AcceptingOut(Schema):
    """An application that accepts what the house issues. ``asks_as``: the client that it asks about tokens as."""

    application: str
    name: str
    clients: int
    asks_as: str
    asker: UUID | None


class TurnedOut(Schema):
    """A request that was turned away, and what was really wrong."""

    at: datetime
    endpoint: str
    what: str
    client: str
    address: str


class RegistrationRightOut(Schema):
    """A right to register clients by protocol, without its token; ``scopes`` and ``grants`` are the most that such a client may have (``null``: any)."""

    id: UUID
    application: str
    hint: str
    made_by: str
    made: datetime
    ends: datetime
    left: int
    scopes: list[str] | None
    grants: list[str] | None


class AuthorityOut(Schema):
    """The authority of one environment."""

    environment: EnvironmentOut
    issuer: str
    metadata_address: str
    keys: list[SigningKeyOut]
    accepting: list[AcceptingOut]
    others: list[str]
    clients: int
    tokens: int
    rights: list[RegistrationRightOut]
    turned: list[TurnedOut]


class AcceptsIn(Given):
    """Whether an application accepts what the house issues."""

    accepts: bool


class HandoverMade(Schema):
    """Where the new secret is handed over."""

    client: UUID
    handover: UUID


class RegistrationRightIn(Given):
    """Who may register: for one application, so many clients, for so many days; with what scopes and grants at most (``null``: any)."""

    application: str
    uses: int = 1
    days: int = 7
    scopes: list[str] | None = None
    grants: list[str] | None = None


class RegistrationRightMade(RegistrationRightOut):
    """A new right; its token is shown this once."""

    token: str


class QuestionOut(Schema):
    """What a client asks a person to allow. ``refused``: why it cannot be asked."""

    client: str
    application: str
    environment: EnvironmentOut | None
    scopes: list[dict[str, str]]
    back_to: str
    person: str
    refused: str
    over: bool


class AllowIn(Given):
    """The person's answer."""

    allow: bool


class SentOn(Schema):
    """Where the browser goes on to."""

    location: str


class SecretLife(Schema):
    """A secret of a client of the house."""

    id: UUID
    kind: str
    hint: str
    named: str
    state: str
    issued: datetime
    ends: datetime | None
    over: bool
    last_used: datetime | None
    last_used_from: str
    tokens: int
    connections: list[str]
    drawn_by: list[DrawnByOut]
    why: str
    handover: UUID | None
    made_by: str


class TokenLife(Schema):
    """An access token that is alive."""

    number: int
    person: str
    secret: str
    scopes: list[str]
    issued: datetime
    ends: datetime


class IssuedOut(Schema):
    """What a client of the house holds."""

    client: UUID
    client_id: str
    issuer: str
    most_secrets: int
    secrets: list[SecretLife]
    tokens: list[TokenLife]
    tokens_alive: int
    allowed_by: list[str]
    turned: list[TurnedOut]


class AnotherSecretIn(Given):
    """Another secret. ``ends``: unless said, in half a year."""

    ends: Moment | None = None


class RevokeIn(Given):
    """RevokeIn something is revoked; ``tokens``: only these, by their numbers."""

    why: str = ""
    tokens: list[int] | None = None


class WhyIn(Given):
    """Why something is ended."""

    why: str = ""


class Ended(Schema):
    """How many tokens ended."""

    ended: int
