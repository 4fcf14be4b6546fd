"""Transports as the settings of this installation require."""

from __future__ import annotations

from django.conf import settings

from neatlatch.wire.policy import Policy
from neatlatch.wire.transport import CallLimits, ClientCertificate, Transport


def transport(
    total: float = 30.0,
    shows: ClientCertificate | None = None,
    goes_to: frozenset[str] = frozenset(),
) -> Transport:
    """A direct transport; ``total`` is the time limit of one call in seconds, ``shows`` the client
    certificate, ``goes_to`` the origins that secrets may go to: of a connection,
    :func:`neatlatch.desk.estate.connections.destinations.transport_of` knows them. Close it, or
    use it in ``with``.
    """
    return Transport(
        Policy(settings.ALLOWED_RANGES),
        CallLimits(connect=min(5.0, total), total=total),
        settings.TRUST,
        shows,
        goes_to,
    )
