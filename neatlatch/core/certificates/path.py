"""Is a certificate good? Its path to a trusted root, judged at a moment (RFC 5280 §6.1).

Paths are built from the leaf upwards over every certificate that could be the issuer. Each complete
path is judged; the first that holds is the answer, else the fault of the one that came furthest.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm

from .. import keys
from . import names
from .facts import basic_constraints, purposes

Purpose = Literal["server", "client", "any"]
_LONGEST = 12
# A maze of cross-signed issuers has more ways than can be walked; so many steps are taken, and no
# more.
_MOST_STEPS = 500
# Names compared with the subtrees of name constraints, over all paths.
_MOST_COMPARISONS = 200_000
# Security in bits that each level asks of keys (as OpenSSL's levels do; NIST SP 800-57 Part 1 for
# the equivalences).
_STRENGTH = {0: 0, 1: 80, 2: 112, 3: 128, 4: 192, 5: 256}
_WEAK_HASHES = ("md5", "sha1")
_UNDERSTOOD = (
    x509.BasicConstraints,
    x509.KeyUsage,
    x509.ExtendedKeyUsage,
    x509.SubjectAlternativeName,
    x509.NameConstraints,
    x509.CertificatePolicies,
    x509.SubjectKeyIdentifier,
    x509.AuthorityKeyIdentifier,
    x509.CRLDistributionPoints,
    x509.AuthorityInformationAccess,
    x509.IssuerAlternativeName,
)
WORDS = {
    "ok": "The chain is good.",
    "expired": "It has expired.",
    "not_yet_valid": "It is not valid yet.",
    "hostname_mismatch": "It is for another name.",
    "wrong_purpose": "It is for another purpose.",
    "untrusted_self_signed": "It is signed by itself, and not in the trust store.",
    "incomplete_chain_or_untrusted_issuer": (
        "Its issuer is neither trusted nor among the certificates that came with it."
    ),
    "name_constraint": "An issuer above it may not issue for this name.",
    "path_length": "An issuer above it may not have so many issuers below it.",
    "issuer_is_not_a_ca": "What issued it is not a certificate authority.",
    "issuer_may_not_sign": "What issued it has a key that is not for signing certificates.",
    "bad_signature": "Its signature does not hold: it was changed, or its issuer's key is another.",
    "weak_key": "Its key is too weak.",
    "weak_signature": "It is signed with a hash that is no longer safe.",
    "unknown_critical_extension": "It holds a critical extension that is not understood here.",
    "revoked": "It has been revoked.",
    "crl_expired": "The revocation list is too old to tell.",
    "crl_not_signed_by_issuer": "The revocation list is not signed by the certificate's issuer.",
    "too_many_names": (
        "It has more names, or an issuer above it more rules for names, than are compared."
    ),
    "revocation_unknown": (
        "Revocation lists came with it, but none of its issuer: whether it was revoked is not "
        "known."
    ),
}
# How far a path came when it fell, for choosing which fault to tell: a fault of the path's shape
# says least.
_TELLING = (
    "incomplete_chain_or_untrusted_issuer",
    "untrusted_self_signed",
    "bad_signature",
    "issuer_is_not_a_ca",
    "issuer_may_not_sign",
    "path_length",
)


@dataclass(frozen=True)
class PathVerdict:
    """Whether a chain is good; if not, which certificate broke which rule.

    ``chain`` runs from the leaf upwards.
    """

    verdict: str
    says: str
    at: str = ""
    chain: tuple[x509.Certificate, ...] = ()

    @property
    def valid(self) -> bool:
        """Whether it is good."""
        return self.verdict == "ok"

    @property
    def ends(self) -> datetime | None:
        """When the chain ends: the earliest end in it."""
        return min((certificate.not_valid_after_utc for certificate in self.chain), default=None)


class _Fault(Exception):
    def __init__(self, verdict: str, certificate: x509.Certificate) -> None:
        super().__init__(verdict)
        self.verdict, self.certificate = verdict, certificate


def judge(
    leaf: x509.Certificate,
    others: Sequence[x509.Certificate],
    anchors: Sequence[x509.Certificate],
    at: datetime,
    *,
    purpose: Purpose = "any",
    host: str | None = None,
    lists: Sequence[x509.CertificateRevocationList] = (),
    level: int = 2,
) -> PathVerdict:
    """Judge a leaf at a moment.

    ``others`` came with it and are not trusted; ``anchors`` are. ``level`` is the security level, 0
    to 5.

    ``host`` is checked where it is given; revocation of the leaf where ``lists`` holds anything.
    """
    worst: PathVerdict | None = None
    compared = _Comparisons()
    for chain in _paths(leaf, others, anchors):
        try:
            _check_path(chain, at, purpose, level, compared)
            _check_leaf(chain, at, purpose, host, lists)
        except _Fault as fault:
            found = PathVerdict(
                fault.verdict,
                WORDS[fault.verdict],
                fault.certificate.subject.rfc4514_string(),
                chain,
            )
            if worst is None or _telling(found.verdict) > _telling(worst.verdict):
                worst = found
            continue
        return PathVerdict("ok", WORDS["ok"], "", chain)
    if worst is not None:
        return worst
    code = (
        "untrusted_self_signed"
        if leaf.subject == leaf.issuer
        else "incomplete_chain_or_untrusted_issuer"
    )
    top = _longest_path(leaf, others)
    return PathVerdict(code, WORDS[code], top[-1].subject.rfc4514_string(), top)


def _telling(verdict: str) -> int:
    return _TELLING.index(verdict) if verdict in _TELLING else len(_TELLING)


def _paths(
    leaf: x509.Certificate, others: Sequence[x509.Certificate], anchors: Sequence[x509.Certificate]
) -> Iterator[tuple[x509.Certificate, ...]]:
    """Every way from the leaf to an anchor, trusted issuers first.

    Depth-first, no certificate twice.
    """
    if leaf in anchors:
        yield (leaf,)
        return
    waiting: list[tuple[x509.Certificate, ...]] = [(leaf,)]
    for _ in range(_MOST_STEPS):
        if not waiting:
            return
        path = waiting.pop()
        top = path[-1]
        for anchor in _issuers(top, anchors):
            yield (*path, anchor)
        if len(path) < _LONGEST:
            waiting.extend(
                (*path, issuer) for issuer in reversed(_issuers(top, others)) if issuer not in path
            )


def _longest_path(
    leaf: x509.Certificate, others: Sequence[x509.Certificate]
) -> tuple[x509.Certificate, ...]:
    """As far up as the certificates at hand lead."""
    path: tuple[x509.Certificate, ...] = (leaf,)
    while len(path) < _LONGEST:
        above = [issuer for issuer in _issuers(path[-1], others) if issuer not in path]
        if not above:
            break
        path = (*path, above[0])
    return path


def _issuers(
    certificate: x509.Certificate, among: Sequence[x509.Certificate]
) -> list[x509.Certificate]:
    """Those whose subject is the issuer's name; the ones whose key identifier fits come first (RFC
    5280 §4.2.1.1).
    """
    wanted = _key_identifier(certificate, x509.AuthorityKeyIdentifier)
    found = [candidate for candidate in among if candidate.subject == certificate.issuer]
    return sorted(
        found,
        key=lambda candidate: (
            wanted is None or _key_identifier(candidate, x509.SubjectKeyIdentifier) != wanted
        ),
    )


def _key_identifier(
    certificate: x509.Certificate,
    kind: type[x509.AuthorityKeyIdentifier | x509.SubjectKeyIdentifier],
) -> bytes | None:
    try:
        value = certificate.extensions.get_extension_for_class(kind).value
    except x509.ExtensionNotFound:
        return None
    return value.key_identifier


class _Comparisons:
    """How many names may still be compared."""

    def __init__(self) -> None:
        self.left = _MOST_COMPARISONS

    def spend(self, count: int, certificate: x509.Certificate) -> None:
        self.left -= count
        if self.left < 0:
            raise _Fault("too_many_names", certificate)


def _check_path(
    chain: tuple[x509.Certificate, ...],
    at: datetime,
    purpose: Purpose,
    level: int,
    compared: _Comparisons,
) -> None:
    """RFC 5280 §6.1.3 and §6.1.4 for each certificate, from the anchor down to the leaf.

    The anchor itself is trusted as it is.
    """
    below = 0
    for place, (certificate, issuer) in enumerate(zip(chain, chain[1:], strict=False)):
        if place > 0 and certificate.subject != certificate.issuer:
            below += 1
        _check_issuer(issuer, below, purpose)
    for certificate, issuer in reversed(list(zip(chain, chain[1:], strict=False))):
        _check_signature(certificate, issuer, level)
    for certificate in reversed(chain):
        _check_time(certificate, at)
        _check_strength(certificate, level)
        if certificate is not chain[-1] or len(chain) == 1:
            _check_critical(certificate)
    for place in range(len(chain) - 1, 0, -1):
        for lower in chain[:place]:
            if lower.subject != lower.issuer or lower is chain[0]:
                _check_name_constraints(chain[place], lower, compared)


def _check_issuer(issuer: x509.Certificate, below: int, purpose: Purpose) -> None:
    """An issuer must be an authority whose key may sign, with no more authorities below it than it
    allows (§6.1.4 k, l, m, n).

    ``below`` counts the authorities between it and the leaf that are not self-issued.
    """
    constraints = basic_constraints(issuer)
    if constraints is None or not constraints.ca:
        raise _Fault("issuer_is_not_a_ca", issuer)
    if constraints.path_length is not None and below > constraints.path_length:
        raise _Fault("path_length", issuer)
    try:
        usage = issuer.extensions.get_extension_for_class(x509.KeyUsage).value
    except x509.ExtensionNotFound:
        usage = None
    if usage is not None and not usage.key_cert_sign:
        raise _Fault("issuer_may_not_sign", issuer)
    if purpose != "any" and not _serves(purposes(issuer), purpose):
        raise _Fault("wrong_purpose", issuer)


def _serves(found: tuple[str, ...] | None, purpose: Purpose) -> bool:
    return found is None or purpose in found or "any" in found


def _check_signature(certificate: x509.Certificate, issuer: x509.Certificate, level: int) -> None:
    algorithm = certificate.signature_hash_algorithm
    if level > 0 and algorithm is not None and algorithm.name in _WEAK_HASHES:
        raise _Fault("weak_signature", certificate)
    try:
        certificate.verify_directly_issued_by(issuer)
    except (InvalidSignature, ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise _Fault("bad_signature", certificate) from error


def _check_time(certificate: x509.Certificate, at: datetime) -> None:
    """The validity period includes both its ends (RFC 5280 §4.1.2.5)."""
    if at < certificate.not_valid_before_utc:
        raise _Fault("not_yet_valid", certificate)
    if at > certificate.not_valid_after_utc:
        raise _Fault("expired", certificate)


def _check_strength(certificate: x509.Certificate, level: int) -> None:
    if keys.facts(certificate.public_key()).strength < _STRENGTH[level]:
        raise _Fault("weak_key", certificate)


def _check_critical(certificate: x509.Certificate) -> None:
    """A critical extension that is not understood must not be passed over (RFC 5280 §4.2)."""
    for extension in certificate.extensions:
        if extension.critical and not isinstance(extension.value, _UNDERSTOOD):
            raise _Fault("unknown_critical_extension", certificate)


def _check_name_constraints(
    issuer: x509.Certificate, certificate: x509.Certificate, compared: _Comparisons
) -> None:
    """RFC 5280 §4.2.1.10: names must lie in a permitted subtree of their kind, where there is one,
    and in no excluded one.
    """
    try:
        constraints = issuer.extensions.get_extension_for_class(x509.NameConstraints).value
    except x509.ExtensionNotFound:
        return
    names_of_it = _all_names(certificate)
    subtrees = len(constraints.excluded_subtrees or ()) + len(constraints.permitted_subtrees or ())
    compared.spend(len(names_of_it) * subtrees, certificate)
    for name in names_of_it:
        for excluded in constraints.excluded_subtrees or ():
            if _in_subtree(name, excluded):
                raise _Fault("name_constraint", certificate)
        permitted = [
            permitted_subtree
            for permitted_subtree in constraints.permitted_subtrees or ()
            if type(permitted_subtree) is type(name)
        ]
        if permitted and not any(_in_subtree(name, subtree) for subtree in permitted):
            raise _Fault("name_constraint", certificate)


def _all_names(certificate: x509.Certificate) -> list[x509.GeneralName]:
    found: list[x509.GeneralName] = []
    with suppress(x509.ExtensionNotFound):
        found.extend(
            certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        )
    if len(list(certificate.subject)):
        found.append(x509.DirectoryName(certificate.subject))
    return found


def _in_subtree(name: x509.GeneralName, base: x509.GeneralName) -> bool:
    if isinstance(name, x509.DNSName) and isinstance(base, x509.DNSName):
        return names.within(name.value.removeprefix("*."), base.value)
    if isinstance(name, x509.RFC822Name) and isinstance(base, x509.RFC822Name):
        return _mail_within(name.value, base.value)
    if isinstance(name, x509.UniformResourceIdentifier) and isinstance(
        base, x509.UniformResourceIdentifier
    ):
        host = name.value.partition("://")[2].partition("/")[0].rpartition("@")[2].partition(":")[0]
        return (
            names.within(host, base.value)
            if base.value.startswith(".")
            else host.lower() == base.value.lower()
        )
    if isinstance(name, x509.IPAddress) and isinstance(base, x509.IPAddress):
        network = base.value
        return (
            isinstance(network, ipaddress.IPv4Network | ipaddress.IPv6Network)
            and name.value in network
        )
    if isinstance(name, x509.DirectoryName) and isinstance(base, x509.DirectoryName):
        top = list(base.value.rdns)
        return list(name.value.rdns)[: len(top)] == top
    return False


def _mail_within(address: str, base: str) -> bool:
    if "@" in base:
        return address.lower() == base.lower()
    host = address.rpartition("@")[2]
    return names.within(host, base) if base.startswith(".") else host.lower() == base.lower()


def _check_leaf(
    chain: tuple[x509.Certificate, ...],
    at: datetime,
    purpose: Purpose,
    host: str | None,
    lists: Sequence[x509.CertificateRevocationList],
) -> None:
    leaf = chain[0]
    if purpose != "any" and not _serves(purposes(leaf), purpose):
        raise _Fault("wrong_purpose", leaf)
    if host is not None:
        try:
            found = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        except x509.ExtensionNotFound as error:
            raise _Fault("hostname_mismatch", leaf) from error
        if not names.matches(
            host,
            found.get_values_for_type(x509.DNSName),
            (str(value) for value in found.get_values_for_type(x509.IPAddress)),
        ):
            raise _Fault("hostname_mismatch", leaf)
    if lists and len(chain) > 1:
        _check_revocation(leaf, chain[1], at, lists)


def _check_revocation(
    certificate: x509.Certificate,
    issuer: x509.Certificate,
    at: datetime,
    lists: Sequence[x509.CertificateRevocationList],
) -> None:
    """RFC 5280 §6.3.3, for complete lists of the certificate's own issuer.

    Lists of others only say nothing of it (§6.3: undetermined).
    """
    of_issuer = [listing for listing in lists if listing.issuer == certificate.issuer]
    if not of_issuer:
        raise _Fault("revocation_unknown", certificate)
    signed = [
        revocation_list
        for revocation_list in of_issuer
        if revocation_list.is_signature_valid(issuer.public_key())  # type: ignore[arg-type]
    ]
    if of_issuer and not signed:
        raise _Fault("crl_not_signed_by_issuer", certificate)
    for revocation_list in signed:
        entry = revocation_list.get_revoked_certificate_by_serial_number(certificate.serial_number)
        if entry is not None and entry.revocation_date_utc <= at:
            raise _Fault("revoked", certificate)
    if signed and all(
        revocation_list.next_update_utc is not None and at > revocation_list.next_update_utc
        for revocation_list in signed
    ):
        raise _Fault("crl_expired", certificate)
