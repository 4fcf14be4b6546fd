"""What a connection presents with each request."""

from __future__ import annotations

from neatlatch.core.schemes import OAUTH2
from neatlatch.core.sending import Credentials
from neatlatch.desk.estate.records.connections.models import Connection


def credentials_of(connection: Connection) -> Credentials:
    """Return a connection's values with its secrets opened; with OAuth 2.0 none, because requests
    carry a token there.

    Raises ``CannotOpen`` where a secret does not open.
    """
    profile = connection.deployment.application.read_profile()
    scheme = profile.scheme_for(connection.scheme)
    opened = {}
    if connection.scheme not in OAUTH2:
        opened = {key: held.open().reveal() for key, held in connection.sent_secrets().items()}
    return Credentials(connection.scheme, connection.values, opened, scheme.settings)
