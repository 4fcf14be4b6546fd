"""Faults that can be switched on from outside: the next calls are refused, slow, or answered with
an error.
"""

from __future__ import annotations

import asyncio
import contextlib
from dataclasses import dataclass, field
from typing import Any

from starlette.responses import JSONResponse, Response

KINDS = (
    "refuse",
    "slow",
    "slow_answer",
    "hold",
    "too_many",
    "unavailable",
    "ended_certificate",
    "none",
)
# "hold": the request is worked on, and its answer kept back until another fault, or none, is
# switched on.
FOR_GOOD = -1.0
_WIDER = {"make": "api"}


@dataclass
class Faults:
    """What is switched on.

    ``where`` is token, api, make (a part of api: what puts a thing there) or all; ``left`` counts
    down with each call it meets; ``held`` answers are kept back now.
    """

    kind: str = "none"
    where: str = "all"
    left: int = 0
    seconds: float = 0.0
    changed: asyncio.Event = field(default_factory=asyncio.Event)
    held: int = 0

    def set(self, wanted: dict[str, Any]) -> None:
        """Switch a fault on or off; raises ValueError for an unknown kind."""
        if wanted.get("kind") not in KINDS:
            raise ValueError(f"kind must be one of {', '.join(KINDS)}")
        self.kind, self.where = wanted["kind"], wanted.get("where", "all")
        self.left, self.seconds = int(wanted.get("count", 1)), float(wanted.get("seconds", 1))
        self.changed.set()
        self.changed = asyncio.Event()

    async def hold(self, seconds: float) -> None:
        """Wait so long, or until another fault, or none, is switched on."""
        if seconds:
            self.held += 1
            try:
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(
                        self.changed.wait(), None if seconds == FOR_GOOD else seconds
                    )
            finally:
                self.held -= 1

    def meets(self, place: str) -> str:
        """The fault that this call meets, if any; uses one up."""
        if (
            self.left <= 0
            or self.where not in ("all", place, _WIDER.get(place))
            or self.kind in ("none", "ended_certificate")
        ):
            return "none"
        self.left -= 1
        return self.kind

    async def before(self, place: str) -> tuple[Response | None, float]:
        """What to answer in place of the real answer, and how long to hold the real one back
        afterwards.
        """
        kind = self.meets(place)
        if kind == "slow":
            await self.hold(self.seconds)
        if kind == "slow_answer":
            return None, self.seconds
        if kind == "hold":
            return None, FOR_GOOD
        if kind == "too_many":
            return JSONResponse(
                {"error": "temporarily_unavailable"}, 429, {"Retry-After": str(int(self.seconds))}
            ), 0
        if kind == "unavailable":
            return JSONResponse({"error": "temporarily_unavailable"}, 503), 0
        if kind == "refuse":
            if place == "token":
                return JSONResponse(
                    {"error": "invalid_client"}, 401, {"WWW-Authenticate": 'Basic realm="harbour"'}
                ), 0
            return Response(
                status_code=401,
                headers={"WWW-Authenticate": 'Bearer realm="harbour", error="invalid_token"'},
            ), 0
        return None, 0
