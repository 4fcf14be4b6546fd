"""Issuing certificates and revocation lists (RFC 5280 §4, §5): what is asked for is checked, then
made. Keys, serial numbers and the clock come from outside.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes, PublicKeyTypes
from cryptography.x509.oid import (
    AuthorityInformationAccessOID,
    ExtendedKeyUsageOID,
    NameOID,
    ObjectIdentifier,
)

from .. import keys

# Clocks differ; a certificate begins so much before it is made. Common practice, no source.
EARLIER = timedelta(minutes=5)
SERIAL_OCTETS = 16
LEAST_STRENGTH = 112
LONGEST_NAME = 64  # ub-common-name, RFC 5280 App. A
MOST_NAMES = 50
_LABEL = re.compile(r"(?!-)[A-Za-z0-9-]{1,63}(?<!-)")
_REASONS = {
    "unspecified": "No reason is given.",
    "keyCompromise": "Its key may be known to somebody else.",
    "affiliationChanged": "Its holder has another place in the firm.",
    "superseded": "Another has taken its place.",
    "cessationOfOperation": "What it was for is no longer run.",
    "privilegeWithdrawn": "Its holder no longer has access.",
}


@dataclass(frozen=True)
class Profile:
    """What a certificate may be used for, and how many days it is valid: by default, and at
    the most (common practice, no source).
    """

    key: str
    purpose: ObjectIdentifier
    days: int
    most_days: int


CLIENT = Profile("client", ExtendedKeyUsageOID.CLIENT_AUTH, 180, 366)
SERVER = Profile("server", ExtendedKeyUsageOID.SERVER_AUTH, 90, 200)
PROFILES = {known_profile.key: known_profile for known_profile in (CLIENT, SERVER)}
ROOT_DAYS, ISSUING_DAYS = 3650, 1460


@dataclass(frozen=True)
class CertificateContent:
    """What a certificate is to say.

    ``names`` are DNS names, IP addresses and URIs, as people write them; ``days`` from now.
    """

    profile: Profile
    common_name: str
    names: tuple[str, ...]
    public_key: PublicKeyTypes
    days: int


@dataclass(frozen=True)
class Issuer:
    """An authority that can sign.

    ``list_address`` and ``own_address`` say where its revocation list and its certificate are
    fetched (§4.2.1.13, §4.2.2.1).
    """

    certificate: x509.Certificate
    key: PrivateKeyTypes
    list_address: str = ""
    own_address: str = ""


class BadCertificateRequest(ValueError):
    """What was asked for cannot be issued.

    ``fields`` says why, by field: common_name, names, days, request.
    """

    def __init__(self, fields: dict[str, str]) -> None:
        super().__init__(" ".join(fields.values()))
        self.fields = fields


def serial_from(octets: bytes) -> int:
    """A serial number from random octets: positive, at most 20 octets in DER (§4.1.2.2); 127 of the
    bits of 16 octets stay. Raises :class:`ValueError`.
    """
    if not SERIAL_OCTETS <= len(octets) <= 20:
        raise ValueError(f"a serial number is made of {SERIAL_OCTETS} to 20 random octets")
    return int.from_bytes(octets, "big") & ~(1 << (8 * len(octets) - 1)) or 1


def names_of_request(request: x509.CertificateSigningRequest) -> tuple[str, tuple[str, ...]]:
    """What a signing request asks for (RFC 2986): its common name, and its subject alternative
    names. Raises :class:`BadCertificateRequest`.
    """
    if not request.is_signature_valid:
        raise BadCertificateRequest(
            {
                "request": (
                    "The request's signature is not valid: it was changed, or its maker does not "
                    "have the key."
                )
            }
        )
    found = request.subject.get_attributes_for_oid(NameOID.COMMON_NAME)
    common = str(found[0].value) if found else ""
    try:
        asked = request.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return common, ()
    return common, tuple(
        str(one.value)
        for one in asked
        if isinstance(one, x509.DNSName | x509.IPAddress | x509.UniformResourceIdentifier)
    )


def general_name(text: str, wildcard: bool) -> x509.GeneralName:
    """A name as people write it: an IP address, a URI with its scheme, else a DNS name.

    Raises :class:`ValueError` with the reason.
    """
    try:
        return x509.IPAddress(ipaddress.ip_address(text.strip("[]")))
    except ValueError:
        pass
    if re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", text):
        if not text.isascii() or any(c.isspace() for c in text):
            raise ValueError(f"“{text}” is not a URI")
        return x509.UniformResourceIdentifier(text)
    labels = text.rstrip(".").split(".")
    bare = labels[1:] if labels[0] == "*" else labels
    if labels[0] == "*" and (not wildcard or len(labels) < 3):
        raise ValueError(
            f"“{text}”: a star may stand for one whole label of a server's name, with two "
            f"labels after it (RFC 9525 §6.3)"
        )
    if len(text) > 253 or not bare or not all(_LABEL.fullmatch(label) for label in bare):
        raise ValueError(f"“{text}” is neither a DNS name, nor an IP address, nor a URI")
    return x509.DNSName(text.rstrip(".").lower())


def same_names(names: Iterable[str], others: Iterable[str]) -> bool:
    """Whether two certificates are for the same names, in whatever order and however they are
    written: in capitals (RFC 4343), with a dot at the end, an address in a short form (RFC 5952).
    """

    def read(some: Iterable[str]) -> set[x509.GeneralName | str]:
        found: set[x509.GeneralName | str] = set()
        for text in some:
            try:
                found.add(general_name(text.strip(), True))
            except ValueError:
                found.add(text.strip())
        return found

    return read(names) == read(others)


def check(wanted: CertificateContent, issuer: x509.Certificate, now: datetime) -> None:
    """Whether this may be issued: names, key, life.

    Raises :class:`BadCertificateRequest` with all that is wrong.
    """
    fields: dict[str, str] = {}
    name = wanted.common_name
    if not name.strip() or len(name) > LONGEST_NAME or not name.isprintable():
        fields["common_name"] = f"Give it a name of 1 to {LONGEST_NAME} characters."
    try:
        found = [general_name(name, wanted.profile is SERVER) for name in wanted.names]
        if wanted.profile is SERVER and not any(
            isinstance(one, x509.DNSName | x509.IPAddress) for one in found
        ):
            fields["names"] = (
                "A server needs at least one DNS name or IP address that it is called by; "
                "its common name is not looked at (RFC 9525 §2)."
            )
        if len(found) > MOST_NAMES:
            fields["names"] = f"These are more than {MOST_NAMES} names."
    except ValueError as error:
        fields["names"] = f"{error}."
    told = keys.facts(wanted.public_key)
    if told.strength < LEAST_STRENGTH:
        fields["request"] = (
            f"Its key, {told.words}, is too weak: at least RSA 2048 or an elliptic curve of "
            f"224 bits is required (NIST SP 800-57 Part 1)."
        )
    if not 1 <= wanted.days <= wanted.profile.most_days:
        fields["days"] = (
            f"Choose 1 to {wanted.profile.most_days} days; a {wanted.profile.key}'s "
            f"certificate may not live longer by house rule."
        )
    elif issuer.not_valid_after_utc <= now:
        fields["days"] = "The authority's own certificate has expired. Replace the authority first."
    if fields:
        raise BadCertificateRequest(fields)


def life(days: int, issuer: x509.Certificate, now: datetime) -> tuple[datetime, datetime]:
    """From when to when a new certificate is good: never outside its issuer's own life."""
    now = now.replace(microsecond=0)
    return max(now - EARLIER, issuer.not_valid_before_utc), min(
        now + timedelta(days=days), issuer.not_valid_after_utc
    )


def issue(
    wanted: CertificateContent, issuer: Issuer, organization: str, serial: int, now: datetime
) -> x509.Certificate:
    """Issue it. Raises :class:`BadCertificateRequest`."""
    check(wanted, issuer.certificate, now)
    names = [general_name(name, wanted.profile is SERVER) for name in wanted.names]
    begin, end = life(wanted.days, issuer.certificate, now)
    made = _builder(
        _name(organization, wanted.common_name),
        issuer.certificate.subject,
        wanted.public_key,
        serial,
        begin,
        end,
    )
    made = made.add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
    made = made.add_extension(
        x509.KeyUsage(True, False, False, False, False, False, False, False, False), critical=True
    )
    made = made.add_extension(x509.ExtendedKeyUsage([wanted.profile.purpose]), critical=False)
    if names:
        made = made.add_extension(x509.SubjectAlternativeName(names), critical=False)
    return _sign(_pointing_at(made, issuer), issuer)


def _name(organization: str, common: str) -> x509.Name:
    return x509.Name(
        [
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, organization),
            x509.NameAttribute(NameOID.COMMON_NAME, common),
        ]
    )


def _builder(
    subject: x509.Name,
    issuer: x509.Name,
    key: PublicKeyTypes,
    serial: int,
    begin: datetime,
    end: datetime,
) -> x509.CertificateBuilder:
    identifier = x509.SubjectKeyIdentifier.from_public_key(key)  # type: ignore[arg-type]
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key)  # type: ignore[arg-type]
        .serial_number(serial)
        .not_valid_before(begin)
        .not_valid_after(end)
        .add_extension(identifier, critical=False)
    )


def _pointing_at(made: x509.CertificateBuilder, issuer: Issuer) -> x509.CertificateBuilder:
    """Say whose key signed it, and where that one's list and certificate are fetched."""
    above = issuer.certificate.extensions.get_extension_for_class(x509.SubjectKeyIdentifier).value
    made = made.add_extension(
        x509.AuthorityKeyIdentifier.from_issuer_subject_key_identifier(above), critical=False
    )
    if issuer.list_address:
        point = x509.DistributionPoint(
            [x509.UniformResourceIdentifier(issuer.list_address)], None, None, None
        )
        made = made.add_extension(x509.CRLDistributionPoints([point]), critical=False)
    if issuer.own_address:
        told = x509.AccessDescription(
            AuthorityInformationAccessOID.CA_ISSUERS,
            x509.UniformResourceIdentifier(issuer.own_address),
        )
        made = made.add_extension(x509.AuthorityInformationAccess([told]), critical=False)
    return made


def _hash_for(key: PrivateKeyTypes) -> hashes.HashAlgorithm | None:
    """A hash as strong as the key; Edwards curves bring their own."""
    if isinstance(key, ec.EllipticCurvePrivateKey):
        return hashes.SHA384() if key.key_size >= 384 else hashes.SHA256()
    return None if keys.facts(keys.public_of(key)).type in ("Ed25519", "Ed448") else hashes.SHA256()


def _sign(made: x509.CertificateBuilder, issuer: Issuer) -> x509.Certificate:
    return made.sign(issuer.key, _hash_for(issuer.key))  # type: ignore[arg-type]


_CA_USAGE = x509.KeyUsage(False, False, False, False, False, True, True, False, False)


def make_root(
    organization: str, name: str, key: PrivateKeyTypes, serial: int, now: datetime
) -> x509.Certificate:
    """A root, signed by itself, with one level of authorities below it at the most."""
    subject, public = _name(organization, name), keys.public_of(key)
    now = now.replace(microsecond=0)
    made = _builder(
        subject, subject, public, serial, now - EARLIER, now + timedelta(days=ROOT_DAYS)
    )
    made = made.add_extension(
        x509.BasicConstraints(ca=True, path_length=1), critical=True
    ).add_extension(_CA_USAGE, critical=True)
    names_key = x509.AuthorityKeyIdentifier.from_issuer_public_key(public)  # type: ignore[arg-type]
    made = made.add_extension(names_key, critical=False)
    return made.sign(key, _hash_for(key))  # type: ignore[arg-type]


def make_issuing(
    organization: str, name: str, key: PublicKeyTypes, root: Issuer, serial: int, now: datetime
) -> x509.Certificate:
    """An issuing authority below a root: it signs leaves and nothing else."""
    begin, end = life(ISSUING_DAYS, root.certificate, now)
    made = _builder(_name(organization, name), root.certificate.subject, key, serial, begin, end)
    made = made.add_extension(
        x509.BasicConstraints(ca=True, path_length=0), critical=True
    ).add_extension(_CA_USAGE, critical=True)
    return _sign(_pointing_at(made, root), root)


# Revocation


def reasons() -> dict[str, str]:
    """The reasons there are for revoking (RFC 5280 §5.3.1), in words.

    A hold is not offered: what was stolen must not come back.
    """
    return dict(_REASONS)


@dataclass(frozen=True)
class RevokedEntry:
    """A certificate on the list."""

    serial: int
    at: datetime
    reason: str


def revocation_list(
    issuer: Issuer, entries: Iterable[RevokedEntry], number: int, now: datetime, until: datetime
) -> x509.CertificateRevocationList:
    """The authority's complete revocation list (§5).

    ``number`` must rise with every list. Raises :class:`ValueError` for an unknown reason.
    """
    made = (
        x509.CertificateRevocationListBuilder()
        .issuer_name(issuer.certificate.subject)
        .last_update(now.replace(microsecond=0))
        .next_update(until)
    )
    made = made.add_extension(x509.CRLNumber(number), critical=False)
    key = issuer.certificate.public_key()
    names_key = x509.AuthorityKeyIdentifier.from_issuer_public_key(key)  # type: ignore[arg-type]
    made = made.add_extension(names_key, critical=False)
    for one in sorted(entries, key=lambda each: each.serial):
        if one.reason not in _REASONS:
            raise ValueError(f"there is no reason “{one.reason}”")
        entry = (
            x509.RevokedCertificateBuilder()
            .serial_number(one.serial)
            .revocation_date(one.at.replace(microsecond=0))
        )
        if one.reason != "unspecified":  # §5.3.1: then the extension should be left out
            entry = entry.add_extension(
                x509.CRLReason(x509.ReasonFlags(one.reason)), critical=False
            )
        made = made.add_revoked_certificate(entry.build())
    return made.sign(issuer.key, _hash_for(issuer.key))  # type: ignore[arg-type]
