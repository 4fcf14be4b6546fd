"""Neat Latch itself as an application of the firm: what keys of workloads and tokens of programs
are issued for.
"""

from __future__ import annotations

from django.conf import settings
from django.utils import timezone

from neatlatch.core.program_tokens import MEANINGS, ProgramRight
from neatlatch.core.schemes import BEARER, CERTIFICATE, CLIENT
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment

from .issuing import OWN_KEY

DRAW, RELAY = "draw", "relay"
_READS = (ProgramRight.READ, ProgramRight.METRICS)
_SCOPES = [
    {"name": DRAW, "meaning": "Take request headers of the connections it uses", "kind": "read"},
    {"name": RELAY, "meaning": "Send requests through the connections it uses", "kind": "write"},
    *(
        {
            "name": right.value,
            "meaning": MEANINGS[right][0].upper() + MEANINGS[right][1:],
            "kind": "read" if right in _READS else "write",
        }
        for right in ProgramRight
        if right.value != DRAW
    ),
]
_PROFILE = {
    "schemes": [{"key": CLIENT}, {"key": BEARER}, {"key": CERTIFICATE}],
    "scopes": _SCOPES,
    "limits": {"live_secrets": 2, "token_life": 900, "spread": 0},
}


def own_deployment(environment: Environment) -> Deployment:
    """Return Neat Latch itself in an environment, made when it is first needed. Part of the
    surrounding transaction.
    """
    application, made = Application.objects.get_or_create(
        key=OWN_KEY,
        defaults={
            "name": "Neat Latch",
            "purpose": "Lets jobs and reports draw connections",
            "profile": _PROFILE,
        },
    )
    if not made:
        _add_scopes(application)
    deployment, _ = Deployment.objects.select_related("application", "environment").get_or_create(
        application=application,
        environment=environment,
        defaults={
            "house": True,
            "api_base": f"{settings.PUBLIC_URL}/draw",
            "changed_at": timezone.now(),
        },
    )
    return deployment


def _add_scopes(application: Application) -> None:
    """Add what an earlier version did not know yet; what people changed of the profile stays."""
    scopes = list(application.profile.get("scopes", []))
    known = {scope["name"] for scope in scopes}
    if missing := [scope for scope in _SCOPES if scope["name"] not in known]:
        application.profile = {**application.profile, "scopes": [*scopes, *missing]}
        application.save(update_fields=["profile"])
