"""Certificates: explaining any, the house's own, and replacing an authority."""

from __future__ import annotations

from datetime import datetime
from typing import Any, get_args
from uuid import UUID

from cryptography.hazmat.primitives.serialization import Encoding
from django.conf import settings
from django.db import transaction
from django.db.models import Q, QuerySet
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router

from neatlatch.core.certificates import explaining, path, replacing
from neatlatch.core.certificates import reading as files
from neatlatch.desk.authority.certificates import replacing as replacements
from neatlatch.desk.authority.certificates import services
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.authority.records.certificates.models import Authority, Issued
from neatlatch.desk.estate.lookups import find_client, find_deployment, find_environment
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import files as given_files
from neatlatch.desk.ground.common import heavy, problems
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.pages.applications.shapes import environment_out

from . import shapes
from .shapes import (
    CertificateMade,
    CertificateOrderIn,
    CertificateRevocation,
    CertificateRow,
    Certificates,
    HouseCertificates,
    ReadingIn,
    ReadingOut,
    RenewalIn,
    ServerCertificateOrderIn,
    SwitchIn,
    TrustIn,
    WholeCertificateOut,
)

router = Router(tags=["certificates"])
LARGEST_FILE = 1024 * 1024


# Explaining


@router.post("/certificate-readings", response=ReadingOut)
def read(request: HttpRequest, body: ReadingIn) -> ReadingOut:
    """Read and explain a certificate, a chain, a signing request, a revocation list or a PKCS#12
    file. Nothing of it is kept.
    """
    guard.need(request, "look")
    too_large = "This is larger than any certificate with its chain."
    data = given_files.octets(body.text.strip(), body.base64, "text", LARGEST_FILE, too_large)
    if body.purpose not in get_args(path.Purpose):
        raise wrong_fields({"purpose": "Choose server, client or any."})
    trusted, at = _trusted(body.trust), body.at or timezone.now()
    try:
        told, locked = heavy.run(
            explaining.explain_file,
            data,
            body.password or None,
            trusted,
            at,
            body.purpose,
            body.host.strip(),
            body.trust == "its-own",
        )
    except files.Unreadable as error:
        raise wrong_fields({"password" if error.needs_password else "text": str(error)}) from error
    return shapes.reading(told, locked)


def _trusted(trust: str) -> list[bytes]:
    """The roots of a trust store by its name, in DER. Raises a field error."""
    if trust in ("its-own", "none"):
        return []
    environment = Environment.objects.filter(key=trust).first()
    if environment is None:
        raise wrong_fields({"trust": "There is no such trust store."})
    return [
        authority.certificate().public_bytes(Encoding.DER)
        for authority in services.trusted(environment)
    ]


# What the house issued


def _listed(now: datetime, rows: list[Issued]) -> list[CertificateRow]:
    """Rows of certificates that were read by :func:`_with_holders`. One more query."""
    after = dict(
        Issued.objects.filter(credential__replaces__in=[issued.pk for issued in rows])
        .values_list("credential__replaces_id", "pk")
        .order_by("credential__issued")
    )
    return [shapes.row(issued, after.get(issued.pk), now) for issued in rows]


def _with_holders(rows: QuerySet[Issued]) -> QuerySet[Issued]:
    return (
        rows.filter(credential__client__isnull=False)
        .select_related(
            "authority",
            "credential__client__deployment__application",
            "credential__client__deployment__environment",
            "credential__handover",
        )
        .defer("credential__value", "authority__private", "authority__revocations", "pem")
        .prefetch_related("credential__holders__connection")
    )


_PAGE = 50


@router.get("/certificates", response=Certificates)
def certificates(
    request: HttpRequest,
    environment: str = "",
    lives: bool | None = None,
    cursor: str | None = None,
) -> HttpResponse:
    """The certificates that the house issued, soonest expiry first.

    ``lives``: those that are valid now; or those that were revoked or have ended, the latest first.
    """
    guard.need(request, "look")
    now, rows = timezone.now(), Issued.objects.all()
    if environment:
        rows = rows.filter(authority__environment__key=environment)
    if lives is not None:
        living = Q(revoked=None, not_after__gt=now, authority__not_after__gt=now)
        rows = rows.filter(living) if lives else rows.exclude(living)
    found, following = page(
        _with_holders(rows),
        "not_after",
        cursor,
        _PAGE,
        descending=lives is False,
        then="credential_id",
    )
    return written(Certificates(items=_listed(now, found), next=following))


def _find(identity: UUID) -> Issued:
    found = (
        Issued.objects.select_related(
            "authority__root",
            "authority__environment",
            "credential__client__deployment__application",
        )
        .filter(pk=identity, credential__client__isnull=False)
        .first()
    )
    if found is None:
        raise problems.not_found("certificate")
    return found


def _whole(identity: UUID) -> WholeCertificateOut:
    now, one = timezone.now(), _find(identity)
    row = _listed(now, list(_with_holders(Issued.objects.filter(pk=identity))))[0]
    root = one.authority.root
    assert root is not None
    anchors = [root.certificate()]
    verdict = path.judge(one.certificate(), [one.authority.certificate()], anchors, now)
    handover = getattr(one.credential, "handover", None)
    replaced = one.credential.replaces_id
    return WholeCertificateOut(
        **vars(row),
        chain=shapes.chain(explaining.as_chain(verdict, anchors)),
        pem=one.chain(),
        handover=handover.pk if handover and row.waits else None,
        replaces=replaced if Issued.objects.filter(pk=replaced).exists() else None,
        why=one.credential.why,
    )


@router.get("/certificates/{identity}", response=WholeCertificateOut)
def certificate(request: HttpRequest, identity: UUID) -> WholeCertificateOut:
    """One certificate with its chain."""
    guard.need(request, "look")
    return _whole(identity)


def _order(body: CertificateOrderIn, profile: str) -> services.CertificateOrder:
    names = tuple(name.strip() for name in body.names if name.strip())
    return services.CertificateOrder(
        profile, body.common_name.strip(), names, body.days, body.request, body.key_kind
    )


def _made(issued: Issued, handover: Any) -> tuple[int, CertificateMade]:
    waits = handover.pk if handover else None
    return 201, CertificateMade(id=issued.pk, handover=waits, pem=issued.chain())


@router.post("/clients/{identity}/certificates", response={201: CertificateMade})
def issue(
    request: HttpRequest, identity: UUID, body: CertificateOrderIn
) -> tuple[int, CertificateMade]:
    """Issue a certificate to a client."""
    by = guard.need(request, "change")
    return guard.repeatable(
        request,
        body.dict(),
        lambda: _made(*services.issue(by, find_client(identity), _order(body, "client"))),
        alone=True,
    )


@router.post("/server-certificates", response={201: CertificateMade})
def issue_to_server(
    request: HttpRequest, body: ServerCertificateOrderIn
) -> tuple[int, CertificateMade]:
    """Issue a certificate to an application's own servers."""
    by = guard.need(request, "change")
    deployment = find_deployment(body.application, body.environment)

    def create() -> tuple[int, CertificateMade]:
        with transaction.atomic():
            return _made(
                *services.issue(by, issuing.server(by, deployment), _order(body, "server"))
            )

    return guard.repeatable(request, body.dict(), create, alone=True)


@router.post("/certificates/{identity}/renewals", response={201: CertificateMade})
def renew(request: HttpRequest, identity: UUID, body: RenewalIn) -> tuple[int, CertificateMade]:
    """Make another for the same holder, with the same names and a new key. The old one lives on."""
    by = guard.need(request, "change")
    return guard.repeatable(
        request,
        body.dict(),
        lambda: _made(*services.renew(by, _find(identity), body.request, body.days)),
        alone=True,
    )


@router.post("/certificates/{identity}/revocations", response=WholeCertificateOut)
def revoke(
    request: HttpRequest, identity: UUID, body: CertificateRevocation
) -> WholeCertificateOut:
    """Revoke it, with a reason."""
    services.revoke(guard.need(request, "change"), _find(identity), body.reason, body.why)
    return _whole(identity)


# The authorities


# Certificates, and receivers, that a step of a replacement names.
_MOST_OF_EACH = 100


def _house(environment: Environment) -> HouseCertificates:
    at = replacements.situation(environment, _MOST_OF_EACH)
    alive = replacements.alive_below(environment)
    rows = []
    for root in Authority.objects.filter(environment=environment, root=None).order_by("made"):
        issuing = Authority.objects.select_related("environment").filter(root=root).get()
        anchors = [root.certificate()]
        judged = explaining.as_chain(
            path.judge(issuing.certificate(), [], anchors, timezone.now()), anchors
        )
        rows.append(shapes.authority(root, issuing, alive.get(root.pk, 0), judged))
    replaces = at is not None and bool(at.new)
    first = next((row for row in rows if at is not None and str(row.id) == at.old), None)
    return HouseCertificates(
        environment=environment_out(environment),
        trust_address=f"{settings.PUBLIC_URL}/house/{environment.key}/trust.pem",
        authorities=rows,
        steps=[shapes.step(step) for step in replacing.order(at)] if at else [],
        moved_by=replacing.moved_by(at, first.ends) if at and replaces and first else None,
    )


@router.get("/certificate-authorities", response=list[HouseCertificates])
def authorities(request: HttpRequest) -> list[HouseCertificates]:
    """The certificate authority of each environment, and where its replacement stands."""
    guard.need(request, "look")
    return [_house(environment) for environment in Environment.objects.all()]


@router.post(
    "/certificate-authorities/{environment}/replacements", response={201: HouseCertificates}
)
def make(request: HttpRequest, environment: str) -> tuple[int, HouseCertificates]:
    """Make the authority that is to follow."""
    found = find_environment(environment)
    replacements.make(guard.need(request, "change"), found)
    return 201, _house(found)


@router.put("/certificate-authorities/{root}/trust", response=HouseCertificates)
def trust(request: HttpRequest, root: UUID, body: TrustIn) -> HouseCertificates:
    """Record that a receiver trusts a root, or no longer."""
    by = guard.need(request, "change")
    found = Authority.objects.select_related("environment").filter(pk=root, root=None).first()
    if found is None:
        raise problems.not_found("authority")
    replacements.record_trust(by, found, body.receiver, body.trusts)
    return _house(found.environment)


@router.post("/certificate-authorities/{environment}/switches", response=HouseCertificates)
def switch(request: HttpRequest, environment: str, body: SwitchIn) -> HouseCertificates:
    """Issue below the new authority, or below the old one again."""
    found = find_environment(environment)
    replacements.switch(guard.need(request, "change"), found, body.new)
    return _house(found)


@router.post("/certificate-authorities/{environment}/retirements", response=HouseCertificates)
def retire(request: HttpRequest, environment: str) -> HouseCertificates:
    """Retire the old authority."""
    found = find_environment(environment)
    replacements.retire(guard.need(request, "change"), found)
    return _house(found)
