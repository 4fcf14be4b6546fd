"""Pages about drawing: what a workload draws with, who drew what and when last, and lines to
paste.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from django.conf import settings
from django.db import transaction
from django.db.models import Max, Sum
from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from neatlatch.core import schemes
from neatlatch.core.addresses import is_network
from neatlatch.core.drawn import WORDS, HandsOut, Right, hands_out
from neatlatch.core.formats import paste
from neatlatch.desk.authority.certificates import services as certificates
from neatlatch.desk.authority.house.own import DRAW
from neatlatch.desk.estate.connections import drawers, naming
from neatlatch.desk.estate.connections.destinations import permission_of
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.request_bodies import Moment, RequestBody
from neatlatch.desk.work.drawing import services
from neatlatch.desk.work.drawing.models import Drawn
from neatlatch.desk.work.drawing.signed_calls import CHECK

router = Router(tags=["drawing"])


class OwnKeyIn(RequestBody):
    """What a workload is to draw with: a ``key``, a ``client`` of OAuth 2.0, or a ``certificate``
    (with ``request``: for the key in that signing request). Its ``right``: ``relay``, to send
    requests through the relay only, or ``draw``, to take headers too.
    """

    kind: str = "key"
    right: Right = "relay"
    ends: Moment | None = None
    addresses: list[str] = []
    request: str = ""


@dataclass(frozen=True, kw_only=True)
class OwnKeyMade:
    """What it was given, and where its secret is handed over; none: its holder has the key.

    ``pem``: the certificate with its chain.
    """

    client: UUID
    handover: UUID | None
    pem: str


@dataclass(frozen=True, kw_only=True)
class OwnKeyOut:
    """What a workload draws with."""

    client: UUID
    name: str
    kind: str
    right: Right
    addresses: list[str]
    hints: list[str]
    ends: datetime | None
    last_used: datetime | None
    handover: UUID | None


@dataclass(frozen=True, kw_only=True)
class DrawnOut:
    """Draws of one workload on one connection."""

    workload: UUID | None
    workload_name: str
    ref: str
    today: int
    week: int
    failed: int
    last: datetime
    secrets: list[str]


@dataclass(frozen=True, kw_only=True)
class DrawOutcomeOut:
    """What a draw of a connection that a workload uses hands out: a ``token``, a ``signature``, the
    ``secret`` itself or ``nothing``; and the same in words. ``not_let`` names workloads that draw,
    and that nobody let have the secret itself.
    """

    ref: str
    hands_out: HandsOut
    says: str
    not_let: list[str] = field(default_factory=list)


@dataclass(frozen=True, kw_only=True)
class LineOut:
    """Lines to paste into a job."""

    language: str
    text: str


def _workload(identity: UUID) -> Workload:
    found = Workload.objects.select_related("environment").filter(pk=identity).first()
    if found is None:
        raise problems.not_found("workload")
    return found


_KINDS = {schemes.BEARER: "key", schemes.CERTIFICATE: "certificate"}


def _own(workload: Workload) -> list[OwnKeyOut]:
    now, found = timezone.now(), []
    for client in (
        Client.objects.filter(workload=workload)
        .prefetch_related("credentials__handover")
        .order_by("created")
    ):
        live = [
            credential
            for credential in client.credentials.all()
            if credential.digest
            and credential.lives
            and (credential.ends is None or credential.ends > now)
        ]
        waiting = [
            credential.handover.pk
            for credential in live
            if hasattr(credential, "handover")
            and not credential.handover.shown
            and not credential.handover.closed
        ]
        found.append(
            OwnKeyOut(
                client=client.pk,
                name=client.name,
                kind=_KINDS.get(client.scheme, "client"),
                right="draw" if DRAW in client.scopes else "relay",
                addresses=client.allow_list,
                hints=[credential.hint for credential in live],
                ends=max((credential.ends for credential in live if credential.ends), default=None),
                last_used=max(
                    (credential.last_used for credential in live if credential.last_used),
                    default=None,
                ),
                handover=waiting[0] if waiting else None,
            )
        )
    return found


@router.get("/workloads/{identity}/keys", response=list[OwnKeyOut])
def keys(request: HttpRequest, identity: UUID) -> list[OwnKeyOut]:
    """What a workload draws with."""
    guard.need(request, "look")
    return _own(_workload(identity))


@router.post("/workloads/{identity}/keys", response={201: OwnKeyMade})
def give(request: HttpRequest, identity: UUID, body: OwnKeyIn) -> tuple[int, OwnKeyMade]:
    """Give a workload a key or a client of its own to draw with."""
    by, workload = guard.need(request, "change"), _workload(identity)
    leave = permission_of(request, by)
    if wrong := [address for address in body.addresses if not is_network(address)]:
        raise problems.wrong_fields(
            {
                "addresses": (
                    f"“{wrong[0][:60]}” is neither an address nor a network like 203.0.113.40/29."
                )
            }
        )

    def create() -> tuple[int, OwnKeyMade]:
        client, handover = services.give(
            by, workload, body.kind, body.right, body.ends, body.addresses, body.request, leave
        )
        issued = certificates.newest(client) if handover is None else None
        return 201, OwnKeyMade(
            client=client.pk,
            handover=handover.pk if handover else None,
            pem=issued.chain() if issued else "",
        )

    return guard.repeatable(request, body.dict(), create, alone=True)


@router.delete("/workloads/{identity}/keys/{client}", response={204: None})
def take_away(request: HttpRequest, identity: UUID, client: UUID) -> tuple[int, None]:
    """Take away what a workload draws with: every secret and token of it is refused from now on."""
    by = guard.need(request, "change")
    found = (
        Client.objects.select_related("deployment__application")
        .filter(workload=_workload(identity), pk=client)
        .first()
    )
    if found is None:
        raise problems.not_found("key")
    services.take_away(by, found)
    return 204, None


def _draw_outcome(connection: Connection) -> DrawOutcomeOut:
    found = hands_out(connection.scheme)
    return DrawOutcomeOut(ref=connection.ref, hands_out=found, says=WORDS[found])


@router.get("/workloads/{identity}/drawables", response=list[DrawOutcomeOut])
def drawables(request: HttpRequest, identity: UUID) -> list[DrawOutcomeOut]:
    """What draws of the connections that a workload uses hand out."""
    guard.need(request, "look")
    uses = (
        Use.objects.select_related("connection")
        .filter(workload=_workload(identity))
        .exclude(connection=None)
        .order_by("connection__ref")
    )
    return [_draw_outcome(use.connection) for use in uses[:200] if use.connection]


@router.get("/connections/{ref:ref}/drawables", response=DrawOutcomeOut)
def drawable(request: HttpRequest, ref: str) -> DrawOutcomeOut:
    """What a draw of a connection hands out."""
    guard.need(request, "look")
    found = _connection(ref)
    return replace(
        _draw_outcome(found),
        not_let=[drawer.name for drawer in _drawers_of(found) if drawers.not_let(drawer, found)],
    )


@router.post("/connections/{ref:ref}/drawables", response=DrawOutcomeOut)
def let(request: HttpRequest, ref: str) -> DrawOutcomeOut:
    """Let the workloads that draw this connection have its secret itself.

    The clearance is in header fields, as with a change that sends it elsewhere.
    """
    by = guard.need(request, "change")
    found, leave = _connection(ref), permission_of(request, by)
    with transaction.atomic():
        for drawer in _drawers_of(found):
            drawers.let(by, drawer, [found], leave)
    return drawable(request, ref)


def _connection(ref: str) -> Connection:
    found = Connection.objects.filter(ref=ref).first()
    if found is None:
        raise naming.no_connection(ref)
    return found


def _drawers_of(connection: Connection) -> list[Workload]:
    """The workloads of a connection that have a key to draw with."""
    owners = Client.objects.filter(workload__uses__connection=connection).only(
        "workload_id", "scopes"
    )
    return list(
        Workload.objects.filter(
            pk__in={owner.workload_id for owner in owners if DRAW in owner.scopes}
        )[:200]
    )


# Checks of signed calls are told of by themselves.
_DRAWS = Drawn.objects.exclude(way=CHECK)


def _drawn(rows: Any) -> list[DrawnOut]:
    """Draws by workload and connection, the latest first. Four queries, however many there are."""
    now = timezone.now()
    whole = list(
        rows.values("workload", "connection")
        .annotate(failures=Sum("failed"), latest=Max("last"))
        .order_by("-latest")[:200]
    )
    pairs = {(drawn["workload"], drawn["connection"]) for drawn in whole}

    def counted(since: timedelta) -> dict[tuple[Any, Any], int]:
        recent = (
            rows.filter(begins__gte=now - since)
            .values("workload", "connection")
            .annotate(n=Sum("count"))
        )
        return {(row["workload"], row["connection"]): row["n"] for row in recent}

    day, week = counted(timedelta(days=1)), counted(timedelta(days=7))
    recent = (
        rows.filter(begins__gte=now - timedelta(days=7))
        .exclude(credential="")
        .values_list("workload", "connection", "credential")
        .distinct()
    )
    used: dict[tuple[Any, Any], set[str]] = {}
    for workload, connection, credential in recent:
        used.setdefault((workload, connection), set()).add(credential)
    hints = {
        str(pk): hint
        for pk, hint in Credential.objects.filter(
            pk__in={one for each in used.values() for one in each}
        ).values_list("pk", "hint")
    }
    workloads = dict(
        Workload.objects.filter(pk__in={one for one, _ in pairs}).values_list("pk", "name")
    )
    refs = dict(
        Connection.objects.filter(pk__in={one for _, one in pairs}).values_list("pk", "ref")
    )
    return [
        DrawnOut(
            workload=drawn["workload"] if drawn["workload"] in workloads else None,
            workload_name=workloads.get(drawn["workload"], "a workload that is gone"),
            ref=refs.get(drawn["connection"], ""),
            today=day.get((drawn["workload"], drawn["connection"]), 0),
            week=week.get((drawn["workload"], drawn["connection"]), 0),
            failed=drawn["failures"],
            last=drawn["latest"],
            secrets=sorted(
                hints.get(each, "")
                for each in used.get((drawn["workload"], drawn["connection"]), set())
            ),
        )
        for drawn in whole
    ]


@router.get("/workloads/{identity}/draws", response=list[DrawnOut])
def draws_of_workload(request: HttpRequest, identity: UUID) -> list[DrawnOut]:
    """What a workload drew, and when last."""
    guard.need(request, "look")
    return _drawn(_DRAWS.filter(workload=_workload(identity).pk))


@router.get("/connections/{ref:ref}/draws", response=list[DrawnOut])
def draws_of_connection(request: HttpRequest, ref: str) -> list[DrawnOut]:
    """Who drew a connection, when last, and by which secret."""
    guard.need(request, "look")
    found = Connection.objects.filter(ref=ref).first()
    if found is None:
        raise naming.no_connection(ref)
    return _drawn(_DRAWS.filter(connection=found.pk))


@router.get("/connections/{ref:ref}/snippets", response=list[LineOut])
def lines(request: HttpRequest, ref: str) -> list[LineOut]:
    """Lines to paste into a job that uses a connection."""
    guard.need(request, "look")
    found = Connection.objects.select_related("deployment__application").filter(ref=ref).first()
    if found is None:
        raise naming.no_connection(ref)
    harmless = found.deployment.application.read_profile().harmless_call()
    used = Use.objects.filter(connection=found).values_list("operations", flat=True)
    called = next(
        (one.partition(" ")[2] for each in used for one in each if one.startswith("GET ")),
        harmless.path if harmless else "/",
    )
    return [
        LineOut(language=language, text=text)
        for language, text in paste.lines(settings.PUBLIC_URL, found.name, called).items()
    ]
