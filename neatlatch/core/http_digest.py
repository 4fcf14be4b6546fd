"""HTTP Digest, the answer to a challenge (RFC 7616 §3.4).

Met in old applications; read and checked, never proposed.
"""

from __future__ import annotations

import hashlib

_HASHES = {"MD5": "md5", "SHA-256": "sha256", "SHA-512-256": "sha512_256"}
ALGORITHMS = tuple(_HASHES)


def response(
    algorithm: str,
    username: str,
    password: str,
    realm: str,
    method: str,
    uri: str,
    nonce: str,
    nc: str,
    cnonce: str,
    qop: str,
) -> str:
    """The ``response`` parameter for ``qop`` auth (RFC 7616 §3.4.1 to §3.4.3), in hexadecimal.

    Raises ``ValueError`` for an algorithm or ``qop`` that is not known.
    """
    if algorithm not in _HASHES:
        raise ValueError(f"algorithm {algorithm!r} is not known; known are {', '.join(_HASHES)}")
    if qop != "auth":
        raise ValueError("only qop “auth” is worked out")

    def h(text: str) -> str:
        return hashlib.new(_HASHES[algorithm], text.encode("utf-8")).hexdigest()

    return h(
        f"{h(f'{username}:{realm}:{password}')}:{nonce}:{nc}:{cnonce}:{qop}:{h(f'{method}:{uri}')}"
    )
