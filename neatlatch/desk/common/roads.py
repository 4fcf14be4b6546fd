"""Roads as this installation's settings want them."""

from __future__ import annotations

from django.conf import settings

from neatlatch.wire.road import Limits, Policy, Road


def road(total: float = 30.0) -> Road:
    """A direct road; ``total`` is the time limit of one call in seconds. Close it, or use it in ``with``."""
    return Road(Policy(settings.ALLOWED_RANGES), Limits(connect=min(5.0, total), total=total), settings.TRUST)
