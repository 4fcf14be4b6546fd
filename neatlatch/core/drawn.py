"""What a draw of a connection hands out, by authentication scheme. The page, the answer to a draw
and the docs say the same.
"""

from __future__ import annotations

from typing import Literal

from .schemes import CERTIFICATE, OAUTH1, OAUTH2, STREAM

# A right that a workload's key has: requests through the relay alone, or headers to take as well.
# Anyone who has a header can send whatever they like with it.
Right = Literal["relay", "draw"]
RIGHTS: tuple[Right, ...] = ("relay", "draw")
HandsOut = Literal["token", "signature", "secret", "nothing"]
WORDS: dict[HandsOut, str] = {
    "token": "a token that ends by itself, and not the secret it was got with",
    "signature": "a signature that is good for one request, and not the secret it was made with",
    "secret": "the application's secret itself, which stays good until it is replaced there",
    "nothing": "nothing that goes with a request: this scheme is proven on the connection itself",
}


def hands_out(kind: str) -> HandsOut:
    """What a draw of a connection of this kind of scheme hands out."""
    if kind in OAUTH2:
        return "token"
    if kind == OAUTH1:
        return "signature"
    return "nothing" if kind in (CERTIFICATE, STREAM) else "secret"
