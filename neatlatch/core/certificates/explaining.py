"""What is in a file of certificates, explained: its chain as links with the one that ends first,
its key, requests and revocation lists.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from cryptography import x509

from .. import keys
from ..keys import KeyFacts
from . import path
from .facts import CertificateFacts, ListFacts, RequestFacts, of_certificate, of_list, of_request
from .reading import CertificateFile, Unreadable, read


@dataclass(frozen=True)
class Link:
    """One certificate of a chain.

    ``role``: leaf, issuing or root; ``broken``: the rule that it breaks, if it is the one that
    fails.
    """

    facts: CertificateFacts
    role: str
    ends_first: bool
    broken: str
    trusted: bool


@dataclass(frozen=True)
class Chain:
    """A chain from the leaf upwards, and what is to be said of it.

    ``ends``: the earliest end in it.
    """

    links: tuple[Link, ...]
    verdict: str
    says: str
    ends: datetime | None


@dataclass(frozen=True)
class ExplainedFile:
    """All that a file held.

    ``key_fits``: whether the private key in it is the leaf's; ``None``: there are not both.
    """

    chain: Chain | None
    others: tuple[CertificateFacts, ...]
    key: KeyFacts | None
    key_fits: bool | None
    requests: tuple[RequestFacts, ...]
    lists: tuple[ListFacts, ...]
    notes: tuple[str, ...]
    friendly_name: str


def role(certificate: x509.Certificate, place: int) -> str:
    """What a certificate is in its chain."""
    if place == 0 and not of_certificate(certificate).is_ca:
        return "leaf"
    return "root" if certificate.subject == certificate.issuer else "issuing"


def as_chain(verdict: path.PathVerdict, anchors: Sequence[x509.Certificate]) -> Chain:
    """A judged chain as links.

    A certificate's end is the earliest end in its chain, so the first to end is marked, the leaf
    before those above it.
    """
    first = min(
        verdict.chain, key=lambda certificate: certificate.not_valid_after_utc, default=None
    )
    links = tuple(
        Link(
            of_certificate(one),
            role(one, place),
            one is first,
            verdict.says
            if not verdict.valid and one.subject.rfc4514_string() == verdict.at
            else "",
            one in anchors,
        )
        for place, one in enumerate(verdict.chain)
    )
    return Chain(links, verdict.verdict, verdict.says, verdict.ends)


def explain_file(
    data: bytes,
    password: str | None,
    trusted: Sequence[bytes],
    at: datetime,
    purpose: path.Purpose,
    host: str,
    trust_its_roots: bool,
) -> tuple[ExplainedFile, bool]:
    """Read and explain a file; ``trusted`` in DER.

    Returns whether a private key in it stayed locked, too. Raises :class:`Unreadable`.
    """
    found = read(data, password)
    if found.locked and not (found.certificates or found.keys or found.requests or found.lists):
        raise Unreadable("; ".join(found.notes), True)
    anchors = [x509.load_der_x509_certificate(octets) for octets in trusted]
    return explain(found, anchors, at, purpose, host, trust_its_roots), found.locked


def explain(
    file: CertificateFile,
    trusted: Sequence[x509.Certificate],
    at: datetime,
    purpose: path.Purpose = "any",
    host: str | None = None,
    trust_its_roots: bool = False,
) -> ExplainedFile:
    """Explain a file at a moment.

    ``trusted`` are the roots it is judged against; with ``trust_its_roots`` the self-signed ones in
    it count as well.
    """
    leaf = file.leaf()
    anchors = [
        *trusted,
        *(
            certificate
            for certificate in file.certificates
            if trust_its_roots and certificate.subject == certificate.issuer
        ),
    ]
    chain, others = None, tuple(of_certificate(certificate) for certificate in file.certificates)
    if leaf is not None:
        verdict = path.judge(
            leaf,
            file.certificates,
            anchors,
            at,
            purpose=purpose,
            host=host or None,
            lists=file.lists,
        )
        chain = as_chain(verdict, anchors)
        shown = {link.facts.sha256 for link in chain.links}
        others = tuple(other for other in others if other.sha256 not in shown)
    key = file.keys[0] if file.keys else None
    return ExplainedFile(
        chain,
        others,
        keys.facts(keys.public_of(key)) if key is not None else None,
        keys.match(key, leaf.public_key()) if key is not None and leaf is not None else None,
        tuple(of_request(request) for request in file.requests),
        tuple(of_list(listing) for listing in file.lists),
        tuple(file.notes),
        file.friendly_name,
    )
