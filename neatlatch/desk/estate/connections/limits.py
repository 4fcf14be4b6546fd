"""How far tests of a connection go, from what its people permit."""

from __future__ import annotations

from neatlatch.core.depth import DepthLimits
from neatlatch.desk.estate.records.connections.models import Connection


def limits_of_tests(connection: Connection) -> DepthLimits:
    """Return what limits the tests of a connection that was fetched with everything."""
    environment = connection.deployment.environment
    return DepthLimits(
        personal=connection.individual and connection.tests_tokens is None,
        environment=environment.name,
        environment_permits=environment.work_in_rounds,
        connection_permits=connection.work_in_rounds,
    )
