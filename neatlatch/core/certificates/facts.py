"""What a certificate, a request or a revocation list says, as plain values."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import ExtendedKeyUsageOID

from .. import keys
from ..jose import b64
from ..keys import KeyFacts

_PURPOSES = {
    ExtendedKeyUsageOID.SERVER_AUTH: "server",
    ExtendedKeyUsageOID.CLIENT_AUTH: "client",
    ExtendedKeyUsageOID.CODE_SIGNING: "code signing",
    ExtendedKeyUsageOID.EMAIL_PROTECTION: "mail",
    ExtendedKeyUsageOID.TIME_STAMPING: "time stamping",
    ExtendedKeyUsageOID.OCSP_SIGNING: "OCSP signing",
    ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE: "any",
}


@dataclass(frozen=True)
class CertificateFacts:
    """A certificate in plain values.

    Thumbprints with colons are in capitals, as people compare them; ``x5t`` as in RFC 7515 §4.1.7.

    ``purposes`` is ``None`` where the extended key usage is absent, which allows any (RFC 5280
    §4.2.1.12).
    """

    subject: str
    issuer: str
    serial_hex: str
    not_before: datetime
    not_after: datetime
    sha1: str
    sha256: str
    x5t: str
    x5t_s256: str
    key: KeyFacts
    signature_oid: str
    signature_hash: str
    dns_names: tuple[str, ...]
    ip_addresses: tuple[str, ...]
    uris: tuple[str, ...]
    purposes: tuple[str, ...] | None
    is_ca: bool
    self_issued: bool


@dataclass(frozen=True)
class RequestFacts:
    """A certificate signing request (RFC 2986)."""

    subject: str
    dns_names: tuple[str, ...]
    signature_valid: bool
    key: KeyFacts


@dataclass(frozen=True)
class RevokedFacts:
    """One entry of a revocation list."""

    serial_hex: str
    at: datetime
    reason: str


@dataclass(frozen=True)
class ListFacts:
    """A certificate revocation list (RFC 5280 §5)."""

    issuer: str
    this_update: datetime
    next_update: datetime | None
    number: int | None
    revoked: tuple[RevokedFacts, ...]


def colons(octets: bytes) -> str:
    """Octets as pairs of capitals with colons between, as fingerprints are shown."""
    return octets.hex(":").upper()


def serial(number: int) -> str:
    """A serial number in hexadecimal capitals, whole octets, as it is shown and compared."""
    text = f"{number:X}"
    return text if len(text) % 2 == 0 else f"0{text}"


def _names(extensions: x509.Extensions) -> tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]:
    """The subject alternative names: DNS names, IP addresses, URIs."""
    try:
        found = extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return (), (), ()
    addresses = tuple(str(value) for value in found.get_values_for_type(x509.IPAddress))
    return (
        tuple(found.get_values_for_type(x509.DNSName)),
        addresses,
        tuple(found.get_values_for_type(x509.UniformResourceIdentifier)),
    )


def purposes(certificate: x509.Certificate) -> tuple[str, ...] | None:
    """What a certificate may be used for by its extended key usage; ``None`` where it
    does not say.
    """
    try:
        found = certificate.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
    except x509.ExtensionNotFound:
        return None
    return tuple(_PURPOSES.get(purpose, purpose.dotted_string) for purpose in found)


def basic_constraints(certificate: x509.Certificate) -> x509.BasicConstraints | None:
    """The basic constraints (RFC 5280 §4.2.1.9), if there are any."""
    try:
        return certificate.extensions.get_extension_for_class(x509.BasicConstraints).value
    except x509.ExtensionNotFound:
        return None


def of_certificate(certificate: x509.Certificate) -> CertificateFacts:
    """A certificate in plain values."""
    der = certificate.public_bytes(Encoding.DER)
    sha1, sha256 = hashlib.sha1(der).digest(), hashlib.sha256(der).digest()
    dns, ips, uris = _names(certificate.extensions)
    constraints, algorithm = basic_constraints(certificate), certificate.signature_hash_algorithm
    return CertificateFacts(
        subject=certificate.subject.rfc4514_string(),
        issuer=certificate.issuer.rfc4514_string(),
        serial_hex=serial(certificate.serial_number),
        not_before=certificate.not_valid_before_utc,
        not_after=certificate.not_valid_after_utc,
        sha1=colons(sha1),
        sha256=colons(sha256),
        x5t=b64.encode(sha1),
        x5t_s256=b64.encode(sha256),
        key=keys.facts(certificate.public_key()),
        signature_oid=certificate.signature_algorithm_oid.dotted_string,
        signature_hash=algorithm.name if algorithm else "",
        dns_names=dns,
        ip_addresses=ips,
        uris=uris,
        purposes=purposes(certificate),
        is_ca=bool(constraints and constraints.ca),
        self_issued=certificate.subject == certificate.issuer,
    )


def of_request(request: x509.CertificateSigningRequest) -> RequestFacts:
    """A signing request in plain values; whether its signature holds says that its maker has
    the key (RFC 2986 §3).
    """
    return RequestFacts(
        request.subject.rfc4514_string(),
        _names(request.extensions)[0],
        request.is_signature_valid,
        keys.facts(request.public_key()),
    )


def of_list(crl: x509.CertificateRevocationList) -> ListFacts:
    """A revocation list in plain values.

    An entry without a reason has “unspecified” (RFC 5280 §5.3.1).
    """
    try:
        number: int | None = crl.extensions.get_extension_for_class(x509.CRLNumber).value.crl_number
    except x509.ExtensionNotFound:
        number = None
    return ListFacts(
        crl.issuer.rfc4514_string(),
        crl.last_update_utc,
        crl.next_update_utc,
        number,
        tuple(_revoked(crl)),
    )


def _revoked(entries: Iterable[x509.RevokedCertificate]) -> Iterable[RevokedFacts]:
    for entry in entries:
        try:
            reason = entry.extensions.get_extension_for_class(x509.CRLReason).value.reason.value
        except x509.ExtensionNotFound:
            reason = "unspecified"
        yield RevokedFacts(serial(entry.serial_number), entry.revocation_date_utc, reason)
