"""Certificates and keys as they arrive: read, explained, and put into the form in which they are
kept.
"""

from __future__ import annotations

from datetime import datetime

from cryptography import x509

from .. import keys
from ..certificates import facts, path, reading
from ..lifetimes import in_words
from .found import IntakeRefused, Item, Recognised


def recognise(data: bytes, password: str | None, now: datetime) -> Recognised:
    """Explain what a file of certificates and keys holds. Raises :class:`IntakeRefused`."""
    try:
        found = reading.read(data, password)
    except reading.Unreadable as error:
        raise IntakeRefused(str(error), error.needs_password) from error
    leaf = found.leaf()
    if leaf is None and not found.keys and not found.requests and not found.lists:
        raise IntakeRefused("; ".join(found.notes), found.locked)
    items: list[Item] = []
    told: list[tuple[str, str]] = []
    words = []
    if leaf is not None:
        others = [certificate for certificate in found.certificates if certificate is not leaf]
        items.append(Item("certificate", found.chain()))
        told += _explain(leaf, others, now)
        words.append(f"a certificate with {len(others)} more of its chain")
    for key in found.keys[:1]:
        items.append(Item("private_key", reading.key_as_pem(key)))
        told.append(("Private key", keys.facts(keys.public_of(key)).words))
        if leaf is not None:
            told.append(
                (
                    "Key match",
                    "the key is this certificate's"
                    if keys.match(key, leaf.public_key())
                    else "the key is NOT this certificate's",
                )
            )
        words.append("its private key" if leaf is not None else "a private key")
    for request in found.requests[:3]:
        one = facts.of_request(request)
        told.append(
            (
                "Signing request",
                (
                    f"{one.subject}, {one.key.words}, its signature "
                    f"{'holds' if one.signature_valid else 'does NOT hold'}"
                ),
            )
        )
        words.append("a signing request")
    for revoked in found.lists[:3]:
        listed = facts.of_list(revoked)
        told.append(("Revocation list", f"of {listed.issuer}, {len(listed.revoked)} entries"))
        words.append("a revocation list")
    left = [*found.notes, *(f"{len(found.keys) - 1} more keys" for _ in [0] if len(found.keys) > 1)]
    return Recognised(
        "certificate",
        f"{', '.join(words)[:1].upper()}{', '.join(words)[1:]}",
        tuple(items),
        tuple(left),
        tuple(told),
    )


def _explain(
    leaf: x509.Certificate, others: list[x509.Certificate], now: datetime
) -> list[tuple[str, str]]:
    told = facts.of_certificate(leaf)
    roots = [certificate for certificate in others if certificate.subject == certificate.issuer]
    verdict = path.judge(leaf, others, roots or [leaf], now)
    left = told.not_after - now
    ends = f"{told.not_after:%d %b %Y}, " + (
        f"{in_words(left)} left" if left.total_seconds() > 0 else f"expired {in_words(-left)} ago"
    )
    purposes = "any" if told.purposes is None else ", ".join(told.purposes) or "none"
    found = [
        ("Subject", told.subject),
        ("Issued by", told.issuer),
        ("Expires", ends),
        ("For", purposes),
        ("Key", told.key.words),
        ("SHA-256", told.sha256),
        ("SHA-1", told.sha1),
        ("x5t#S256", told.x5t_s256),
        (
            "Chain",
            verdict.says
            if roots or not verdict.valid
            else "No root came with it, so its chain cannot be judged here.",
        ),
    ]
    if told.dns_names or told.ip_addresses:
        found.insert(2, ("Names", ", ".join((*told.dns_names, *told.ip_addresses))[:300]))
    return found
