"""The house's certificate authority: issuing, renewing, revoking, and its revocation lists.

A certificate is a credential of its client, with the house's own life: listed, handed over, revoked
and shown in the journal like every other.
"""

from __future__ import annotations

import hashlib
import os
import uuid
from dataclasses import dataclass
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes, PublicKeyTypes
from cryptography.hazmat.primitives.serialization import Encoding
from django.conf import settings
from django.db import transaction
from django.utils import timezone

from neatlatch.core import keys
from neatlatch.core.certificates import facts, issuing, reading
from neatlatch.core.registration import ClientMetadata
from neatlatch.core.schemes import CERTIFICATE
from neatlatch.desk.authority.house import issuing as house
from neatlatch.desk.authority.house.certificate_registry import assume_trust, tell
from neatlatch.desk.authority.records.certificates.models import Authority, Issued, Revocation
from neatlatch.desk.estate.credentials.services import keep, new_handover
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write

# A list is good for a day, so that receivers outlive a short absence of the desk; a new one is made
# every hour, and at once after a revocation.
LIST_LIFE, LIST_EVERY = timedelta(hours=24), timedelta(hours=1)
KIND = "private_key"
KEY_KINDS = {"EC": "elliptic curve P-256", "RSA": "RSA 3072"}


def _serial() -> int:
    return issuing.serial_from(os.urandom(issuing.SERIAL_OCTETS))


def address_of(authority: Authority, what: str) -> str:
    """Where an authority's revocation list (``crl``) or certificate (``cer``) is fetched."""
    return (
        f"{settings.PUBLIC_URL}/house/{authority.environment.key}/authorities/{authority.pk}.{what}"
    )


def signer(authority: Authority) -> issuing.Issuer:
    """An authority, ready to sign. Raises :class:`safe.CannotOpen`."""
    key = keys.open_own(authority.open().reveal().encode("ascii"))
    return issuing.Issuer(
        authority.certificate(), key, address_of(authority, "crl"), address_of(authority, "cer")
    )


def make_authority(by: Actor, environment: Environment, state: str) -> Authority:
    """Make a root and the issuing authority below it, as part of the surrounding transaction.

    Returns the issuing one.
    """
    now, year = timezone.now(), timezone.now().year
    number = Authority.objects.filter(environment=environment, root=None).count() + 1
    firm, called = (
        settings.FIRM,
        f"{environment.name} {year}" + (f" no. {number}" if number > 1 else ""),
    )
    root_key, own_key = (
        ec.generate_private_key(ec.SECP384R1()),
        ec.generate_private_key(ec.SECP256R1()),
    )
    certificate = issuing.make_root(firm, f"House root {called}", root_key, _serial(), now)
    root = _save(by, environment, certificate, root_key, state, None, now)
    made = issuing.make_issuing(
        firm, f"House issuing {called}", own_key.public_key(), signer(root), _serial(), now
    )
    authority = _save(by, environment, made, own_key, state, root, now)
    write(
        by,
        "made",
        "certificate authority",
        root.name,
        {"environment": environment.name, "ends": root.not_after, "id": root.pk},
    )
    return authority


def _save(
    by: Actor,
    environment: Environment,
    certificate: x509.Certificate,
    key: PrivateKeyTypes,
    state: str,
    root: Authority | None,
    now: datetime,
) -> Authority:
    common = str(certificate.subject.get_attributes_for_oid(x509.NameOID.COMMON_NAME)[0].value)
    made = Authority(
        environment=environment,
        root=root,
        name=common,
        pem=reading.as_pem(certificate),
        state=state,
        not_after=certificate.not_valid_after_utc,
        made=now,
        made_by=by.username,
    )
    made.private = safe.seal(reading.key_as_pem(key), made.sealed_place)
    made.save(force_insert=True)
    return made


def issuer_of(by: Actor, environment: Environment) -> Authority:
    """The authority that issues in an environment, locked; the first is made when it is first
    wanted. Part of the surrounding transaction.
    """
    Environment.objects.select_for_update().get(pk=environment.pk)
    found = (
        Authority.objects.select_related("environment", "root")
        .exclude(root=None)
        .filter(environment=environment, state=Authority.State.ISSUING)
        .first()
    )
    return found or make_authority(by, environment, Authority.State.ISSUING)


@dataclass(frozen=True)
class CertificateOrder:
    """What to issue: by a signing request, or with a key that the house makes (``key_kind``).

    ``days`` 0: as the profile has it.
    """

    profile: str
    common_name: str = ""
    names: tuple[str, ...] = ()
    days: int = 0
    request: str = ""
    key_kind: str = "EC"


def _profile(key: str) -> issuing.Profile:
    if key not in issuing.PROFILES:
        raise wrong_fields({"profile": "A certificate is for a client or for a server."})
    return issuing.PROFILES[key]


def read_request(pasted: str) -> x509.CertificateSigningRequest:
    """The signing request in a pasted text. Raises a field error."""
    if "PRIVATE KEY-----" in pasted:
        raise wrong_fields(
            {
                "request": (
                    "A private key is in it. It must not leave its owner: make a new key, and "
                    "paste the request alone."
                )
            }
        )
    try:
        found = reading.requests(pasted.encode("utf-8"))
    except reading.Unreadable as error:
        raise wrong_fields({"request": str(error)}) from error
    if len(found) != 1:
        raise wrong_fields(
            {"request": "Paste one signing request, from BEGIN CERTIFICATE REQUEST to its END."}
        )
    return found[0]


def _key_for(
    asked: CertificateOrder,
) -> tuple[PublicKeyTypes, PrivateKeyTypes | None, str, tuple[str, ...]]:
    """The key, the private half if the house made it, and the names that were asked for."""
    if asked.request.strip():
        request = read_request(asked.request)
        try:
            common, names = issuing.names_of_request(request)
        except issuing.BadCertificateRequest as wrong:
            raise wrong_fields(wrong.fields) from wrong
        return request.public_key(), None, asked.common_name.strip() or common, asked.names or names
    if asked.key_kind not in KEY_KINDS:
        raise wrong_fields({"key_kind": f"Choose one of {', '.join(KEY_KINDS)}."})
    private: PrivateKeyTypes = (
        ec.generate_private_key(ec.SECP256R1())
        if asked.key_kind == "EC"
        else rsa.generate_private_key(65537, 3072)
    )
    return keys.public_of(private), private, asked.common_name.strip(), asked.names


@transaction.atomic
def issue(
    by: Actor, client: Client, asked: CertificateOrder, renews: Issued | None = None
) -> tuple[Issued, Handover | None]:
    """Issue a certificate to a client of the house, or to an application itself.

    Returns it, and the handover of its key where the house made that.

    At most two of a client's live at once, and of a server's at most two for the same names. A
    client's certificate is known by the URI that names the client, whatever else it says.
    """
    client = (
        Client.objects.select_for_update()
        .select_related("deployment__application", "deployment__environment")
        .get(pk=client.pk)
    )
    if not client.house:
        raise Problem(
            409,
            "This client was issued by its application, not by the house authority.",
            "Have its certificate made there.",
            code="client-not-of-house",
        )
    now, profile = timezone.now(), _profile(asked.profile)
    live = [credential for credential in house.alive(client, now) if credential.kind == KIND]
    public, private, common, names = _key_for(asked)
    if profile is issuing.CLIENT:
        names = (uri_of(client),)
    else:
        known = dict(Issued.objects.filter(credential__in=live).values_list("pk", "names"))
        live = [
            credential for credential in live if issuing.same_names(known[credential.pk], names)
        ]
    if len(live) >= house.LIVE_SECRETS:
        raise Problem(
            409,
            "Two certificates of it live already.",
            f"Revoke {' or '.join(credential.hint for credential in live)} first.",
            code="two-certificates-valid",
        )
    authority = issuer_of(by, client.deployment.environment)
    try:
        wanted = issuing.CertificateContent(
            profile,
            common or client.name[: issuing.LONGEST_NAME],
            names,
            public,
            asked.days or profile.days,
        )
        certificate = issuing.issue(wanted, signer(authority), settings.FIRM, _serial(), now)
    except issuing.BadCertificateRequest as wrong:
        raise wrong_fields(wrong.fields) from wrong
    replaces = renews.credential if renews is not None else live[0] if live else None
    made = _keep(by, client, authority, certificate, private, wanted, replaces, now)
    write(
        by,
        "made",
        "credential",
        made.credential.hint,
        {
            "client": client.client_id,
            "certificate": made.common_name,
            "for": profile.key,
            "serial": made.serial,
            "ends": made.not_after,
            "id": made.credential.pk,
        },
    )
    tell(client)
    assume_trust(made, by.username)
    if private is None:
        return made, None
    return made, new_handover(by, made.credential, now + house.TAKEN_WITHIN)


def uri_of(client: Client) -> str:
    """What names a client in its certificate (RFC 9562 §4: a URN of its UUID), so that a receiver
    need not go by its common name.
    """
    return f"urn:uuid:{client.pk}"


def _keep(
    by: Actor,
    client: Client,
    authority: Authority,
    certificate: x509.Certificate,
    private: PrivateKeyTypes | None,
    wanted: issuing.CertificateContent,
    replaces: Credential | None,
    now: datetime,
) -> Issued:
    told = facts.of_certificate(certificate)
    if private is not None:
        credential = keep(
            reading.key_as_pem(private),
            client=client,
            source="registered",
            by=by.username,
            ends=told.not_after,
            kind=KIND,
            issued=now,
        )
    else:
        credential = Credential(
            id=uuid.uuid4(),
            client=client,
            kind=KIND,
            source="registered",
            ends=told.not_after,
            issued=now,
            put_in_by=by.username,
        )
    credential.hint, credential.secret_id = f"…{told.serial_hex[-6:]}", told.serial_hex
    credential.public_key, credential.replaces = told.key.spki_sha256, replaces
    credential.chain = reading.as_pem(certificate) + authority.pem
    credential.root = authority.root.pem if authority.root is not None else ""
    credential.digest = hashlib.sha256(keys.spki(certificate.public_key())).hexdigest()
    credential.save()
    return Issued.objects.create(
        credential=credential,
        authority=authority,
        profile=wanted.profile.key,
        common_name=wanted.common_name,
        names=list(wanted.names),
        serial=told.serial_hex,
        sha256=told.sha256.replace(":", "").lower(),
        pem=reading.as_pem(certificate),
        not_after=told.not_after,
        by_request=private is None,
    )


def renew(
    by: Actor, issued: Issued, request: str = "", days: int = 0
) -> tuple[Issued, Handover | None]:
    """Make another for the same holder, with the same names and a new key.

    The old one lives on until it ends or is revoked.
    """
    if issued.by_request and not request.strip():
        raise wrong_fields(
            {
                "request": (
                    "Its key was made by its holder. Paste a new signing request, made with a "
                    "new key."
                )
            }
        )
    client = issued.credential.client
    assert client is not None
    key_kind = "RSA" if keys.facts(issued.certificate().public_key()).type == "RSA" else "EC"
    return issue(
        by,
        client,
        CertificateOrder(
            issued.profile, issued.common_name, tuple(issued.names), days, request, key_kind
        ),
        renews=issued,
    )


@transaction.atomic
def revoke(by: Actor, issued: Issued, reason: str, why: str) -> Issued:
    """Revoke it: from the next list on, which is made at once, receivers refuse it.

    Idempotent.
    """
    if reason not in issuing.reasons():
        raise wrong_fields({"reason": "Choose one of the reasons."})
    house.revoke(by, issued.credential, why.strip() or issuing.reasons()[reason], reason)
    return Issued.objects.select_related("credential__client").get(pk=issued.pk)


# Revocation lists


@transaction.atomic
def revocation_list(authority: Authority, now: datetime) -> bytes:
    """The authority's revocation list in DER, made anew where that is due.

    A retired authority's last list stays.
    """
    if (
        authority.revocations is not None
        and authority.list_fresh_until is not None
        and authority.list_fresh_until > now
    ):
        return bytes(authority.revocations)
    authority = (
        Authority.objects.select_for_update().select_related("environment").get(pk=authority.pk)
    )
    if authority.revocations is not None and (
        authority.private is None
        or (authority.list_fresh_until is not None and authority.list_fresh_until > now)
    ):
        return bytes(authority.revocations)
    made = _signed_list(authority, now, now + LIST_LIFE)
    authority.save(update_fields=["revocations", "list_number", "list_fresh_until"])
    return made


def _signed_list(authority: Authority, now: datetime, until: datetime) -> bytes:
    """Sign a list and put it into the row, not saved yet.

    A root lists nothing: an issuing authority goes by being replaced.
    """
    # §3.3: an entry stays until it has stood on one list after the certificate's end.
    Revocation.objects.filter(authority=authority, not_after__lt=now - LIST_LIFE).delete()
    entries = [
        issuing.RevokedEntry(int(revocation.serial, 16), revocation.at, revocation.reason)
        for revocation in Revocation.objects.filter(authority=authority)
    ]
    authority.list_number += 1
    made = issuing.revocation_list(
        signer(authority), entries, authority.list_number, now, until
    ).public_bytes(Encoding.DER)
    authority.revocations, authority.list_fresh_until = made, now + LIST_EVERY
    return made


def last_list(authority: Authority, now: datetime) -> None:
    """Sign the list that stays when the authority is retired: good until its own end.

    Part of the surrounding transaction.
    """
    _signed_list(authority, now, authority.not_after)
    authority.save(update_fields=["revocations", "list_number", "list_fresh_until"])


def trusted(environment: Environment) -> list[Authority]:
    """The roots that receivers in an environment are to trust."""
    return list(
        Authority.objects.filter(environment=environment, root=None).exclude(
            state=Authority.State.RETIRED
        )
    )


@transaction.atomic
def register(
    by: Actor,
    deployment: Deployment,
    name: str,
    asked: CertificateOrder,
    scopes: frozenset[str] = frozenset(),
    contacts: tuple[str, ...] = (),
    *,
    of: house.DrawPermission | None = None,
) -> tuple[Client, Issued, Handover | None]:
    """Register a client of the house that shows a certificate, and issue its first; ``of``: a
    workload's, to draw with.
    """
    if not name.strip():
        raise wrong_fields({"name": "Give it a name that says who calls."})
    client = house.new_client(
        by,
        deployment,
        ClientMetadata(name.strip(), contacts, grants=(), scopes=scopes),
        CERTIFICATE,
        of=of,
    )
    issued, handover = issue(by, client, asked)
    return client, issued, handover


def newest(client: Client) -> Issued | None:
    """The newest certificate of a client that was not revoked."""
    return (
        Issued.objects.filter(credential__client=client, revoked=None)
        .select_related("authority", "credential")
        .order_by("-credential__issued")
        .first()
    )
