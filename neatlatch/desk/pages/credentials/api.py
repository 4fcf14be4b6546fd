"""Credentials, and the handover of a new one."""

from __future__ import annotations

import base64
from uuid import UUID

from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Router
from ninja.utils import check_csrf

from neatlatch.core import filter_words
from neatlatch.desk.authority import handovers
from neatlatch.desk.authority.handovers import ReceiptOut
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.credentials import ends, owned, services
from neatlatch.desk.estate.lookups import find_environment
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import narrowed, problems
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.work.credentials import histories, leaks
from neatlatch.desk.work.credentials.shown import LeakOut, WholeCredentialOut

from .listing import FIELDS, CredentialRow, Credentials, fitting, page_of
from .shapes import (
    EndIn,
    FileIn,
    FileMade,
    HandoverLinkOut,
    HandoverOut,
    LeakIn,
    LinkIn,
    LinkMade,
    OwnerIn,
    Pkcs12In,
    Pkcs12Made,
    RevealIn,
    RevealingIn,
    RevealingOut,
    ShownSecretOut,
    TakeIn,
)

router = Router(tags=["credentials"])


def _shape(handover: Handover) -> HandoverOut:
    credential = handover.credential
    return HandoverOut(
        id=handover.pk,
        client=str(credential.client_id or ""),
        client_name=credential.client.name if credential.client else "",
        hint=credential.hint,
        ends=credential.ends,
        shown=handover.shown,
        closed=handover.closed,
    )


def _find(identity: UUID) -> Handover:
    found = Handover.objects.select_related("credential__client").filter(pk=identity).first()
    if found is None:
        raise problems.not_found("handover")
    return found


@router.get("/credentials", response=Credentials)
def credentials(request: HttpRequest, cursor: str | None = None, words: str = "") -> HttpResponse:
    """Credentials, soonest expiry first, those without an end last; filtered by plain words and
    field words (``kind:api_key env:production used:no mark:unused ends:30d``)."""
    guard.need(request, "look")
    now = timezone.now()
    keys, following = page_of(
        fitting(
            narrowed.within(Credential.objects.all(), "client__deployment__environment__key"),
            filter_words.read(words, FIELDS),
            now,
        ),
        cursor,
    )
    found, tags = histories.rows(keys, now), object_notes.tags_of(Credential, keys)
    items = [
        CredentialRow(**vars(found[key]), tags=tags.get(key, [])) for key in keys if key in found
    ]
    return written(Credentials(items=items, next=following))


@router.post("/leaks", response=LeakOut)
def leaked(request: HttpRequest, body: LeakIn) -> LeakOut:
    """A credential has leaked: say what is known of it. What is pasted is not kept."""
    return leaks.recognise(guard.need(request, "change"), body.text, timezone.now())


@router.get("/credentials/{identity}", response=WholeCredentialOut)
def credential(request: HttpRequest, identity: UUID) -> WholeCredentialOut:
    """A credential and its whole life."""
    guard.need(request, "look")
    found = (
        Credential.objects.defer("value")
        .select_related("client__deployment__environment", "replaces", "handover__made_by")
        .filter(pk=identity)
        .first()
    )
    if found is None:
        raise problems.not_found("credential")
    return histories.whole(found, timezone.now())


def _credential(identity: UUID) -> Credential:
    """A credential without its value, or a 404."""
    found = Credential.objects.defer("value").filter(pk=identity).first()
    if found is None:
        raise problems.not_found("credential")
    return found


@router.put("/credentials/{identity}/end", response=WholeCredentialOut)
def set_end(request: HttpRequest, identity: UUID, body: EndIn) -> WholeCredentialOut:
    """Record when a secret ends, where people have to say it."""
    by = guard.need(request, "change")
    return histories.whole(ends.set_end(by, _credential(identity), body.ends), timezone.now())


@router.put("/credentials/{identity}/owner", response=WholeCredentialOut)
def set_owner(request: HttpRequest, identity: UUID, body: OwnerIn) -> WholeCredentialOut:
    """Say whose a credential is; empty: nobody's own."""
    by = guard.need(request, "change")
    return histories.whole(owned.give(by, _credential(identity), body.owner), timezone.now())


@router.get("/handovers/{identity}", response=HandoverOut)
def handover(request: HttpRequest, identity: UUID) -> HandoverOut:
    """Where a handover stands."""
    guard.need(request, "change")
    return _shape(_find(identity))


@router.post("/handovers/{identity}/revelations", response=ShownSecretOut)
def show(request: HttpRequest, response: HttpResponse, identity: UUID) -> ShownSecretOut:
    """Show the secret, this once."""
    by = guard.need(request, "change")
    _, value = services.show(by, _find(identity))
    response["Cache-Control"] = "no-store"
    return ShownSecretOut(value=value, hide_after_seconds=60)


@router.post("/handovers/{identity}/links", response={201: LinkMade})
def make_link(
    request: HttpRequest, response: HttpResponse, identity: UUID, body: LinkIn
) -> tuple[int, LinkMade]:
    """Hand it over by a link that serves once, within a day, together with a code."""
    handover, address, code = handovers.make_link(
        guard.need(request, "change"), _find(identity), body.to
    )
    response["Cache-Control"] = "no-store"
    assert handover.ends is not None  # a link serves for a day
    return 201, LinkMade(address=address, code=code, ends=handover.ends)


@router.post("/handovers/{identity}/files", response={201: FileMade})
def make_file(
    request: HttpRequest, response: HttpResponse, identity: UUID, body: FileIn
) -> tuple[int, FileMade]:
    """Hand it over as a file that only the owner of a key can read."""
    handover, content = handovers.make_file(
        guard.need(request, "change"), _find(identity), body.to, body.key
    )
    response["Cache-Control"] = "no-store"
    kind, hint = handover.credential.kind.replace("_", "-"), handover.credential.hint.strip("…")
    return 201, FileMade(name=f"{kind}-{hint}.jwe", content=content)


@router.post("/handovers/{identity}/pkcs12-files", response={201: Pkcs12Made})
def make_pkcs12(
    request: HttpRequest, response: HttpResponse, identity: UUID, body: Pkcs12In
) -> tuple[int, Pkcs12Made]:
    """Hand a certificate over with its key as a PKCS#12 file; its password goes separately."""
    handover, data, password = handovers.make_pkcs12(
        guard.need(request, "change"), _find(identity), body.to
    )
    response["Cache-Control"] = "no-store"
    name = f"certificate-{handover.credential.hint.strip('…')}.p12"
    return 201, Pkcs12Made(
        name=name, base64=base64.b64encode(data).decode("ascii"), password=password
    )


@router.get("/handovers", response=list[ReceiptOut])
def receipts(request: HttpRequest) -> list[ReceiptOut]:
    """Receipts of handovers, newest first."""
    guard.need(request, "look")
    return [handovers.as_receipt(receipt) for receipt in handovers.receipts()]


@router.get("/links/handovers/{token}", auth=None, response=HandoverLinkOut)
def handover_link(request: HttpRequest, response: HttpResponse, token: str) -> HandoverLinkOut:
    """What a link hands over; nothing of the secret. Wants no log-in, only the link."""
    response["Cache-Control"] = "no-store"
    found = handovers.find_link(token)
    client = found.credential.client
    over = (
        found.shown is not None
        or found.closed is not None
        or (found.ends is not None and found.ends <= timezone.now())
    )
    return HandoverLinkOut(
        made_by=found.made_by.shown_name if found.made_by else found.made_by_program,
        to=found.to,
        client=client.name if client else "",
        application=client.deployment.application.name if client else "",
        environment=client.deployment.environment.name if client else "",
        ends=found.ends,
        over=over,
    )


@router.post("/links/handovers/{token}/retrievals", auth=None, response=ShownSecretOut)
def take(request: HttpRequest, response: HttpResponse, token: str, body: TakeIn) -> ShownSecretOut:
    """Take the secret, this once."""
    if check_csrf(request):
        raise problems.page_too_old()
    _, value = handovers.take(token, body.code, body.name, str(request.META.get("REMOTE_ADDR", "")))
    response["Cache-Control"] = "no-store"
    return ShownSecretOut(value=value, hide_after_seconds=60)


@router.post("/credentials/{identity}/revelations", response=ShownSecretOut)
def reveal(
    request: HttpRequest, response: HttpResponse, identity: UUID, body: RevealIn
) -> ShownSecretOut:
    """Show a sealed secret again, where its environment permits it."""
    by = guard.need_person(request, "change")
    found = (
        Credential.objects.select_related("client__deployment__environment")
        .filter(pk=identity)
        .first()
    )
    if found is None:
        raise problems.not_found("credential")
    response["Cache-Control"] = "no-store"
    return ShownSecretOut(
        value=handovers.reveal(by, found, body.reason, body.code), hide_after_seconds=60
    )


@router.get("/revealing", response=list[RevealingOut])
def revealing(request: HttpRequest) -> list[RevealingOut]:
    """Which environments permit showing a stored secret again."""
    guard.need(request, "look")
    return [
        RevealingOut(
            environment=environment.key, name=environment.name, reveals=environment.reveals
        )
        for environment in Environment.objects.all()
    ]


@router.put("/revealing/{environment}", response=list[RevealingOut])
def permit(request: HttpRequest, environment: str, body: RevealingIn) -> list[RevealingOut]:
    """Permit it, with a fresh code of the second factor, or no longer."""
    by = guard.need_person(request, "change")
    handovers.permit_revealing(by, find_environment(environment), body.reveals, body.code)
    return revealing(request)


@router.post("/handovers/{identity}/confirmations", response=HandoverOut)
def close(request: HttpRequest, identity: UUID) -> HandoverOut:
    """“I have it”."""
    return _shape(services.close(guard.need(request, "change"), _find(identity)))
