"""Our own client certificate as the pins see it."""

from __future__ import annotations

from datetime import datetime

from cryptography.x509.oid import NameOID

from ..pins.base import CertificateSight
from . import path, reading
from .facts import of_certificate


def of_pem(pem: str, public_key: str, trusted: str, now: datetime) -> CertificateSight | None:
    """Judge a certificate with the chain that came with it; ``None`` where no certificate can be
    read.

    ``public_key`` is the SubjectPublicKeyInfo hash of the private key at hand (empty: there is
    none); ``trusted`` holds authorities in PEM. Roots that came with the chain count as trusted
    here, because the provider's trust store is not ours to know; where the issuer is in neither,
    only the certificate itself is judged, and that is said.
    """
    try:
        found = reading.read(pem.encode("utf-8"))
    except reading.Unreadable:
        return None
    leaf = found.leaf()
    if leaf is None:
        return None
    told = of_certificate(leaf)
    anchors = [
        certificate
        for certificate in found.certificates
        if certificate.subject == certificate.issuer and certificate is not leaf
    ]
    if trusted:
        anchors += reading.read(trusted.encode("utf-8")).certificates
    verdict = path.judge(leaf, found.certificates, anchors, now, purpose="any")
    code, says, ends = verdict.verdict, verdict.says, verdict.ends
    if code in ("incomplete_chain_or_untrusted_issuer", "untrusted_self_signed"):
        alone = path.judge(leaf, [], [leaf], now, purpose="any")
        code, ends = alone.verdict, alone.ends
        says = (
            alone.says
            if not alone.valid
            else "Its issuer is not known here, so only the certificate itself was judged."
        )
    names = leaf.subject.get_attributes_for_oid(NameOID.COMMON_NAME)
    common = str(names[0].value) if names else told.subject
    may = told.purposes is None or "client" in told.purposes or "any" in told.purposes
    return CertificateSight(
        common,
        told.sha256,
        ends,
        code,
        says,
        may,
        None if not public_key else public_key == told.key.spki_sha256,
    )
