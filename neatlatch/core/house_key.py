"""The form of what the house authority gives out: ``nlk_<environment>_<id>_<secret>_<check>``
(DOMAIN §5).

The ID names the key and may be shown; the secret is 256 random bits; the check is a CRC-32 over all
before it, so that a key that was cut or mistyped is told from an unknown one without a look-up. API
keys begin with ``nlk``, client secrets with ``nls``, tokens for programs with ``nlp``. Only a
SHA-256 of the whole is kept: there are too many secrets of 256 bits to try them out, so a slow hash
would add nothing (NIST SP 800-63B §5.1.2 asks for one where the secret is less).
"""

from __future__ import annotations

import hashlib
import hmac
import re
import zlib
from dataclasses import dataclass
from typing import Literal

from .secret import hint

API_KEY, CLIENT_SECRET, PROGRAM_TOKEN = "nlk", "nls", "nlp"
_KINDS = (API_KEY, CLIENT_SECRET, PROGRAM_TOKEN)
Fault = Literal["foreign", "cut", "mistyped"]
_DIGITS = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
SECRET_OCTETS, ID_OCTETS = 32, 8
_SECRET_LENGTH, _ID_LENGTH, _CHECK_LENGTH = 43, 11, 6
_LONGEST = 200
_FORM = re.compile(
    r"(?:nlk|nls|nlp)_([a-z0-9_-]+)_([0-9A-Za-z]{11})_([0-9A-Za-z]{43})_([0-9A-Za-z]{6})"
)
# Anywhere in a text, for finding one that has leaked: no letter or digit stands before or after it.
_ANYWHERE = re.compile(
    r"(?<![0-9A-Za-z])(?:nlk|nls|nlp)_[a-z0-9_-]{1,60}_"
    r"[0-9A-Za-z]{11}_[0-9A-Za-z]{43}_[0-9A-Za-z]{6}(?![0-9A-Za-z])"
)


class BadKey(ValueError):
    """The text is no key of the house.

    ``fault``: *foreign* (not our form at all), *cut* (an end is missing), or *mistyped* (the check
    does not hold).
    """

    def __init__(self, fault: Fault, says: str) -> None:
        super().__init__(says)
        self.fault: Fault = fault


@dataclass(frozen=True)
class HouseKey:
    """A key taken apart. The secret is not in it: only its digest is ever compared."""

    kind: str
    environment: str
    id: str
    digest: str
    hint: str


def base62(number: int, length: int) -> str:
    """A number in the digits 0-9, A-Z, a-z, with zeros before it up to ``length``.

    Raises ``ValueError`` where it does not fit.
    """
    digits = ""
    while number:
        number, rest = divmod(number, 62)
        digits = _DIGITS[rest] + digits
    if len(digits) > length:
        raise ValueError(f"{len(digits)} digits do not fit into {length}")
    return digits.rjust(length, "0")


def check_of(text: str) -> str:
    """The check over what stands before it: CRC-32 (ISO/IEC 13239, as in zlib) in base62."""
    return base62(zlib.crc32(text.encode("ascii")), _CHECK_LENGTH)


def make(kind: str, environment: str, id_octets: bytes, secret_octets: bytes) -> str:
    """A key from random octets: 8 for its ID, 32 for its secret.

    Raises ``ValueError`` for another number of them.
    """
    if len(id_octets) != ID_OCTETS or len(secret_octets) != SECRET_OCTETS:
        raise ValueError(
            f"{ID_OCTETS} octets for the ID and {SECRET_OCTETS} for the secret are required"
        )
    identity, secret = (
        base62(int.from_bytes(id_octets, "big"), _ID_LENGTH),
        base62(int.from_bytes(secret_octets, "big"), _SECRET_LENGTH),
    )
    start = f"{kind}_{environment}_{identity}_{secret}"
    return f"{start}_{check_of(start)}"


def digest(text: str) -> str:
    """What is kept of a key: SHA-256 (FIPS 180-4) in hexadecimal."""
    return hashlib.sha256(text.encode("utf-8")).hexdigest()


def read(text: str) -> HouseKey:
    """Take a key apart and hold it to its check.

    Raises :class:`BadKey`, which tells a cut key from a mistyped one.
    """
    kind = text[:3]
    if kind not in _KINDS or text[3:4] != "_":
        raise BadKey("foreign", "It does not begin as a key of the house does.")
    found = _FORM.fullmatch(text[: _LONGEST + 1])
    if found is None:
        if len(text) > _LONGEST:
            raise BadKey("mistyped", "It is longer than any key of the house.")
        whole = re.fullmatch(
            r"(?:nlk|nls|nlp)_[a-z0-9_-]*?_?"
            r"[0-9A-Za-z]{0,11}(?:_[0-9A-Za-z]{0,43}(?:_[0-9A-Za-z]{0,6})?)?",
            text,
        )
        if whole is not None:
            raise BadKey("cut", "An end of the key is missing.")
        raise BadKey(
            "mistyped", "It holds characters that a key of the house does not have, or too many."
        )
    environment, identity, _, check = found.groups()
    if not hmac.compare_digest(check_of(text.rpartition("_")[0]), check):
        raise BadKey("mistyped", "Its check does not hold: a character is wrong.")
    return HouseKey(kind, environment, identity, digest(text), hint(text))


def same(kept: str, shown: str) -> bool:
    """Whether two digests are the same.

    It takes as long for one that is wrong at its start as at its end; and as digests are compared,
    not keys, how far they agree tells nothing of the key.
    """
    return hmac.compare_digest(kept.encode("ascii"), shown.encode("ascii"))


def find_in(text: str) -> tuple[str, ...]:
    """Keys of the house that stand anywhere in a text, whose check holds, each once."""
    found = dict.fromkeys(match.group() for match in _ANYWHERE.finditer(text))
    return tuple(
        match for match in found if check_of(match.rpartition("_")[0]) == match.rpartition("_")[2]
    )
