"""Recovery codes: ten that each stand in for a lost second factor once (NIST SP 800-63B §5.1.2,
look-up secrets).

Each has 80 random bits, so that a plain hash of it may be kept: nobody tries 2^80.
"""

from __future__ import annotations

import base64
import hashlib
import re

COUNT, OCTETS = 10, 10
_FORM = re.compile(r"[a-z2-7]{16}")


def written(octets: bytes) -> str:
    """A code as people write it down: four groups of four letters and digits (base32, RFC 4648 §6).

    Raises ``ValueError`` unless it has 10 octets.
    """
    if len(octets) != OCTETS:
        raise ValueError(f"a recovery code has {OCTETS} octets")
    text = base64.b32encode(octets).decode("ascii").lower()
    return "-".join(text[start : start + 4] for start in range(0, 16, 4))


def read(text: str) -> str | None:
    """The code in what somebody typed, without hyphens and spaces; ``None``: it has not the form of
    one.
    """
    bare = re.sub(r"[\s-]+", "", text[:100]).lower()
    return bare if _FORM.fullmatch(bare) else None


def digest(code: str) -> str:
    """What is kept of a code that was :func:`read`: its SHA-256 (FIPS 180-4) in hexadecimal."""
    return hashlib.sha256(b"neatlatch recovery code " + code.encode("ascii")).hexdigest()
