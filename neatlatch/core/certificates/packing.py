"""Packing a certificate with its key into one file (PKCS#12, RFC 7292)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import PrivateFormat, pkcs12

# PBKDF2 with SHA-256: OWASP's figure, from memory.
ROUNDS = 600_000


def pack(
    name: str,
    key: PrivateKeyTypes,
    certificate: x509.Certificate,
    others: Sequence[x509.Certificate],
    password: str,
) -> bytes:
    """A PKCS#12 file, sealed by AES-256 with PBES2 and checked by HMAC-SHA-256, which today's
    programs open. ``password`` is ASCII.
    """
    lock = (
        PrivateFormat.PKCS12.encryption_builder()
        .kdf_rounds(ROUNDS)
        .key_cert_algorithm(pkcs12.PBES.PBESv2SHA256AndAES256CBC)
        .hmac_hash(SHA256())
        .build(password.encode("ascii"))
    )
    private: Any = key
    return pkcs12.serialize_key_and_certificates(
        name.encode("utf-8"), private, certificate, list(others), lock
    )
