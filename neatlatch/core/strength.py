"""How strong a secret is: entropy of random ones, and rules for passwords that people choose (NIST
SP 800-63B, RFC 6749, RFC 7636).
"""

from __future__ import annotations

import math
import unicodedata
from collections.abc import Collection
from dataclasses import dataclass
from typing import Literal

Use = Literal["single", "mfa"]
# NIST SP 800-63B-4 §3.1.1.2: 15 where a password is the only factor, 8 where it is one of several
# (from memory).
SHORTEST: dict[str, int] = {"single": 15, "mfa": 8}
# The longest that must at least be taken (NIST SP 800-63B-4 §3.1.1.2, from memory).
LONGEST_AT_LEAST = 64


def entropy_bits(length: int, alphabet_size: int) -> float:
    """The bits of a random text: length x log2 of the number of characters to choose from.

    Raises ``ValueError`` where the length is below 0 or the alphabet empty.
    """
    if length < 0 or alphabet_size < 1:
        raise ValueError("a length is not below 0, and an alphabet not empty")
    return length * math.log2(alphabet_size)


def min_length(bits: int, alphabet_size: int) -> int:
    """The fewest random characters that have so many bits; exact for any size.

    Raises ``ValueError`` for an alphabet of less than two.
    """
    if bits < 0 or alphabet_size < 2:
        raise ValueError("bits are not below 0, and an alphabet has at least two characters")
    if bits > 1_000_000:
        raise ValueError("more than a million bits are not worked out")
    length = math.floor(bits / math.log2(alphabet_size))
    # A whole number of bits is compared with whole numbers: a logarithm may fall short by a last
    # digit.
    length = max(0, length - 2)
    while alphabet_size**length < 1 << bits:
        length += 1
    return length


@dataclass(frozen=True)
class Password:
    """Whether a password that somebody chose may be taken.

    ``code_points`` is its length as it is counted (NIST SP 800-63B-4 §3.1.1.2).
    """

    acceptable: bool
    reason: str
    code_points: int


def password(text: str, used_as: Use, blocklist: Collection[str] = ()) -> Password:
    """Judge a password: long enough for its use, and not on a list of common, expected or
    compromised ones, in any case of letters.

    No rule of composition is asked for, and spaces count (NIST SP 800-63B-4 §3.1.1.2). Unicode is
    normalised first (NFKC).
    """
    plain = unicodedata.normalize("NFKC", text)
    length, shortest = len(plain), SHORTEST[used_as]
    if length < shortest:
        return Password(False, f"{length} characters, {shortest} needed", length)
    if plain.casefold() in {unicodedata.normalize("NFKC", text).casefold() for text in blocklist}:
        return Password(False, "on the blocklist", length)
    return Password(True, f"{length} characters; no rule of composition", length)


# What people put in for the time being, and never change; without capitals, digits at the end, and
# signs (from memory).
EXPECTED = frozenset(
    [
        "abc",
        "admin",
        "administrator",
        "apikey",
        "changeit",
        "changeme",
        "changethis",
        "default",
        "demo",
        "dummy",
        "example",
        "guest",
        "hunter",
        "key",
        "letmein",
        "login",
        "mypassword",
        "mysecret",
        "none",
        "pass",
        "passwd",
        "password",
        "placeholder",
        "qwerty",
        "root",
        "sample",
        "secret",
        "service",
        "sesame",
        "tbd",
        "temp",
        "temporary",
        "test",
        "tester",
        "testing",
        "todo",
        "token",
        "user",
        "username",
        "welcome",
        "xxx",
    ]
)


def weakness(text: str, is_password: bool, names: Collection[str] = ()) -> str:
    """Say why a secret that somebody put in is weak; empty: it is not weak.

    Any secret that is an expected word, or one of ``names`` that everybody knows (of the user, of
    the application); a password also where it is too short to be the only factor
    (NIST SP 800-63B-4 §3.1.1.2: common and expected values, the name of the user or the service).
    """
    bare = _bare(text)
    if not bare or bare in EXPECTED:
        return "It is one of the first that anybody would try."
    if bare in {_bare(name) for name in names}:
        return "It is a name that anybody knows, and one of the first that anybody would try."
    if is_password and not (told := password(text, "single")).acceptable:
        return f"It is short for a password that is the only proof: {told.reason}."
    return ""


def _bare(text: str) -> str:
    letters = "".join(
        letter for letter in unicodedata.normalize("NFKC", text).casefold() if letter.isalnum()
    )
    return letters.rstrip("0123456789")
