"""What the API takes and answers about connections."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from uuid import UUID

from neatlatch.desk.estate.connections import destinations
from neatlatch.desk.ground.common.request_bodies import Moment, RequestBody
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, SchemeOut, ValueOut


@dataclass(frozen=True, kw_only=True)
class PieceOut:
    """A run of characters, and whether the other side has it too."""

    text: str
    same: bool


@dataclass(frozen=True, kw_only=True)
class ActOut:
    """Something that would mend a pin."""

    key: str
    label: str
    value: str


@dataclass(frozen=True, kw_only=True)
class PinOut:
    """A pin: both values, how they fit, and why."""

    key: str
    label: str
    fit: str
    provider: str
    caller: str
    why: str
    provider_marked: list[PieceOut]
    caller_marked: list[PieceOut]
    acts: list[ActOut]


@dataclass(frozen=True, kw_only=True)
class GlyphOut:
    """The pins as a small drawing: one letter-free word for each, and all of them as a sentence."""

    fits: list[str]
    says: str


@dataclass(frozen=True, kw_only=True)
class FormerNameOut:
    """A name that a connection had, by which its workloads may still draw it. ``ends`` is when it
    ends unless somebody draws by it before; ``used_by`` names who last did.
    """

    name: str
    changed_at: datetime
    changed_by: str
    used_at: datetime | None
    used_by: str
    ends: datetime


@dataclass(frozen=True, kw_only=True)
class ConnectionRow:
    """A connection in the list."""

    ref: str
    application: str
    application_name: str
    environment: EnvironmentOut
    state: str
    glyph: GlyphOut
    latches: bool
    failing: str
    tested_at: datetime | None
    workloads: int
    paused: bool
    tags: list[str]


@dataclass(frozen=True, kw_only=True)
class Connections:
    """A page of connections."""

    items: list[ConnectionRow]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class UsedBy:
    """A workload of a connection, and what it lacks."""

    id: int
    workload: UUID
    name: str
    kind: str
    owner: str
    runs: str
    operations: list[str]
    lacks: list[str]


@dataclass(frozen=True, kw_only=True)
class DueOut:
    """Something that ends, or comes due."""

    what: str
    at: datetime | None
    says: str
    act: str = ""
    key: str = ""
    # The credential whose end people note here.
    credential: UUID | None = None


@dataclass(frozen=True, kw_only=True)
class ClientChoice:
    """A client registration that this connection could name."""

    id: UUID
    name: str
    client_id: str
    environment: str


@dataclass(frozen=True, kw_only=True)
class HeldSecretOut:
    """A secret of the caller side, without its value. ``hint`` is empty while there is none."""

    key: str
    label: str
    type: str
    where: str
    # The credential that is held; none: there is none.
    held: UUID | None
    hint: str
    ends: datetime | None
    put_in: datetime | None
    put_in_by: str
    # Requests are made with it.
    sent: bool
    # The credential whose end people note here.
    credential: UUID | None


@dataclass(frozen=True, kw_only=True)
class CertificateOut:
    """Our client certificate, explained."""

    subject: str
    sha256: str
    ends: datetime | None
    verdict: str
    says: str


@dataclass(frozen=True, kw_only=True)
class SchemeChoice:
    """Another of the ways the application offers."""

    key: str
    label: str


@dataclass(frozen=True, kw_only=True)
class SetAsideOut:
    """Tokens of a wrong account that were set aside: whose, since when, and who signed in."""

    account: str
    at: datetime
    by: str


@dataclass(frozen=True, kw_only=True)
class ConnectionOut(ConnectionRow):
    """A connection in full."""

    scheme: SchemeOut
    schemes: list[SchemeChoice]
    slots: dict[str, str]
    slot_values: list[ValueOut]
    secrets: list[HeldSecretOut]
    certificate: CertificateOut | None
    values: dict[str, str]
    scopes: list[str]
    pace: float
    time_limit: float
    version: int
    changed_at: datetime
    changed_by: str
    client: UUID | None
    managed: bool
    pins: list[PinOut]
    workloads_of: list[UsedBy]
    individual: bool
    tests_as: str
    team: str
    # How far tests go, in words; whether rounds may do real work as far as the connection is
    # concerned.
    tests_do: str
    work_in_rounds: bool
    # Minutes; 0: every round tests it.
    test_interval: int
    # Passes in a row since it was open, and how many make it latched; 0 where it was not open.
    # Whether rounds try what failed last.
    passes: int
    passes_wanted: int
    rounds_try_what_failed: bool
    due: list[DueOut]
    choices: list[ClientChoice]
    operations: list[str]
    signs_person_in: bool
    # Its application signs the calls that it sends to us.
    signs_calls: bool
    # Whether it has a token that can be renewed by hand.
    renewable: bool
    signed_in: bool
    curl: str
    last_test: UUID | None
    waiting_sign_in: datetime | None
    next_break: str = ""
    uncleared: list[destinations.MoveOut] = field(default_factory=list)
    set_aside: SetAsideOut | None = None
    name: str
    former_names: list[FormerNameOut]
    notes: dict[str, list[str]] = field(default_factory=dict)


class SetAsideChoice(RequestBody):
    """Whether to use the tokens that were set aside, or to end them."""

    use: bool


class ConnectionIn(RequestBody):
    """A new connection; ``name`` is the same for one purpose in each environment."""

    name: str
    application: str
    environment: str
    scheme: str
    client: UUID | None = None
    values: dict[str, str] = {}
    scopes: list[str] = []
    slots: dict[str, str] = {}
    secrets: dict[str, str] = {}
    secret_ends: Moment | None = None


class ConnectionChange(RequestBody):
    """What to change; absent: stays."""

    values: dict[str, str] | None = None
    slots: dict[str, str] | None = None
    scopes: list[str] | None = None
    pace: float | None = None
    time_limit: float | None = None
    paused: bool | None = None
    test_interval: int | None = None
    work_in_rounds: bool | None = None


class ActIn(RequestBody):
    """An act of a pin."""

    pin: str
    key: str
    value: str = ""


class SecretIn(RequestBody):
    """A new secret for the caller side; ``key`` is that of the value it is for (empty:
    the first).
    """

    secret: str
    key: str = ""
    ends: Moment | None = None


class CertificateIn(RequestBody):
    """A certificate, its chain and its key: PEM as text, or any of the forms in base64;
    ``password`` opens what is locked.
    """

    pem: str = ""
    base64: str = ""
    password: str = ""


class SchemeName(RequestBody):
    """The way in to take."""

    scheme: str


class SetUpIn(RequestBody):
    """What a set-up begins with."""

    application: str
    environment: str
    scheme: str
    name: str = ""


@dataclass(frozen=True, kw_only=True)
class SectionOut:
    """A step of setting up."""

    key: str
    title: str
    standing: str
    says: str


@dataclass(frozen=True, kw_only=True)
class EnvironmentChoice:
    """An environment to copy to."""

    key: str
    name: str


@dataclass(frozen=True, kw_only=True)
class SetUpOut:
    """Where a set-up stands."""

    sections: list[SectionOut]
    missing: list[str]
    next: str
    environments_left: list[str]
    copies_to: list[EnvironmentChoice]


class EnvironmentName(RequestBody):
    """An environment, by its key."""

    environment: str


@dataclass(frozen=True, kw_only=True)
class CopyOut:
    """A set-up that was begun in another environment: what was carried over, and what
    must be new.
    """

    ref: str
    carried: list[str]
    new: list[str]


class IntakeIn(RequestBody):
    """Anything that was pasted, or a dropped file in base64; ``connection`` is the one whose values
    it may fill.
    """

    text: str = ""
    base64: str = ""
    password: str = ""
    connection: str = ""


class IntakeTake(IntakeIn):
    """What to put in place: ``only`` these values (absent: all that are placed), and by choice what
    was open.
    """

    only: list[str] | None = None
    choices: dict[str, str] = {}


class ClientName(RequestBody):
    """The client registration to name."""

    client: UUID


class SignInIn(RequestBody):
    """The page to come back to; ``for_tests``: as the service account for tests, where each person
    has an account of their own.
    """

    back: str = ""
    for_tests: bool | None = None


@dataclass(frozen=True, kw_only=True)
class RenewalOut:
    """How a renewal went, in a sentence; ``ends``: when the access token that is held now ends."""

    renewed: bool
    says: str
    ends: datetime | None


@dataclass(frozen=True, kw_only=True)
class SignInOut:
    """Where to send the person."""

    id: UUID
    address: str


@dataclass(frozen=True, kw_only=True)
class SignInState:
    """How a sign-in went."""

    id: UUID
    connection: str
    outcome: str
    says: str
    ended: datetime | None


class UsedByIn(RequestBody):
    """A workload of the connection."""

    name: str
    kind: str = "job"
    owner: str = ""
    runs: str = ""
    operations: list[str] = []


@dataclass(frozen=True, kw_only=True)
class Draft:
    """What a new connection starts from."""

    scheme: SchemeOut
    values: dict[str, str]
    scopes: list[ScopeChoice]
    name: str
    secrets_known: list[str]
    slots: list[ValueOut]


@dataclass(frozen=True, kw_only=True)
class ScopeChoice:
    """A scope to choose."""

    name: str
    meaning: str
    kind: str
    administrator: bool
    permitted: bool
