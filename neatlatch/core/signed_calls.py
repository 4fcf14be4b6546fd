"""Calls that an application sends to us, signed with a secret that both sides hold.

Sources: HMAC (RFC 2104); the Standard Webhooks specification 1.0.0 for its header fields, its
content and its form of secret. A plain HMAC of the body, hexadecimal or Base64 in a header field of
the application's own, is common practice, no source.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Literal

from .schemes import SIGNING_SECRET, Value

Method = Literal["standard_webhooks", "hmac"]
METHODS: tuple[Method, ...] = ("standard_webhooks", "hmac")
HASHES = ("sha256", "sha384", "sha512")
ENCODINGS = ("hex", "base64")
# Octets of a Standard Webhooks secret (24 to 64 in its specification).
SHORTEST, LONGEST = 24, 64
_PREFIX, _VERSION = "whsec_", "v1"
# Signatures in one header field that are looked at: a sender that replaces its secret sends two.
_MOST_SIGNATURES = 8
# Characters of an ID and of a signature that are looked at.
_LONGEST_TEXT = 1024
_FIELD = re.compile(r"[A-Za-z0-9!#$%&'*+.^_`|~-]{1,80}")

Fault = Literal["unsigned", "unreadable", "wrong", "too-old", "too-new"]
SAYS: dict[Fault, str] = {
    "unsigned": "It carries no signature in {header}.",
    "unreadable": "A header field that belongs to the signature cannot be read: {header}.",
    "wrong": "Its signature fits none of the signing secrets held here: the secret is another, "
    "or the content was changed on the way.",
    "too-old": "It was signed at {at}, longer ago than {tolerance} s. The signature fits.",
    "too-new": "It was signed at {at}, further ahead than {tolerance} s: one of the two clocks "
    "is wrong. The signature fits.",
}


@dataclass(frozen=True)
class SignedCalls:
    """How an application signs the calls that it sends to us.

    ``content`` is what is signed: ``{body}`` with, before it, what ``{id}`` and ``{timestamp}``
    stand for, the header fields ``id_header`` and ``timestamp_header`` (seconds since 1970).
    ``tolerance``: seconds by which that time may differ from ours. ``prefix`` stands before a
    signature (``sha256=``). With ``standard_webhooks`` all of them are the specification's.
    ``where`` says where the secret is found in the application's own screens.
    """

    method: Method = "standard_webhooks"
    header: str = ""
    hash: str = "sha256"
    encoding: str = "hex"
    prefix: str = ""
    content: str = "{body}"
    id_header: str = ""
    timestamp_header: str = ""
    tolerance: int = 300
    where: str = ""

    @property
    def value(self) -> Value:
        """The value of a connection that the secret is put in as."""
        return Value(
            SIGNING_SECRET,
            "Signing secret",
            "secret",
            "The secret with which the application signs the calls that it sends to us."
            + (" It begins with whsec_." if self.method == "standard_webhooks" else ""),
            where=self.where,
            required=False,
            secret=True,
        )

    @property
    def effective(self) -> SignedCalls:
        """The rule with everything that its method fixes filled in."""
        if self.method != "standard_webhooks":
            return self
        return SignedCalls(
            self.method,
            "webhook-signature",
            "sha256",
            "base64",
            f"{_VERSION},",
            "{id}.{timestamp}.{body}",
            "webhook-id",
            "webhook-timestamp",
            self.tolerance,
            self.where,
        )

    def unsound(self) -> str:
        """Why calls cannot be checked by this rule, in one sentence; empty: they can."""
        if self.method not in METHODS:
            return f"signed_calls: method is {' or '.join(METHODS)}, not “{self.method!s:.60}”."
        if not 1 <= self.tolerance <= 3600:
            return "signed_calls: tolerance is 1 to 3600 seconds."
        if self.method == "standard_webhooks":
            fixed = next((name for name in _FIXED if getattr(self, name) != _FIXED[name]), "")
            return f"signed_calls: {fixed} is fixed by Standard Webhooks." if fixed else ""
        return self._unsound_hmac()

    def _unsound_hmac(self) -> str:
        if self.hash not in HASHES:
            return f"signed_calls: hash is one of {', '.join(HASHES)}."
        if self.encoding not in ENCODINGS:
            return f"signed_calls: encoding is {' or '.join(ENCODINGS)}."
        for name in ("header", "id_header", "timestamp_header"):
            said = getattr(self, name)
            if (said or name == "header") and not _FIELD.fullmatch(said):
                return f"signed_calls: {name} names no header field."
        if self.content.count("{body}") != 1 or not self.content.endswith("{body}"):
            return "signed_calls: content ends with {body}."
        for slot, name in (("{id}", "id_header"), ("{timestamp}", "timestamp_header")):
            # A time or an ID that is not signed could be anything.
            if (slot in self.content) != bool(getattr(self, name)):
                return f"signed_calls: {slot} in content and {name} belong together."
        return ""


_FIXED = {
    name: getattr(SignedCalls(), name)
    for name in (
        "header",
        "hash",
        "encoding",
        "prefix",
        "content",
        "id_header",
        "timestamp_header",
    )
}


@dataclass(frozen=True)
class Verdict:
    """What came of checking a call.

    ``fault`` is empty where it is accepted; ``secret`` is the place of the secret that fits in the
    list that was given (-1: none). ``id`` and ``at`` are the sender's, as they are signed; empty
    where the application sends none. ``digest`` (SHA-256, hexadecimal) tells this call from others
    that the same sender signs: of its ID, or without one of its signature.
    """

    fault: Fault | Literal[""]
    says: str = ""
    secret: int = -1
    id: str = ""
    at: datetime | None = None
    digest: str = ""

    @property
    def accepted(self) -> bool:
        """Whether the call is what the application sent, and recent."""
        return not self.fault


def unsound_secret(rule: SignedCalls, secret: str) -> str:
    """Why a signing secret cannot be one, in one sentence; empty: it can."""
    if rule.method != "standard_webhooks":
        return "" if len(secret) >= 8 else "A signing secret has at least 8 characters."
    if not secret.startswith(_PREFIX):
        return "A signing secret of Standard Webhooks begins with whsec_."
    try:
        length = len(_standard_key(secret))
    except ValueError:
        return "After whsec_ a signing secret is in Base64. Copy it anew, to its end."
    if not SHORTEST <= length <= LONGEST:
        return f"A signing secret has {SHORTEST} to {LONGEST} octets after whsec_; this {length}."
    return ""


def _standard_key(secret: str) -> bytes:
    text = secret.removeprefix(_PREFIX)
    return base64.b64decode(text + "=" * (-len(text) % 4), validate=True)


def key_of(rule: SignedCalls, secret: str) -> bytes:
    """The key of the HMAC. Raises ``ValueError`` for a secret that :func:`unsound_secret` refuses
    by its form.
    """
    return _standard_key(secret) if rule.method == "standard_webhooks" else secret.encode("utf-8")


def signature(rule: SignedCalls, key: bytes, id: str, timestamp: str, body: bytes) -> str:
    """One signature of a call, with its prefix, as it stands in the header field."""
    rule = rule.effective
    before = rule.content.removesuffix("{body}")
    before = before.replace("{id}", id).replace("{timestamp}", timestamp)
    octets = hmac.new(key, before.encode("latin-1") + body, rule.hash).digest()
    text = octets.hex() if rule.encoding == "hex" else base64.b64encode(octets).decode("ascii")
    return rule.prefix + text


def check(
    rule: SignedCalls,
    headers: Mapping[str, str],
    body: bytes,
    secrets: Sequence[str],
    now: datetime,
) -> Verdict:
    """Check a call against the secrets that are held, the first that fits.

    ``headers`` by their names in small letters, each character one octet (ISO 8859-1, as servers
    give them). The signature is looked at before the time, so that what is said of the time is the
    application's own word.
    """
    rule = rule.effective
    told = headers.get(rule.header.lower(), "").strip()
    if not told:
        return _refused("unsigned", header=rule.header)
    sent, stamp = _sent(rule, headers), headers.get(rule.timestamp_header.lower(), "").strip()
    for name, value in ((rule.id_header, sent), (rule.timestamp_header, stamp)):
        if name and (not value or len(value) > _LONGEST_TEXT):
            return _refused("unreadable", header=name)
    at = None
    if rule.timestamp_header:
        at = _moment(stamp)
        if at is None:
            return _refused("unreadable", header=rule.timestamp_header)
    several = told.split(" ") if rule.method == "standard_webhooks" else [told]
    given = [one for one in several[:_MOST_SIGNATURES] if 0 < len(one) <= _LONGEST_TEXT]
    fits, text = _fitting(rule, given, secrets, sent, stamp, body)
    if fits < 0:
        return _refused("wrong")
    digest = hashlib.sha256(f"{'id' if sent else 'signature'}:{sent or text}".encode()).hexdigest()
    allowed = timedelta(seconds=rule.tolerance)
    fault: Fault | Literal[""] = ""
    if at is not None and abs(now - at) > allowed:
        fault = "too-old" if at < now else "too-new"
    says = (
        SAYS[fault].format(at=f"{at:%Y-%m-%d %H:%M:%S} UTC", tolerance=rule.tolerance)
        if fault
        else ""
    )
    return Verdict(fault, says, fits, sent, at, digest)


def _sent(rule: SignedCalls, headers: Mapping[str, str]) -> str:
    return headers.get(rule.id_header.lower(), "").strip() if rule.id_header else ""


def _fitting(
    rule: SignedCalls,
    given: Sequence[str],
    secrets: Sequence[str],
    sent: str,
    stamp: str,
    body: bytes,
) -> tuple[int, str]:
    """The place of the first secret whose signature is among those given, and that signature."""
    for place, secret in enumerate(secrets):
        try:
            wanted = signature(rule, key_of(rule, secret), sent, stamp, body)
        except (ValueError, UnicodeEncodeError):
            continue
        for text in given:
            if hmac.compare_digest(_plain(rule, text), _plain(rule, wanted)):
                return place, wanted
    return -1, ""


def _plain(rule: SignedCalls, text: str) -> bytes:
    """A signature as it is compared: hexadecimal digits mean the same in either case."""
    if rule.encoding == "hex" and text.startswith(rule.prefix):
        with_prefix = rule.prefix + text[len(rule.prefix) :].lower()
        return with_prefix.encode("utf-8")
    return text.encode("utf-8")


def _moment(stamp: str) -> datetime | None:
    if not stamp.isascii() or not stamp.isdecimal() or len(stamp) > 12:
        return None
    try:
        return datetime.fromtimestamp(int(stamp), UTC)
    except (ValueError, OverflowError, OSError):
        return None


def _refused(fault: Fault, header: str = "") -> Verdict:
    return Verdict(fault, SAYS[fault].format(header=header))


def new_secret(rule: SignedCalls, octets: bytes) -> str:
    """A signing secret made of random octets, in the form that its rule wants."""
    if rule.method == "standard_webhooks":
        return _PREFIX + base64.b64encode(octets).decode("ascii")
    return binascii.hexlify(octets).decode("ascii")
