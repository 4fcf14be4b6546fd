"""Bodies in JSON: looked over before they are taken apart, because making half a million small
lists takes longer than reading them.
"""

from __future__ import annotations

import re
from typing import Any

from django.http import HttpRequest
from ninja.parser import Parser

from .problems import Problem

# Lists and objects of one body, and what stands in them: 20,000 access rules have 40,000 and
# 140,000.
MOST_CONTAINERS, MOST_VALUES = 60_000, 250_000
# A text of JSON (RFC 8259 §7), also one that the end cuts off; it holds nothing that counts.
_TEXT = re.compile(rb'"(?:[^"\\]++|\\.)*+(?:"|\\?\Z)', re.DOTALL)


def is_fair(body: bytes) -> bool:
    """Whether a body has no more parts than any that is read."""
    bare = _TEXT.sub(b"", body)
    return (
        bare.count(b"[") + bare.count(b"{") <= MOST_CONTAINERS and bare.count(b",") <= MOST_VALUES
    )


class BoundedParser(Parser):
    """Reads the bodies of the API."""

    def parse_body(self, request: HttpRequest) -> Any:
        """The body's JSON.

        Raises :class:`Problem` where it has too many parts, and whatever the framework does where
        it is none.
        """
        if not is_fair(request.body):
            raise Problem(
                422,
                "This has more parts than anything that is read.",
                "Nothing was changed. Send only what is needed, or a part of it.",
                code="too-many-parts",
            )
        return super().parse_body(request)
