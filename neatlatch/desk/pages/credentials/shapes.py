"""What the API takes and gives of credentials, handovers and leaks."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from neatlatch.desk.ground.common.request_bodies import Moment, RequestBody


@dataclass(frozen=True, kw_only=True)
class HandoverOut:
    """Where a handover stands.

    ``certificate``: it is a certificate's key, which may go as PKCS#12.
    """

    id: UUID
    client: str
    client_name: str
    hint: str
    ends: datetime | None
    shown: datetime | None
    closed: datetime | None


class LinkIn(RequestBody):
    """Whom the link is for."""

    to: str


@dataclass(frozen=True, kw_only=True)
class LinkMade:
    """A link and its code, shown this once. The link is sent one way, the code another."""

    address: str
    code: str
    ends: datetime


class FileIn(RequestBody):
    """Whose key, and the public key: PEM, certificate or JWK."""

    to: str
    key: str


@dataclass(frozen=True, kw_only=True)
class FileMade:
    """The encrypted file (JWE, compact form)."""

    name: str
    content: str


class Pkcs12In(RequestBody):
    """Whom a PKCS#12 file is for."""

    to: str


@dataclass(frozen=True, kw_only=True)
class Pkcs12Made:
    """A PKCS#12 file in base64, and the password that opens it."""

    name: str
    base64: str
    password: str


class LeakIn(RequestBody):
    """Whatever was found somewhere it should not be."""

    text: str


@dataclass(frozen=True, kw_only=True)
class HandoverLinkOut:
    """What the holder of a link is told before the code is given."""

    made_by: str
    to: str
    client: str
    application: str
    environment: str
    ends: datetime | None
    over: bool


class TakeIn(RequestBody):
    """The code that came by another channel, and who takes it."""

    code: str
    name: str


class RevealIn(RequestBody):
    """Why, and a fresh code of the second factor."""

    reason: str
    code: str


@dataclass(frozen=True, kw_only=True)
class RevealingOut:
    """Whether an environment permits showing a stored secret again."""

    environment: str
    name: str
    reveals: bool


class RevealingIn(RequestBody):
    """Whether it is permitted from now on; to permit it wants a fresh code of the second factor."""

    reveals: bool
    code: str = ""


@dataclass(frozen=True, kw_only=True)
class ShownSecretOut:
    """A new secret, this once."""

    value: str
    hide_after_seconds: int


class OwnerIn(RequestBody):
    """Whose a credential is: a person, a team or a contact by name; empty: nobody's own."""

    owner: str


class EndIn(RequestBody):
    """When a secret ends; null: no expiry date known."""

    ends: Moment | None
