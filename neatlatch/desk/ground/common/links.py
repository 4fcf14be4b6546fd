"""Signed links: an address that by itself lets anyone who holds it do one thing, until it ends."""

from __future__ import annotations

from django.conf import settings
from django.core import signing

from .problems import Problem

# A link may say where somebody goes on to.
_LONGEST = 2_000


def address(kind: str, identity: object) -> str:
    """The whole address to send to somebody.

    ``kind`` keeps links of one purpose from serving another.
    """
    signed = signing.dumps(str(identity), salt=f"neatlatch.{kind}")
    return f"{settings.PUBLIC_URL}/asked/{kind}/{signed}"


def opened(kind: str, token: str) -> str:
    """The ID that a link was made for. Raises a 404 for one that is not ours or was changed."""
    try:
        return str(signing.loads(token[:_LONGEST], salt=f"neatlatch.{kind}"))
    except signing.BadSignature as error:
        raise Problem(
            404,
            "This link is not one of ours.",
            "Perhaps it was cut when it was copied. Ask for it again.",
            code="bad-link",
        ) from error
