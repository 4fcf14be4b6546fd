"""The health of Neat Latch itself, for people; load balancers ask at ``/alive``."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from django.http import HttpRequest
from ninja import Router

from neatlatch.desk.ground import guard
from neatlatch.desk.work import own_health

router = Router(tags=["health"])


@dataclass(frozen=True, kw_only=True)
class CheckOut:
    """One part of Neat Latch: how it is, in a sentence, and what to do (empty: nothing)."""

    key: str
    name: str
    state: str
    says: str
    act: str


@dataclass(frozen=True, kw_only=True)
class HealthOut:
    """What Neat Latch itself runs on, looked at now."""

    at: datetime
    checks: list[CheckOut]


@router.get("/health", response=HealthOut)
def health(request: HttpRequest) -> HealthOut:
    """How Neat Latch itself is: database, disk, worker, its queue, the last backup."""
    guard.need(request, "look")
    seen = own_health.facts()
    checks = [
        CheckOut(key=check.key, name=check.name, state=check.state, says=check.says, act=check.act)
        for check in own_health.judge(seen)
    ]
    return HealthOut(at=seen.now, checks=checks)
