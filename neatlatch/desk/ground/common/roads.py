"""Roads as this installation's settings want them."""

from __future__ import annotations

from django.conf import settings

from neatlatch.wire.policy import Policy
from neatlatch.wire.road import ClientCertificate, Limits, Road


def road(
    total: float = 30.0,
    shows: ClientCertificate | None = None,
    goes_to: frozenset[str] = frozenset(),
) -> Road:
    """A direct road; ``total`` is the time limit of one call in seconds, ``shows`` the client
    certificate, ``goes_to`` the origins that secrets may go to: of a connection,
    :func:`neatlatch.desk.estate.connections.destinations.road_of` knows them. Close it, or use it
    in ``with``.
    """
    return Road(
        Policy(settings.ALLOWED_RANGES),
        Limits(connect=min(5.0, total), total=total),
        settings.TRUST,
        shows,
        goes_to,
    )
