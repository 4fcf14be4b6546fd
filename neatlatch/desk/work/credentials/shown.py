"""What is shown of credentials, of their lives, and of what has leaked."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal
from uuid import UUID

from neatlatch.desk.authority.handovers import ReceiptOut

# How it is known whose a credential is: somebody said it, it is the workload's that draws with it,
# or it is what is noted of the account; empty: nobody's.
OwnerFrom = Literal["", "said", "workload", "account"]


@dataclass(frozen=True, kw_only=True)
class CredentialMarkOut:
    """The findings about a credential."""

    key: str
    says: str
    grave: bool


@dataclass(frozen=True, kw_only=True)
class CredentialOut:
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
    workload: UUID | None
    workload_name: str
    state: str
    issued: datetime
    ends: datetime | None
    over: bool
    # Whether its state lets it in; its end is another question.
    lives: bool
    source: str
    put_in_by: str
    owner: str
    owner_from: OwnerFrom
    last_used: datetime | None
    replaces: str
    replaced_by: str
    marks: list[CredentialMarkOut]


@dataclass(frozen=True, kw_only=True)
class LifeOut:
    """One thing that happened to a credential."""

    at: datetime
    who: str
    did: str
    why: str


@dataclass(frozen=True, kw_only=True)
class DrawnByOut:
    """A workload that drew it, and when last."""

    workload: UUID | None
    name: str
    last: datetime


@dataclass(frozen=True, kw_only=True)
class WholeCredentialOut(CredentialOut):
    """A credential's whole life.

    ``sealed``: its value is kept; ``reveals``: its environment permits showing it.

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


@dataclass(frozen=True, kw_only=True)
class StopOut:
    """When a connection stops if the credential is revoked, and who is hit.

    ``at``: ``null`` for at once.
    """

    ref: str
    at: datetime | None
    says: str
    workloads: list[str]


@dataclass(frozen=True, kw_only=True)
class ReachOut:
    """A connection that a workload draws, and what somebody may still have of it: until when it
    admits (``at``), and whether it ``lasts`` until the connection's own credential is replaced.
    ``last``: when the workload was last seen to draw it.
    """

    ref: str
    at: datetime | None
    lasts: bool
    says: str
    last: datetime | None


@dataclass(frozen=True, kw_only=True)
class DrawerOut:
    """The workload that draws with it.

    ``others``: how many other ways to draw it has; ``reach``: what anyone who has it could draw.
    """

    workload: UUID
    name: str
    owner: str
    relay: bool
    others: int
    reach: list[ReachOut]


@dataclass(frozen=True, kw_only=True)
class LeakedCredentialOut(CredentialOut):
    """A credential that was recognised: where it is used, what stops, and the quickest
    replacement.
    """

    stops: list[StopOut]
    acts: list[str]
    drawer: DrawerOut | None


@dataclass(frozen=True, kw_only=True)
class LeakedTokenOut:
    """An access token of the house that was recognised."""

    number: int
    client: str
    client_key: UUID
    ends: datetime
    alive: bool
    drawer: DrawerOut | None


@dataclass(frozen=True, kw_only=True)
class LeakedHeldTokenOut:
    """A token of a connection that was recognised: what it is worth, what ending it does, and
    whether the application has an address for that (RFC 7009).

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
    workloads: list[str]


@dataclass(frozen=True, kw_only=True)
class LeakedFamilyOut:
    """What a person allowed a client of the house, known by a refresh token that was recognised.

    ``spent``: it was used before, and gives no new token.
    """

    id: UUID
    client: str
    client_key: UUID
    person: str
    public: bool
    alive: bool
    spent: bool


@dataclass(frozen=True, kw_only=True)
class LeakedManagingOut:
    """A token that was recognised and manages a client's registration; ``house``: at the house
    authority.
    """

    client: str
    client_key: UUID
    application: str
    house: bool


@dataclass(frozen=True, kw_only=True)
class LeakedRightOut:
    """A right to register that was recognised."""

    id: UUID
    application: str
    hint: str


@dataclass(frozen=True, kw_only=True)
class LeakOut:
    """What was recognised. ``ours_by_form``: what looks like ours and is not known."""

    credentials: list[LeakedCredentialOut]
    tokens: list[LeakedTokenOut]
    held: list[LeakedHeldTokenOut]
    families: list[LeakedFamilyOut]
    managing: list[LeakedManagingOut]
    rights: list[LeakedRightOut]
    ours_by_form: list[str]
