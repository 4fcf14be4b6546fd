"""What the API takes and gives of credentials, handovers and leaks."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from ninja import Schema

from neatlatch.desk.ground.common.given import Given, Moment


class CredentialMarkOut(Schema):
    """What stands out about a credential."""

    key: str
    says: str
    grave: bool


class CredentialOut(Schema):
    """A credential, without its value. ``house``: the house authority issued it."""

    id: UUID
    kind: str
    house: bool
    hint: str
    application: str
    environment: str
    client: str
    client_id: str
    client_key: UUID | None
    connections: list[str]
    user: UUID | None
    user_name: str
    state: str
    issued: datetime
    ends: datetime | None
    over: bool
    source: str
    put_in_by: str
    owner: str
    last_used: datetime | None
    replaces: str
    replaced_by: str
    marks: list[CredentialMarkOut]


class LifeOut(Schema):
    """One thing that happened to a credential."""

    at: datetime
    who: str
    did: str
    why: str


class DrawnByOut(Schema):
    """A user that drew it, and when last."""

    user: UUID | None
    name: str
    last: datetime


class HandoverOut(Schema):
    """Where a handover stands. ``certificate``: it is a certificate's key, which may go as PKCS#12."""

    id: UUID
    client: str
    client_name: str
    hint: str
    ends: datetime | None
    shown: datetime | None
    closed: datetime | None


class LinkIn(Given):
    """Whom the link is for."""

    to: str


class LinkMade(Schema):
    """A link and its code, shown this once. The link goes by one road, the code by another."""

    address: str
    code: str
    ends: datetime


class FileIn(Given):
    """Whose key, and the public key: PEM, certificate or JWK."""

    to: str
    key: str


class FileMade(Schema):
    """The encrypted file (JWE, compact form)."""

    name: str
    content: str


class Pkcs12In(Given):
    """Whom a PKCS#12 file is for."""

    to: str


class Pkcs12Made(Schema):
    """A PKCS#12 file in base64, and the password that opens it."""

    name: str
    base64: str
    password: str


class ReceiptOut(Schema):
    """What became of a handover: who, when, what hint."""

    id: UUID
    hint: str
    client: str
    client_name: str
    application: str
    environment: str
    form: str
    to: str
    made_by: str
    made: datetime
    ends: datetime | None
    taken: datetime | None
    taken_by: str
    taken_from: str
    state: str
    outcome: str


class WholeCredentialOut(CredentialOut):
    """A credential's whole life. ``sealed``: its value is kept; ``reveals``: its environment permits showing it.

    ``also_held_by``: connections that hold the very same value, put in there apart from this one.
    """

    also_held_by: list[str]
    sealed: bool
    fingerprint: str
    named: str
    public_key: str
    why: str
    revoked: datetime | None
    reveals: bool
    # Who else says when it ends, as a sentence; empty: people do.
    end_told_by: str
    life: list[LifeOut]
    receipt: ReceiptOut | None
    drawn_by: list[DrawnByOut]
    replaces_key: UUID | None
    replaced_by_key: UUID | None
    replacement: UUID | None


class LeakIn(Given):
    """Whatever was found somewhere it should not be."""

    text: str


class StopOut(Schema):
    """When a connection stops if the credential is revoked, and who is hit. ``at``: ``null`` for at once."""

    ref: str
    at: datetime | None
    says: str
    users: list[str]


class ReachOut(Schema):
    """A connection that a user draws, and what somebody may still have of it: until when it lets in (``at``), and whether it ``lasts`` until the connection's own
    credential is replaced. ``last``: when the user was last seen to draw it."""

    ref: str
    at: datetime | None
    lasts: bool
    says: str
    last: datetime | None


class DrawerOut(Schema):
    """The user that draws with it. ``others``: how many other ways to draw it has; ``reach``: what whoever has it could draw."""

    user: UUID
    name: str
    owner: str
    relay: bool
    others: int
    reach: list[ReachOut]


class LeakedCredentialOut(CredentialOut):
    """A credential that was recognised: where it is used, what stops, and the quickest replacement."""

    stops: list[StopOut]
    acts: list[str]
    drawer: DrawerOut | None


class LeakedTokenOut(Schema):
    """An access token of the house that was recognised."""

    number: int
    client: str
    client_key: UUID
    ends: datetime
    alive: bool
    drawer: DrawerOut | None


class LeakedHeldOut(Schema):
    """A token of a connection that was recognised: what it is worth, what ending it does, and whether the application has an address for that (RFC 7009).

    ``set_aside``: of a wrong account that signed in; nothing uses it.
    """

    ref: str
    set_aside: bool
    application: str
    refresh: bool
    person: str
    person_name: str
    ends: datetime | None
    alive: bool
    says: str
    after: str
    ends_there: bool
    users: list[str]


class LeakedFamilyOut(Schema):
    """What a person allowed a client of the house, known by a refresh token that was recognised. ``spent``: it was used before, and gives no new token."""

    id: UUID
    client: str
    client_key: UUID
    person: str
    public: bool
    alive: bool
    spent: bool


class LeakedManagingOut(Schema):
    """A token that was recognised and manages a client's registration; ``house``: at the house authority."""

    client: str
    client_key: UUID
    application: str
    house: bool


class LeakedRightOut(Schema):
    """A right to register that was recognised."""

    id: UUID
    application: str
    hint: str


class LeakOut(Schema):
    """What was recognised. ``ours_by_form``: what looks like ours and is not known."""

    credentials: list[LeakedCredentialOut]
    tokens: list[LeakedTokenOut]
    held: list[LeakedHeldOut]
    families: list[LeakedFamilyOut]
    managing: list[LeakedManagingOut]
    rights: list[LeakedRightOut]
    ours_by_form: list[str]


class AskedHandoverOut(Schema):
    """What the holder of a link is told before the code is given."""

    made_by: str
    to: str
    client: str
    application: str
    environment: str
    ends: datetime | None
    over: bool


class TakeIn(Given):
    """The code that came by another road, and who takes it."""

    code: str
    name: str


class RevealIn(Given):
    """Why, and a fresh code of the second factor."""

    reason: str
    code: str


class RevealingOut(Schema):
    """Whether an environment permits showing a stored secret again."""

    environment: str
    name: str
    reveals: bool


class RevealingIn(Given):
    """Whether it is permitted from now on; to permit it wants a fresh code of the second factor."""

    reveals: bool
    code: str = ""


class Shown(Schema):
    """A new secret, this once."""

    value: str
    hide_after_seconds: int


class EndIn(Given):
    """When a secret ends; null: no end is known."""

    ends: Moment | None
