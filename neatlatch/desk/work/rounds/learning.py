"""Taking what a passing test has proven as the provider's value, in place of a note that says
otherwise.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any

from neatlatch.core.evidence import Rung, RungResult
from neatlatch.core.learned import learned
from neatlatch.core.schemes import CODE
from neatlatch.desk.estate.connections import halves
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common.actors import TEST
from neatlatch.desk.ground.journal.services import write


def learn(
    connection: Connection, results: Iterable[RungResult], begun: datetime, now: datetime
) -> None:
    """Record what a test that begun then has proven by signing in; part of the surrounding
    transaction.

    The connection was fetched with everything. Where another connection of the client has proven
    what is noted, both are true, and the note stays.
    """
    client = connection.client
    if (
        client is None
        or client.managed
        or client.house
        or begun < client.changed_at
        or not client_was_asked(connection, results)
    ):
        return
    scheme = connection.read_scheme()
    sight = (
        halves.certificate_sight(connection, now) if "certificate" in connection.values else None
    )
    noted = {**client.facts, "client_id": client.client_id}
    found = learned(scheme, connection.values, sight.sha256 if sight else "", noted)
    others = Connection.objects.filter(client=client, proven_at__isnull=False).exclude(
        pk=connection.pk
    )
    if found and others.exists():
        # A certificate's thumbprint does not stand among the values, so one that is shared is not
        # learned.
        found.pop("thumbprint", None)
        found = {
            key: pair
            for key, pair in found.items()
            if not others.filter(**{f"values__{key}": pair[0]}).exists()
        }
    if found:
        _record(connection, client, found)


def client_was_asked(connection: Connection, results: Iterable[RungResult]) -> bool:
    """Whether a test has signed in, and our client proved itself by it: a token that was alive
    already shows nothing of it.

    It does at the token endpoint, and where it asks about a token (RFC 7662 §2.1).
    """
    signed_in = next(
        (result for result in results if result.rung == Rung.SIGN_IN and result.passed), None
    )
    if signed_in is None or connection.scheme != CODE:
        return signed_in is not None
    asks = halves.published(
        connection.deployment, connection.client, "introspection_endpoint", connection.slots
    )
    bases = tuple(text for text in (connection.values.get("token_endpoint", ""), asks) if text)
    return any(
        exchange.method == "POST" and exchange.status == 200 and exchange.url.startswith(bases)
        for exchange in signed_in.exchanges
    )


def _record(connection: Connection, client: Client, found: dict[str, tuple[str, str]]) -> None:
    values = {key: now for key, (_, now) in found.items()}
    client.client_id = values.pop("client_id", client.client_id)
    client.facts = {**client.facts, **values}
    client.version += 1
    client.changed_by = TEST.username
    # When it was changed stays: nothing is to be proven anew by it.
    client.save(update_fields=["client_id", "facts", "version", "changed_by"])
    about: dict[str, Any] = {
        key: f"{now}, recorded was {was or 'nothing'}" for key, (was, now) in found.items()
    }
    write(TEST, "learned", "client", client.name, {"connection": connection.ref, **about})
