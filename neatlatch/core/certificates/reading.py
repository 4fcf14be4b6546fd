"""Reading whatever holds certificates and keys: PEM, DER, PKCS#7, PKCS#12, signing requests and
revocation lists.

What a file holds is told from its content, never from its name.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes, PublicKeyTypes
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    load_pem_public_key,
    pkcs7,
    pkcs12,
)

from .. import derivations, keys, pem

MOST_CERTIFICATES, MOST_KEYS = 200, 20
_REQUESTS = ("CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST")


class Unreadable(ValueError):
    """Nothing could be read; the message says why.

    ``needs_password``: none, or a wrong one, was given.
    """

    def __init__(self, says: str, needs_password: bool = False) -> None:
        super().__init__(says)
        self.needs_password = needs_password


@dataclass
class CertificateFile:
    """What a file held, in its order.

    ``locked``: a private key is there that needs a password. ``notes``: what was left, and why.
    """

    certificates: list[x509.Certificate] = field(default_factory=list)
    keys: list[PrivateKeyTypes] = field(default_factory=list)
    requests: list[x509.CertificateSigningRequest] = field(default_factory=list)
    lists: list[x509.CertificateRevocationList] = field(default_factory=list)
    friendly_name: str = ""
    locked: bool = False
    notes: list[str] = field(default_factory=list)

    def __getstate__(self) -> dict[str, Any]:
        """What ``pickle`` takes: the library's objects in DER. Private keys are in it."""
        state = dict(self.__dict__)
        for name in ("certificates", "requests", "lists"):
            state[name] = [item.public_bytes(Encoding.DER) for item in state[name]]
        state["keys"] = [
            key.private_bytes(Encoding.DER, PrivateFormat.PKCS8, NoEncryption())
            for key in self.keys
        ]
        return state

    def __setstate__(self, state: dict[str, Any]) -> None:
        loads: dict[str, Callable[[bytes], Any]] = {
            "certificates": x509.load_der_x509_certificate,
            "requests": x509.load_der_x509_csr,
            "lists": x509.load_der_x509_crl,
            "keys": keys.open_own,
        }
        self.__dict__.update(
            {
                name: [loads[name](octets) for octets in value] if name in loads else value
                for name, value in state.items()
            }
        )

    def __bool__(self) -> bool:
        return bool(self.certificates or self.keys or self.requests or self.lists or self.locked)

    def leaf(self) -> x509.Certificate | None:
        """The certificate that the rest leads up from: the key's own, else the first that issued
        none of the others.
        """
        for key in self.keys:
            for certificate in self.certificates:
                if keys.match(key, certificate.public_key()):
                    return certificate
        issuers = {
            certificate.issuer
            for certificate in self.certificates
            if certificate.issuer != certificate.subject
        }
        return next(
            (
                certificate
                for certificate in self.certificates
                if certificate.subject not in issuers
            ),
            self.certificates[0] if self.certificates else None,
        )

    def chain(self) -> str:
        """The leaf in PEM and after it all other certificates, in the file's order; empty where
        there is none.
        """
        leaf = self.leaf()
        return (
            ""
            if leaf is None
            else "".join(
                as_pem(one)
                for one in (
                    leaf,
                    *(certificate for certificate in self.certificates if certificate is not leaf),
                )
            )
        )


def read(data: bytes, password: str | None = None) -> CertificateFile:
    """Read everything in a file.

    What needs a password is ``locked``. Raises :class:`Unreadable` where there is nothing.
    """
    found = _pem(data, password) if pem.is_pem(data) else _der(data, password)
    if not found:
        raise Unreadable(
            "; ".join(found.notes) or "No certificate or key is in it that can be read.",
            found.locked,
        )
    return found


def requests(data: bytes) -> list[x509.CertificateSigningRequest]:
    """The signing requests in PEM (RFC 7468 §7), and nothing else that may be there.

    Raises :class:`Unreadable`.
    """
    try:
        return [
            x509.load_pem_x509_csr(block.text)
            for block in pem.blocks(data)
            if block.label in _REQUESTS
        ]
    except ValueError as error:
        raise Unreadable(f"The signing request cannot be read: {_short(error)}") from error


def _pem(data: bytes, password: str | None) -> CertificateFile:
    found = CertificateFile()
    for one in pem.blocks(data):
        label, block = one.label, one.text
        if len(found.keys) >= MOST_KEYS:
            found.notes.append(f"more than {MOST_KEYS} private keys; the rest was left")
            break
        if len(found.certificates) >= MOST_CERTIFICATES:
            found.notes.append(f"more than {MOST_CERTIFICATES} certificates; the rest was left")
            break
        try:
            if label in ("CERTIFICATE", "X509 CERTIFICATE", "TRUSTED CERTIFICATE"):
                found.certificates.append(x509.load_pem_x509_certificate(block))
            elif label in _REQUESTS:
                found.requests.append(x509.load_pem_x509_csr(block))
            elif label == "X509 CRL":
                found.lists.append(x509.load_pem_x509_crl(block))
            elif label in ("PKCS7", "CMS"):
                found.certificates.extend(pkcs7.load_pem_pkcs7_certificates(block))
            elif label.endswith("PRIVATE KEY"):
                _take_key(found, block, password)
            else:
                found.notes.append(f"a block “{label.lower()}” was left")
        except ValueError as error:
            found.notes.append(f"a block “{label.lower()}” cannot be read: {_short(error)}")
    if not found and not found.notes:
        found.notes.append("a block begins but does not end; the text was cut")
    return found


def _take_key(file: CertificateFile, block: bytes, password: str | None) -> None:
    try:
        file.keys.append(keys.open_private(block, password))
    except keys.BadKey as error:
        file.locked = file.locked or error.needs_password
        file.notes.append(str(error))


def _der(data: bytes, password: str | None) -> CertificateFile:
    found = CertificateFile()
    if not data.startswith(b"\x30"):
        found.notes.append("this is neither PEM nor DER")
        return found
    if looks_like_pkcs12(data):
        try:
            return open_pkcs12(data, password)
        except Unreadable as error:
            found.locked = error.needs_password
            found.notes.append(str(error))
            return found
    for take in (_der_certificate, _der_request, _der_list, _der_pkcs7):
        try:
            take(found, data)
        except (ValueError, TypeError):
            continue
        if found:
            return found
    try:
        found.keys.append(keys.open_private(data, password))
    except keys.BadKey as error:
        found.locked = error.needs_password
        found.notes.append(
            str(error)
            if error.needs_password
            else "This is no certificate, key, request, list or PKCS#12 file that can be read."
        )
    return found


def _der_certificate(file: CertificateFile, data: bytes) -> None:
    file.certificates.append(x509.load_der_x509_certificate(data))


def _der_request(file: CertificateFile, data: bytes) -> None:
    file.requests.append(x509.load_der_x509_csr(data))


def _der_list(file: CertificateFile, data: bytes) -> None:
    file.lists.append(x509.load_der_x509_crl(data))


def _der_pkcs7(file: CertificateFile, data: bytes) -> None:
    with warnings.catch_warnings():
        # What openssl writes is not strict DER; it is read all the same, and that is all the
        # library says.
        warnings.simplefilter("ignore", UserWarning)
        file.certificates.extend(pkcs7.load_der_pkcs7_certificates(data))


def open_pkcs12(data: bytes, password: str | None) -> CertificateFile:
    """Open a PKCS#12 file (RFC 7292).

    Raises :class:`Unreadable`, also where it asks for unfair work.
    """
    try:
        derivations.check(data)
    except derivations.TooCostly as error:
        raise Unreadable(str(error)) from error
    try:
        opened = pkcs12.load_pkcs12(
            data, password.encode("utf-8") if password is not None else None
        )
    except ValueError as error:
        if looks_like_pkcs12(data):
            says = (
                "It is a PKCS#12 file that does not open with this password."
                if password
                else "It is a PKCS#12 file; its password is needed."
            )
            raise Unreadable(says, True) from error
        raise Unreadable(
            "This is no certificate, key, request, list or PKCS#12 file that can be read."
        ) from error
    found = CertificateFile()
    if opened.key is not None:
        found.keys.append(opened.key)
    if opened.cert is not None:
        found.certificates.append(opened.cert.certificate)
        found.friendly_name = (opened.cert.friendly_name or b"").decode("utf-8", "replace")
    found.certificates.extend(
        additional_cert.certificate for additional_cert in opened.additional_certs
    )
    return found


def looks_like_pkcs12(data: bytes) -> bool:
    """Whether DER begins as a PFX does: a sequence whose first element is the integer 3 (RFC 7292
    §4).
    """
    if not data.startswith(b"\x30") or len(data) < 12:
        return False
    skip = 2 + (data[1] & 0x7F if data[1] & 0x80 else 0)
    return data[skip : skip + 3] == b"\x02\x01\x03"


def public_key(data: bytes) -> PublicKeyTypes:
    """A public key out of PEM: alone (SubjectPublicKeyInfo, RFC 7468 §13), or that of a
    certificate. Raises :class:`Unreadable`.
    """
    try:
        if b"-----BEGIN CERTIFICATE-----" in data:
            return x509.load_pem_x509_certificate(data).public_key()
        return load_pem_public_key(data)
    except (ValueError, UnsupportedAlgorithm) as error:
        raise Unreadable(f"no public key in PEM can be read ({_short(error)})") from error


def open_key(data: bytes, password: str | None = None) -> str:
    """A private key out of PEM or DER, as it is kept: in PEM, not encrypted.

    Raises :class:`keys.BadKey`.
    """
    return key_as_pem(keys.open_private(data, password))


def as_pem(certificate: x509.Certificate) -> str:
    """A certificate in PEM (RFC 7468 §5)."""
    return certificate.public_bytes(Encoding.PEM).decode("ascii")


def key_as_pem(key: PrivateKeyTypes) -> str:
    """A private key in PEM, not encrypted (RFC 7468 §10): for sealing, never for showing."""
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode("ascii")


def _short(error: Exception) -> str:
    return str(error).split("\n")[0][:120] or "it is damaged"
