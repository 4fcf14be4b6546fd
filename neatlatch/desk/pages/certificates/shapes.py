"""What the API says of certificates."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from neatlatch.core.certificates import explaining, facts
from neatlatch.core.certificates.replacing import ReplacementStep
from neatlatch.desk.authority.certificates import services
from neatlatch.desk.authority.records.certificates.models import Authority, Issued
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common.request_bodies import Moment, RequestBody
from neatlatch.desk.pages.applications.shapes import EnvironmentOut


@dataclass(frozen=True, kw_only=True)
class ChainLinkOut:
    """One certificate of a chain.

    ``broken``: why the chain is not good, where it is this one's fault.
    """

    role: str
    subject: str
    issuer: str
    serial: str
    not_before: datetime
    not_after: datetime
    sha256: str
    sha1: str
    x5t_s256: str
    key: str
    signature: str
    names: list[str]
    purposes: list[str] | None
    ends_first: bool
    trusted: bool
    broken: str


@dataclass(frozen=True, kw_only=True)
class CertificateChain:
    """A chain from the leaf upwards. ``ends``: the earliest end in it."""

    verdict: str
    says: str
    ends: datetime | None
    links: list[ChainLinkOut]


@dataclass(frozen=True, kw_only=True)
class SigningRequestOut:
    """A signing request, explained."""

    subject: str
    names: list[str]
    key: str
    holds: bool


@dataclass(frozen=True, kw_only=True)
class RevokedOut:
    """An entry of a revocation list."""

    serial: str
    at: datetime
    reason: str


@dataclass(frozen=True, kw_only=True)
class RevocationsOut:
    """A revocation list, explained."""

    issuer: str
    number: int | None
    this_update: datetime
    next_update: datetime | None
    count: int
    revoked: list[RevokedOut]


class ReadingIn(RequestBody):
    """What is to be explained: text in PEM, or any form in base64.

    ``trust``: ``its-own``, ``none``, or an environment whose roots are trusted.
    """

    text: str = ""
    base64: str = ""
    password: str = ""
    trust: str = "its-own"
    purpose: str = "any"
    host: str = ""
    at: Moment | None = None


@dataclass(frozen=True, kw_only=True)
class ReadingOut:
    """A file, explained. Nothing of it is kept."""

    chain: CertificateChain | None
    others: list[str]
    key: str
    key_fits: bool | None
    requests: list[SigningRequestOut]
    lists: list[RevocationsOut]
    notes: list[str]
    friendly_name: str
    locked: bool


@dataclass(frozen=True, kw_only=True)
class CertificateRow:
    """A certificate that the house issued.

    ``ends``: the earliest end in its chain; ``waits``: its key has not been handed over yet.
    """

    id: UUID
    common_name: str
    names: list[str]
    profile: str
    client: str
    client_key: UUID
    application: str
    application_key: str
    environment: str
    serial: str
    hint: str
    state: str
    issued: datetime
    ends: datetime
    authority: str
    by_request: bool
    waits: bool
    revoked: datetime | None
    reason: str
    replaced_by: UUID | None
    connections: list[str]


@dataclass(frozen=True, kw_only=True)
class Certificates:
    """A page of certificates."""

    items: list[CertificateRow]
    next: str | None


@dataclass(frozen=True, kw_only=True)
class WholeCertificateOut(CertificateRow):
    """One certificate of the house with its chain."""

    chain: CertificateChain
    pem: str
    handover: UUID | None
    replaces: UUID | None
    why: str


@dataclass(frozen=True, kw_only=True)
class ItemOut:
    """One receiver or one certificate that a step is about."""

    key: str
    name: str
    done: bool
    says: str


@dataclass(frozen=True, kw_only=True)
class StepOutline:
    """A step of replacing an authority."""

    key: str
    title: str
    why: str
    state: str
    waits_for: str
    items: list[ItemOut]


@dataclass(frozen=True, kw_only=True)
class AuthorityRow:
    """A root, and the authority that issues below it."""

    id: UUID
    name: str
    issuing: str
    state: str
    ends: datetime
    alive: int
    list_address: str
    chain: CertificateChain


@dataclass(frozen=True, kw_only=True)
class HouseCertificates:
    """The certificate authority of an environment."""

    environment: EnvironmentOut
    trust_address: str
    authorities: list[AuthorityRow]
    steps: list[StepOutline]
    moved_by: datetime | None


class CertificateOrderIn(RequestBody):
    """What is to be issued: by a signing request, or with a key that the house makes."""

    common_name: str = ""
    names: list[str] = []
    days: int = 0
    request: str = ""
    key_kind: str = "EC"


class ServerCertificateOrderIn(CertificateOrderIn):
    """A certificate for an application's own servers."""

    application: str
    environment: str


class RenewalIn(RequestBody):
    """A renewal: with a new request where its holder makes the key."""

    request: str = ""
    days: int = 0


class CertificateRevocation(RequestBody):
    """Why it is revoked: one of the standard's reasons, and words for the journal."""

    reason: str
    why: str = ""


@dataclass(frozen=True, kw_only=True)
class CertificateMade:
    """A certificate that was issued, and where its key is handed over; none: its holder has it."""

    id: UUID
    handover: UUID | None
    pem: str


class SwitchIn(RequestBody):
    """Whether the new authority issues."""

    new: bool


class TrustIn(RequestBody):
    """Whether a receiver trusts a root."""

    receiver: str
    trusts: bool


def link(linked: explaining.Link) -> ChainLinkOut:
    """A certificate of a chain."""
    told = linked.facts
    return ChainLinkOut(
        role=linked.role,
        subject=told.subject,
        issuer=told.issuer,
        serial=told.serial_hex,
        not_before=told.not_before,
        not_after=told.not_after,
        sha256=told.sha256,
        sha1=told.sha1,
        x5t_s256=told.x5t_s256,
        key=told.key.words,
        signature=told.signature_hash or told.signature_oid,
        names=[*told.dns_names, *told.ip_addresses, *told.uris],
        purposes=None if told.purposes is None else list(told.purposes),
        ends_first=linked.ends_first,
        trusted=linked.trusted,
        broken=linked.broken,
    )


def chain(explained: explaining.Chain) -> CertificateChain:
    """A chain."""
    return CertificateChain(
        verdict=explained.verdict,
        says=explained.says,
        ends=explained.ends,
        links=[link(each) for each in explained.links],
    )


def reading(explained: explaining.ExplainedFile, locked: bool) -> ReadingOut:
    """A file, explained."""
    return ReadingOut(
        chain=chain(explained.chain) if explained.chain else None,
        others=[each.subject for each in explained.others],
        key=explained.key.words if explained.key else "",
        key_fits=explained.key_fits,
        notes=list(explained.notes),
        friendly_name=explained.friendly_name,
        locked=locked,
        requests=[
            SigningRequestOut(
                subject=each.subject,
                names=list(each.dns_names),
                key=each.key.words,
                holds=each.signature_valid,
            )
            for each in explained.requests
        ],
        lists=[_list(each) for each in explained.lists],
    )


def _list(list_facts: facts.ListFacts) -> RevocationsOut:
    return RevocationsOut(
        issuer=list_facts.issuer,
        number=list_facts.number,
        this_update=list_facts.this_update,
        next_update=list_facts.next_update,
        count=len(list_facts.revoked),
        revoked=[
            RevokedOut(serial=each.serial_hex, at=each.at, reason=each.reason)
            for each in list_facts.revoked[:200]
        ],
    )


def _waits(credential: Credential) -> bool:
    """Whether its key waits for being handed over."""
    handover = getattr(credential, "handover", None)
    return (
        handover is not None
        and handover.shown is None
        and handover.closed is None
        and credential.lives
    )


def row(issued: Issued, replaced_by: UUID | None, now: datetime) -> CertificateRow:
    """A certificate for the list."""
    credential, client = issued.credential, issued.credential.client
    assert client is not None
    ends = min(issued.not_after, issued.authority.not_after)
    return CertificateRow(
        id=issued.pk,
        common_name=issued.common_name,
        names=issued.names,
        profile=issued.profile,
        client=client.name,
        client_key=client.pk,
        application=client.deployment.application.name,
        application_key=client.deployment.application.key,
        environment=client.deployment.environment.name,
        serial=issued.serial,
        hint=credential.hint,
        state="revoked" if issued.revoked else "ended" if ends <= now else "lives",
        issued=credential.issued,
        ends=ends,
        authority=issued.authority.name,
        by_request=issued.by_request,
        waits=_waits(credential),
        revoked=issued.revoked,
        reason=issued.reason,
        replaced_by=replaced_by,
        connections=sorted({held.connection.ref for held in credential.holders.all()}),
    )


def step(planned: ReplacementStep) -> StepOutline:
    """A step of a replacement."""
    return StepOutline(
        key=planned.key,
        title=planned.title,
        why=planned.why,
        state=planned.state,
        waits_for=planned.waits_for,
        items=[
            ItemOut(key=each.key, name=each.name, done=each.done, says=each.says)
            for each in planned.items
        ],
    )


def authority(
    root: Authority, issuing: Authority, alive: int, judged: explaining.Chain
) -> AuthorityRow:
    """A root with what issues below it."""
    return AuthorityRow(
        id=root.pk,
        name=root.name,
        issuing=issuing.name,
        state=root.state,
        ends=min(root.not_after, issuing.not_after),
        alive=alive,
        list_address=services.address_of(issuing, "crl"),
        chain=chain(judged),
    )
