"""Replacing a credential: what each way would do, and one replacement with its steps."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from neatlatch.core import exchanging
from neatlatch.desk.authority.records.house.models import Access
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import files as given_files
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.request_bodies import Moment, RequestBody
from neatlatch.desk.work.replacing import overview, services
from neatlatch.desk.work.replacing.models import Replacement

router = Router(tags=["replacing"])
LARGEST_FILE = 1024 * 1024


@dataclass(frozen=True, kw_only=True)
class PreviewOut:
    """What a way of replacing would do.

    ``gap_seconds``: for how long the connection is refused at the least; none: not at all.
    """

    way: str
    overlaps: bool
    gap_seconds: float | None
    says: list[str]


@dataclass(frozen=True, kw_only=True)
class PreviewsOut:
    """The ways, and the replacement that is under way, if one is."""

    ways: list[PreviewOut]
    connections: list[str]
    open: UUID | None


class BeginIn(RequestBody):
    """By which way."""

    way: str


@dataclass(frozen=True, kw_only=True)
class ReplacementStep:
    """A step, and what proves that it is done."""

    key: str
    title: str
    state: str
    says: str
    done_at: datetime | None


@dataclass(frozen=True, kw_only=True)
class MovingWorkload:
    """A workload of the connections. ``draws``: it moves by itself."""

    name: str
    draws: bool
    moved: bool


@dataclass(frozen=True, kw_only=True)
class ReplacementOut:
    """A replacement and how far it is.

    ``may_correct``: another value may be taken in in place of the new one. ``acts`` are to be done
    manually and ``costs`` to be known, before the new one is made; ``named``: what else the
    application may know the new one by.
    """

    id: UUID
    way: str
    overlaps: bool
    outcome: str
    begun: datetime
    begun_by: str
    kind: str
    application: str
    old: UUID
    old_hint: str
    new: UUID | None
    new_hint: str
    connections: list[str]
    steps: list[ReplacementStep]
    acts: list[str]
    named: str
    costs: list[str]
    workloads: list[MovingWorkload]
    may_roll_back: bool
    may_correct: bool
    tokens_alive: int
    said: str
    handover: UUID | None


class MakingIn(RequestBody):
    """The new one, where it was made manually: pasted, or a file in base64; ``name``: what the
    application knows it by, where that is another.
    """

    value: str = ""
    base64: str = ""
    password: str = ""
    name: str = ""
    ends: Moment | None = None


class RetiringIn(RequestBody):
    """Retire the old one; ``anyway``: though it was seen in use."""

    anyway: bool = False


class MovedIn(RequestBody):
    """Whether a workload has been changed manually."""

    name: str
    moved: bool


def _credential(identity: UUID) -> Credential:
    found = (
        Credential.objects.select_related(
            "client__deployment__application", "client__deployment__environment"
        )
        .filter(pk=identity)
        .first()
    )
    if found is None:
        raise problems.not_found("credential")
    return found


def _find(identity: UUID) -> Replacement:
    found = (
        Replacement.objects.select_related("old__client__deployment__application", "new__handover")
        .filter(pk=identity)
        .first()
    )
    if found is None:
        raise problems.not_found("replacement")
    return found


def _shape(identity: UUID) -> ReplacementOut:
    one, now = _find(identity), timezone.now()
    at, held = overview.standing(one), overview.connections_of(one)
    handover = getattr(one.new, "handover", None) if one.new is not None else None
    waits = handover is not None and handover.shown is None and handover.closed is None
    named = overview.name_of(one)
    open_by_hand = one.way == "hand" and one.outcome == "open" and one.proven is None
    application = (
        held[0].deployment.application.name
        if held
        else one.old.client.deployment.application.name
        if one.old.client
        else ""
    )
    return ReplacementOut(
        id=one.pk,
        way=one.way,
        overlaps=one.overlaps,
        outcome=one.outcome,
        begun=one.begun,
        begun_by=one.begun_by,
        kind=one.old.kind,
        application=application,
        old=one.old_id,
        old_hint=one.old.hint,
        new=one.new_id,
        new_hint=one.new.hint if one.new else "",
        connections=[each.ref for each in held],
        steps=[
            ReplacementStep(
                key=each.key,
                title=each.title,
                state=each.state,
                says=each.says,
                done_at=each.done_at,
            )
            for each in exchanging.steps(at, now)
        ],
        acts=overview.manual_acts(one.old, one.overlaps)
        if one.way == "hand" and one.made is None
        else [],
        named=named.label if named is not None and open_by_hand else "",
        may_correct=open_by_hand and one.made is not None,
        costs=next(
            (list(each.says) for each in overview.previews(one.old, now) if each.way == one.way), []
        )
        if one.made is None
        else [],
        workloads=[
            MovingWorkload(
                name=each.name, draws=each.draws, moved=each.draws or each.name in one.moved
            )
            for each in overview.workloads_of(one)
        ],
        may_roll_back=one.outcome == "open" and (one.made is None or exchanging.may_roll_back(at)),
        tokens_alive=Access.objects.filter(
            credential=one.old_id, revoked=None, ends__gt=now
        ).count(),
        said=one.said,
        handover=handover.pk if handover and waits else None,
    )


@router.get("/credentials/{identity}/replacement-previews", response=PreviewsOut)
def previews(request: HttpRequest, identity: UUID) -> PreviewsOut:
    """What replacing a credential would do, by each way, before anything is started."""
    guard.need(request, "look")
    found = _credential(identity)
    rows = overview.previews(found, timezone.now()) if found.lives else []
    return PreviewsOut(
        ways=[
            PreviewOut(
                way=row.way,
                overlaps=row.overlaps,
                gap_seconds=row.gap.total_seconds() if row.gap else None,
                says=list(row.says),
            )
            for row in rows
        ],
        connections=sorted({holder.connection.ref for holder in overview.holders(found)}),
        open=overview.open_ones([found.pk]).get(found.pk),
    )


@router.post("/credentials/{identity}/replacements", response={201: ReplacementOut})
def begin(request: HttpRequest, identity: UUID, body: BeginIn) -> tuple[int, ReplacementOut]:
    """Begin to replace a credential; one that is under way already is answered as it stands."""
    by = guard.need(request, "change")
    return 201, _shape(services.begin(by, _credential(identity), body.way).pk)


@router.get("/replacements/{identity}", response=ReplacementOut)
def replacement(request: HttpRequest, identity: UUID) -> ReplacementOut:
    """A replacement and how far it is."""
    guard.need(request, "look")
    return _shape(identity)


@router.post("/replacements/{identity}/new-credentials", response=ReplacementOut)
def make(request: HttpRequest, identity: UUID, body: MakingIn) -> ReplacementOut:
    """Make the new one, or take in what was made manually.

    Idempotent; another value takes the place of one that nobody has proven.
    """
    by = guard.need(request, "change")
    room, too_large = LARGEST_FILE - len(body.value), "This is larger than any credential."
    file = given_files.octets("", body.base64, "value", room, too_large)
    services.make(
        by,
        _find(identity),
        services.ManualCredential(body.value, file, body.password, body.name, body.ends),
    )
    return _shape(identity)


@router.post("/replacements/{identity}/proofs", response=ReplacementOut)
def prove(request: HttpRequest, identity: UUID) -> ReplacementOut:
    """Prove the new one at the application."""
    services.prove(guard.need(request, "test"), _find(identity))
    return _shape(identity)


@router.post("/replacements/{identity}/switches", response=ReplacementOut)
def switch(request: HttpRequest, identity: UUID) -> ReplacementOut:
    """Switch the connections over."""
    services.switch(guard.need(request, "change"), _find(identity))
    return _shape(identity)


@router.post("/replacements/{identity}/workload-changes", response=ReplacementOut)
def moved(request: HttpRequest, identity: UUID, body: MovedIn) -> ReplacementOut:
    """Record that a workload has been changed manually."""
    services.record_moved(guard.need(request, "change"), _find(identity), body.name, body.moved)
    return _shape(identity)


@router.post("/replacements/{identity}/rollbacks", response=ReplacementOut)
def roll_back(request: HttpRequest, identity: UUID) -> ReplacementOut:
    """Put the old one back."""
    services.roll_back(guard.need(request, "change"), _find(identity))
    return _shape(identity)


@router.post("/replacements/{identity}/retirements", response=ReplacementOut)
def retire(request: HttpRequest, identity: UUID, body: RetiringIn) -> ReplacementOut:
    """Retire the old one."""
    services.retire(guard.need(request, "change"), _find(identity), body.anyway)
    return _shape(identity)


@router.post("/replacements/{identity}/refusal-proofs", response=ReplacementOut)
def prove_refused(request: HttpRequest, identity: UUID) -> ReplacementOut:
    """Prove that the old one is refused."""
    services.prove_refused(guard.need(request, "test"), _find(identity))
    return _shape(identity)
