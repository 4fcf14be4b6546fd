"""Bearer tokens (RFC 6750)."""

from __future__ import annotations

import re

_B64TOKEN = re.compile(r"[A-Za-z0-9\-._~+/]+=*")


def wrong_with(token: str) -> str | None:
    """Why a text cannot be sent as a bearer token, in a few words; ``None`` if it can (RFC 6750
    §2.1, b64token).
    """
    if not token:
        return "it is empty"
    if _B64TOKEN.fullmatch(token):
        return None
    if "=" in token.rstrip("="):
        return "= may only stand at the end"
    bad = (
        next(c for c in token if not re.match(r"[A-Za-z0-9\-._~+/=]", c))
        if not set(token) <= {"="}
        else "="
    )
    names = {" ": "a space", '"': "a quote", "\n": "a line break", "\t": "a tab"}
    return f"{names.get(bad, f'“{bad}”')} is not allowed in it"


def header(token: str) -> str:
    """The ``Authorization`` value (RFC 6750 §2.1).

    Raises ``ValueError`` for a text that is no token.
    """
    if wrong := wrong_with(token):
        raise ValueError(f"this cannot be sent as a bearer token: {wrong}")
    return f"Bearer {token}"
