"""Which of many tokens were revoked, as a short list of bits (Token Status List, IETF OAuth working
group, §4): how a receiver that checks signatures by itself learns of a revocation before the token
ends.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable
from typing import Any

from ..jose import b64

TYPE = "statuslist+jwt"


def packed(size: int, revoked: Iterable[int]) -> str:
    """One bit a token, the first in the lowest bit of the first octet, deflated and in base64url
    (§4.1, §4.2). ``size``: how many tokens there is room for. Raises ``ValueError`` for a place
    beyond it.
    """
    octets = bytearray((size + 7) // 8)
    for place in revoked:
        if not 0 <= place < size:
            raise ValueError(f"place {place} is beyond the list's {size}")
        octets[place // 8] |= 1 << (place % 8)
    return b64.encode(zlib.compress(bytes(octets), 9))


def claims(
    address: str, issued: int, life: int, size: int, revoked: Iterable[int]
) -> dict[str, Any]:
    """The claims of a status list token (§5.1).

    ``life``: seconds after which it must be fetched anew.
    """
    return {
        "sub": address,
        "iat": issued,
        "exp": issued + life,
        "ttl": life,
        "status_list": {"bits": 1, "lst": packed(size, revoked)},
    }
