"""Certificates, requests, lists, keys and PKCS#12 (RFC 5280, 9525, 2986, 7292)."""

from __future__ import annotations

import hashlib
from datetime import datetime
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from .. import keys
from ..certificates import facts, path, reading
from ..certificates.reading import CertificateFile
from .op import BadInput, Inputs, Op, Reader, integer, moment, optional_text, text, texts


def _open(read: Reader, name: str, password: str | None = None) -> CertificateFile:
    try:
        return reading.read(read(name), password)
    except reading.Unreadable as error:
        raise BadInput(f"{name}: {error}") from error


def _certificates(read: Reader, names: tuple[str, ...]) -> list[x509.Certificate]:
    return [one for name in names for one in _open(read, name).certificates]


def _one(read: Reader, name: str) -> x509.Certificate:
    found = _open(read, name).leaf()
    if found is None:
        raise BadInput(f"{name} holds no certificate")
    return found


def _zulu(at: datetime | None) -> str | None:
    return at.strftime("%Y-%m-%dT%H:%M:%SZ") if at else None


def _verify(inputs: Inputs, read: Reader) -> dict[str, Any]:
    purpose, level = (
        inputs.get("purpose", "any"),
        integer({"security_level": 2, **inputs}, "security_level"),
    )
    if purpose not in ("server", "client", "any"):
        raise BadInput("“purpose” must be server, client or any")
    if not 0 <= level <= 5:
        raise BadInput("“security_level” must be from 0 to 5")
    at = moment(inputs, "verification_time")
    if at is None:
        raise BadInput("“verification_time” is needed, like 2026-06-01T00:00:00Z")
    lists = [one for name in texts(inputs, "crls") for one in _open(read, name).lists]
    anchors = inputs.get("trust_anchors")
    roots = _certificates(
        read, (anchors,) if isinstance(anchors, str) else texts(inputs, "trust_anchors")
    )
    verdict = path.judge(
        _one(read, text(inputs, "leaf")),
        _certificates(read, texts(inputs, "intermediates")),
        roots,
        at,
        purpose=purpose,
        host=optional_text(inputs, "name"),
        lists=lists,
        level=level,
    )
    return {
        "verdict": verdict.verdict,
        "valid": verdict.valid,
        "reason": verdict.says,
        "certificate": verdict.at,
        "chain": [certificate.subject.rfc4514_string() for certificate in verdict.chain],
        "chain_ends": _zulu(verdict.ends),
    }


def _facts(inputs: Inputs, read: Reader) -> dict[str, Any]:
    told = facts.of_certificate(_one(read, text(inputs, "file")))
    return {
        "sha1_fingerprint": told.sha1,
        "sha256_fingerprint": told.sha256,
        "x5t": told.x5t,
        "x5t#S256": told.x5t_s256,
        "spki_sha256_base64": told.key.spki_sha256,
        "serial_hex": told.serial_hex,
        "not_before": _zulu(told.not_before),
        "not_after": _zulu(told.not_after),
        "subject": told.subject,
        "issuer": told.issuer,
        "public_key": {"type": told.key.type, "bits": told.key.bits}
        | ({"curve": told.key.curve} if told.key.curve else {}),
        "signature_algorithm_oid": told.signature_oid,
        "dns_names": list(told.dns_names),
        "is_ca": told.is_ca,
    }


def _key_matches(inputs: Inputs, read: Reader) -> bool:
    certificate, name = _one(read, text(inputs, "certificate")), text(inputs, "private_key")
    try:
        return keys.match(
            keys.open_private(read(name), optional_text(inputs, "password")),
            certificate.public_key(),
        )
    except keys.BadKey as error:
        raise BadInput(f"{name}: {error}") from error


def _open_key(inputs: Inputs, read: Reader) -> dict[str, Any]:
    try:
        keys.open_private(read(text(inputs, "file")), optional_text(inputs, "password"))
    except keys.BadKey as error:
        if error.needs_password:
            return {"opens": False, "reason": str(error)}
        raise BadInput(str(error)) from error
    return {"opens": True}


def _list(inputs: Inputs, read: Reader) -> dict[str, Any]:
    found = _open(read, text(inputs, "file")).lists
    if not found:
        raise BadInput("the file holds no revocation list")
    told = facts.of_list(found[0])
    return {
        "this_update": _zulu(told.this_update),
        "next_update": _zulu(told.next_update),
        "crl_number": told.number,
        "issuer": told.issuer,
        "revoked": [
            {
                "serial_hex": revoked.serial_hex,
                "revocation_date": _zulu(revoked.at),
                "reason": revoked.reason,
            }
            for revoked in told.revoked
        ],
    }


def _request(inputs: Inputs, read: Reader) -> dict[str, Any]:
    found = _open(read, text(inputs, "file")).requests
    if not found:
        raise BadInput("the file holds no signing request")
    told = facts.of_request(found[0])
    return {
        "subject": told.subject,
        "dns_names": list(told.dns_names),
        "signature_valid": told.signature_valid,
        "spki_sha256_base64": told.key.spki_sha256,
    }


def _pkcs12(inputs: Inputs, read: Reader) -> dict[str, Any]:
    data = read(text(inputs, "file"))
    try:
        found = reading.open_pkcs12(data, optional_text(inputs, "password"))
    except reading.Unreadable as error:
        if error.needs_password:
            return {"opens": False, "reason": str(error)}
        raise BadInput(str(error)) from error
    leaf = found.leaf()
    return {
        "opens": True,
        "friendly_name": found.friendly_name or None,
        "has_private_key": bool(found.keys),
        "certificate_sha256": hashlib.sha256(leaf.public_bytes(Encoding.DER)).hexdigest()
        if leaf
        else None,
        "further_certificates": len(found.certificates) - bool(leaf),
    }


OPS = (
    Op(
        "verify_chain",
        "leaf, intermediates: [file], trust_anchors, crls: [file], purpose (server | client "
        "| any), name (null), verification_time, "
        "security_level (2)",
        "RFC 5280 §6.1, §6.3, RFC 9525 §6",
        _verify,
        True,
    ),
    Op("certificate_facts", "file", "RFC 5280 §4.1, RFC 7515 §4.1.7", _facts, True),
    Op(
        "key_matches_certificate",
        "certificate, private_key, password (null)",
        "RFC 5280 §4.1.2.7",
        _key_matches,
        True,
    ),
    Op("open_encrypted_key", "file, password", "RFC 5958 §3", _open_key, True),
    Op("crl_facts", "file", "RFC 5280 §5", _list, True),
    Op("csr_facts", "file", "RFC 2986", _request, True),
    Op("open_pkcs12", "file, password", "RFC 7292", _pkcs12, True),
)
