"""The other two forms of a handover: a link that serves once, with a code told separately; and
a file encrypted to its owner's key. And showing a sealed secret again, where that is permitted.
"""

from __future__ import annotations

import json
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from django.conf import settings
from django.db import transaction
from django.db.models import Q
from django.utils import timezone
from joserfc import jwe
from joserfc.jwk import ECKey, RSAKey

from neatlatch.core import house_key, keys
from neatlatch.core.certificates import packing, reading
from neatlatch.core.jose import jwk
from neatlatch.desk.authority.records.certificates.models import Issued
from neatlatch.desk.estate.credentials.services import carried, check_taker, close
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.ground.common.actors import BY_LINK, CLOCK, Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people import factors
from neatlatch.desk.ground.people.models import Person

from .house import issuing

LINK_LIFE, MOST_WRONG = timedelta(hours=24), 5


def _waiting(by: Actor, handover: Handover) -> Handover:
    """The handover, locked, if nothing of it was taken yet and ``by`` may take it."""
    handover = (
        Handover.objects.select_for_update()
        .select_related(
            "credential__client__deployment__environment",
            "credential__client__deployment__application",
        )
        .get(pk=handover.pk)
    )
    check_taker(by, handover.credential)
    if handover.closed or handover.shown:
        raise Problem(
            410,
            "This secret was handed over before.",
            "It cannot be shown again. If it was lost, have a new one made.",
            code="handed-over-before",
        )
    return handover


@transaction.atomic
def make_link(by: Actor, handover: Handover, to: str) -> tuple[Handover, str, str]:
    """Make the handover a link: answers it, its address and the code.

    Both are shown to its maker once; a new link takes the place of an older one.
    """
    if not to.strip():
        raise wrong_fields({"to": "Say whom it is for; the receipt gives the name."})
    handover = _waiting(by, handover)
    value, code = secrets.token_urlsafe(32), f"{secrets.randbelow(10**8):08d}"
    handover.form, handover.to = Handover.Form.LINK, to.strip()[:200]
    handover.link, handover.code, handover.wrong = (
        house_key.digest(value),
        house_key.digest(value + code),
        0,
    )
    handover.ends = timezone.now() + LINK_LIFE
    handover.save()
    write(
        by,
        "made a link to hand over",
        "credential",
        handover.credential.hint,
        {"to": handover.to, "ends": handover.ends, "id": handover.credential.pk},
    )
    return handover, f"{settings.PUBLIC_URL}/asked/handover/{value}", code


def make_pkcs12(by: Actor, handover: Handover, to: str) -> tuple[Handover, bytes, str]:
    """Hand a certificate over with its key as a PKCS#12 file (RFC 7292).

    Returns the file, and its password, which is to go separately.
    """
    if not to.strip():
        raise wrong_fields({"to": "Say whom it is for; the receipt gives the name."})
    credential = Handover.objects.select_related("credential").get(pk=handover.pk).credential
    issued = Issued.objects.select_related("authority").filter(credential=credential).first()
    if issued is None:
        raise Problem(
            409,
            "This secret is not the key of a certificate.",
            "Hand it over by a link, or as a file to its owner's key.",
            code="not-a-certificate-key",
        )
    password = "-".join(secrets.token_hex(3) for _ in range(4))
    if credential.value is None:
        raise Problem(
            410,
            "This secret was taken already.",
            "It cannot be handed over again. If it was lost, have a new one made.",
            code="handover-taken",
        )
    key = keys.open_own(credential.open().reveal().encode("ascii"))
    # The password is stretched while nobody waits for the database; who was quicker meanwhile is
    # found out after it.
    data = packing.pack(
        issued.common_name, key, issued.certificate(), [issued.authority.certificate()], password
    )
    with transaction.atomic():
        handover = _waiting(by, handover)
        _filed(by, handover, to, "put into a PKCS#12 file", {})
    return handover, data, password


def _filed(by: Actor, handover: Handover, to: str, outcome: str, more: dict[str, str]) -> None:
    """Note on the receipt that the secret is in a file, and close it."""
    credential = handover.credential
    handover.form, handover.to, handover.shown = (
        Handover.Form.FILE,
        to.strip()[:200],
        timezone.now(),
    )
    handover.outcome = outcome
    handover.save()
    write(
        by,
        "put the secret into a file for",
        "credential",
        credential.hint,
        {"to": handover.to, **more, "id": credential.pk},
    )
    close(by, handover)


def find_link(value: str) -> Handover:
    """The handover of a link. Raises a 404 for one that is not ours."""
    found = (
        Handover.objects.select_related(
            "credential__client__deployment__environment",
            "credential__client__deployment__application",
            "made_by",
        )
        .filter(link=house_key.digest(value), form=Handover.Form.LINK)
        .first()
    )
    if found is None:
        raise Problem(
            404,
            "This link is not one of ours.",
            (
                "Perhaps it was cut when it was copied, or a newer one took its place. Ask for "
                "it again."
            ),
            code="bad-link",
        )
    return found


def take(value: str, code: str, name: str, address: str) -> tuple[Handover, str]:
    """Take the secret by its link and code, this once.

    After five wrong codes the link ends, and a secret of the house with it. Raises
    :class:`Problem`.
    """
    if not name.strip():
        raise wrong_fields({"name": "Say who you are; the receipt gives the name."})
    with transaction.atomic():
        handover = _waiting(BY_LINK, find_link(value))
        if handover.ends is not None and handover.ends <= timezone.now():
            raise Problem(
                410,
                "This link has expired.",
                "Nobody opened it within its time. Ask for a new one.",
                code="link-expired",
            )
        right = house_key.same(handover.code, house_key.digest(value + "".join(code.split())))
        if right:
            plain = carried(handover.credential)
            handover.shown, handover.taken_by, handover.taken_from = (
                timezone.now(),
                name.strip()[:200],
                address[:45],
            )
            handover.outcome = "taken by the link"
            handover.save()
            # Anyone who holds the link types a name: it stands in the details, and is nobody's
            # log-in.
            details = {
                "name given": handover.taken_by,
                "from": address,
                "id": handover.credential.pk,
            }
            write(
                BY_LINK,
                "took the secret by its link",
                "credential",
                handover.credential.hint,
                details,
            )
        else:
            handover.wrong += 1
            handover.save(update_fields=["wrong"])
            if handover.wrong >= MOST_WRONG:
                _undo(handover, "five wrong codes were given")
    if not right:
        left = MOST_WRONG - handover.wrong
        says = (
            f"This is not the code. {left} more {'try' if left == 1 else 'tries'}."
            if left > 0
            else "Five wrong codes: the link has ended. Ask for a new one."
        )
        raise Problem(
            403, "The code does not fit.", says, {"code": says}, code="wrong-handover-code"
        )
    close(BY_LINK, handover)
    return handover, plain


def owner_key(pasted: str) -> tuple[RSAKey | ECKey, dict[str, str], str]:
    """An owner's public key, pasted as PEM, certificate or JWK: the key, the JWE header that goes
    with it, and its thumbprint (RFC 7638). Raises a field error.
    """
    text = pasted.strip()
    if "PRIVATE KEY" in text or '"d"' in text:
        raise wrong_fields(
            {
                "key": (
                    "This is a private key. It must not leave its owner; ask for the public "
                    "one, and for a new pair."
                )
            }
        )
    try:
        if text.startswith("{"):
            document = json.loads(text)
            public = jwk.public(document)
        else:
            public = reading.public_key(text.encode("utf-8"))
        if isinstance(public, bytes):
            raise ValueError("a symmetric key")
        told: dict[str, str | list[str]] = {**jwk.of_public(public)}
        facts = keys.facts(public)
    except (ValueError, TypeError, AttributeError, RecursionError) as error:
        raise wrong_fields({"key": f"This is no public key that can be used: {error}."}) from error
    if facts.strength < 112:
        raise wrong_fields({"key": f"{facts.words} is too weak to carry a secret."})
    if told["kty"] == "RSA":
        return (
            RSAKey.import_key(told),
            {"alg": "RSA-OAEP-256", "enc": "A256GCM"},
            jwk.thumbprint(told),
        )
    if told["kty"] == "EC":
        return ECKey.import_key(told), {"alg": "ECDH-ES", "enc": "A256GCM"}, jwk.thumbprint(told)
    raise wrong_fields(
        {
            "key": (
                "Give an RSA key or one on a NIST curve; others cannot be encrypted to (RFC "
                "7518 §4)."
            )
        }
    )


@transaction.atomic
def make_file(by: Actor, handover: Handover, to: str, pasted_key: str) -> tuple[Handover, str]:
    """Hand the secret over as a file: a JWE (RFC 7516) to its owner's key, so that nobody else
    reads it, its maker neither.
    """
    if not to.strip():
        raise wrong_fields({"to": "Say whose key it is; the receipt gives the name."})
    key, header, thumbprint = owner_key(pasted_key)
    handover = _waiting(by, handover)
    credential = handover.credential
    client, told = (
        credential.client,
        {"kind": credential.kind, "value": carried(credential), "ends": credential.ends},
    )
    if client is not None:
        told |= {
            "client_id": client.client_id,
            "application": client.deployment.application.name,
            "environment": client.deployment.environment.name,
        }
    text = jwe.encrypt_compact(
        {**header, "kid": thumbprint, "cty": "json"},
        json.dumps(told, default=str).encode(),
        key,
        algorithms=[header["alg"], header["enc"]],
    )
    _filed(by, handover, to, f"put into a file for the key {thumbprint[:12]}…", {"key": thumbprint})
    return handover, text


def _undo(handover: Handover, why: str) -> None:
    """Close a handover that nobody took, and revoke a secret that the house issued: nobody knows
    who may have seen it.
    """
    now = timezone.now()
    Handover.objects.filter(pk=handover.pk).update(closed=now, link="", code="", outcome=why[:200])
    if handover.credential.digest:
        issuing.revoke(CLOCK, handover.credential, why)
    else:
        write(
            CLOCK,
            "closed the handover of",
            "credential",
            handover.credential.hint,
            {"why": why, "id": handover.credential.pk},
        )


def end_untaken(now: datetime) -> int:
    """Revoke what nobody took within its time; returns how many.

    What was shown and never confirmed counts as taken.
    """
    count = 0
    for handover in Handover.objects.filter(closed=None, ends__lte=now).select_related(
        "credential"
    ):
        with transaction.atomic():
            fresh = (
                Handover.objects.select_for_update()
                .select_related("credential")
                .get(pk=handover.pk)
            )
            if fresh.closed is None and fresh.shown is None:
                _undo(fresh, "nobody took it within its time")
                count += 1
    for handover in (
        Handover.objects.filter(closed=None, shown__lte=now - timedelta(hours=1))
        .exclude(credential__digest="")
        .select_related("credential")
    ):
        close(CLOCK, handover)
    return count


def end_open(why: str) -> int:
    """Close every handover that is open, and revoke what the house issued in it; returns how many.

    Part of the surrounding transaction.
    """
    found = list(Handover.objects.filter(closed=None, shown=None).select_related("credential"))
    for handover in found:
        _undo(handover, why)
    return len(found)


def receipts() -> list[Handover]:
    """The newest handovers, with what came of each."""
    rows = Handover.objects.select_related(
        "credential__client__deployment__environment",
        "credential__client__deployment__application",
        "made_by",
    )
    return list(
        rows.filter(
            Q(shown__isnull=False) | Q(closed__isnull=False) | Q(ends__isnull=False)
        ).order_by("-made")[:200]
    )


def reveal(by: Person, credential: Credential, reason: str, code: str) -> str:
    """Show a sealed secret again (DOMAIN §17): where the environment permits it, with a fresh code
    of the second factor and a reason, and with an entry of the journal that stands before anything
    is shown. Raises :class:`Problem`.
    """
    client = credential.client
    if client is None or not client.deployment.environment.reveals:
        where = client.deployment.environment.name if client else "this place"
        raise Problem(
            403,
            f"{where} does not permit showing a stored secret.",
            "Have a new one made; connections here use the stored one without showing it.",
            code="revealing-not-permitted",
        )
    if credential.value is None:
        raise Problem(
            410,
            "Nobody can read this secret back.",
            "It was handed over, and only its digest was kept. Have a new one made.",
            code="secret-not-readable",
        )
    if len(reason.strip()) < 5:
        raise wrong_fields({"reason": "Give a reason; the journal keeps it."})
    factors.check(by, code, for_stored=True)
    value = credential.open().reveal()
    with transaction.atomic():
        write(
            by,
            "revealed",
            "credential",
            credential.hint,
            {"reason": reason.strip()[:300], "client": client.client_id, "id": credential.pk},
        )
    return value


def permit_revealing(by: Person, environment: Environment, yes: bool, code: str) -> None:
    """Let stored secrets of an environment be shown again, which wants a fresh ``code`` of the
    second factor, or no longer. Raises :class:`Problem`.
    """
    if environment.reveals == yes:
        return
    if yes:
        factors.check(by, code, for_stored=True)
    with transaction.atomic():
        Environment.objects.filter(pk=environment.pk).update(reveals=yes)
        write(
            by,
            "permitted showing stored secrets of" if yes else "forbade showing stored secrets of",
            "environment",
            environment.name,
        )


@dataclass(frozen=True, kw_only=True)
class ReceiptOut:
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


def as_receipt(handover: Handover) -> ReceiptOut:
    """Who, when, what hint."""
    credential, client = handover.credential, handover.credential.client
    state = (
        "not taken"
        if handover.closed and not handover.shown
        else "taken"
        if handover.shown and (handover.closed or handover.form != Handover.Form.SHOWN)
        else "shown"
        if handover.shown
        else "waits"
    )
    return ReceiptOut(
        id=handover.pk,
        hint=credential.hint,
        client=str(client.pk) if client else "",
        client_name=client.name if client else "",
        application=client.deployment.application.name if client else "",
        environment=client.deployment.environment.name if client else "",
        form=handover.form,
        to=handover.to,
        made_by=handover.maker,
        made=handover.made,
        ends=handover.ends,
        taken=handover.shown,
        taken_by=handover.taken_by,
        taken_from=handover.taken_from,
        state=state,
        outcome=handover.outcome,
    )
