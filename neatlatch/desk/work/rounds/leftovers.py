"""Leftovers: what tests have made at an application and have not cleared away.

Each is recorded before it is made, so that nothing is lost when a test is cut off. Clearing is
retried by the worker; what stays is listed until somebody clears it away or closes it manually.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import timedelta

from django.db import transaction
from django.db.models import Q, QuerySet
from django.utils import timezone

from neatlatch.core import oauth2
from neatlatch.core.schemes import OAUTH2
from neatlatch.core.sending import NotComplete, with_credential
from neatlatch.desk.estate.connections import destinations, tokens
from neatlatch.desk.estate.connections.presented import credentials_of
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.wire import ladder_plan
from neatlatch.wire.token_source import NoToken
from neatlatch.wire.transport import TransportError

from .models import Leftover, Test

# How often the worker retries clearing one leftover.
MOST_TRIES = 50
# Leftovers cleared in one pass of the worker.
_AT_ONCE = 100
_LONGEST_REASON = 300
_NOT_FOUND = (404, 410)


@dataclass
class Record:
    """The row of what one run of a test makes.

    A run that is repeated after being cut off reuses the row where it makes the same thing again,
    and adds a second one where the application gives each thing an ID of its own.
    """

    connection: Connection
    test: Test
    row: Leftover | None = None

    def save(self, event: ladder_plan.Leftover) -> None:
        """Save what an exchange of the test has shown."""
        row = self.row = self.row or self._row_for(event)
        if event.piece.gone:
            row.delete()
            return
        if event.piece.seen:
            row.known = Leftover.LeftoverEvidence.SEEN
        elif event.piece.made:
            row.known = Leftover.LeftoverEvidence.MADE
        row.name, row.address, row.status = event.piece.name, event.address, event.status
        row.stuck = event.status in _NOT_FOUND or (event.piece.made and not event.address)
        row.save()

    def _row_for(self, event: ladder_plan.Leftover) -> Leftover:
        probe = event.piece.probe
        if event.address:
            rows = Leftover.objects.filter(connection=self.connection, test_id=self.test.pk)
            if (same := rows.filter(address=event.address).first()) is not None:
                return same
        return Leftover(
            connection=self.connection,
            test_id=self.test.pk,
            method=probe.clear_method,
            operation=f"{probe.make_method} {probe.make_path}"[:200],
        )


def listed() -> QuerySet[Leftover]:
    """Return the leftovers of tests that have ended.

    A test that runs, or runs again because its round continues, clears away its own.
    """
    running = Q(state__in=(Test.State.RUNNING, Test.State.WAITING))
    repeated = Q(state=Test.State.CUT, round__isnull=False, round__ended=None)
    unfinished = Test.objects.filter(running | repeated).values("pk")
    rows = Leftover.objects.exclude(test_id__in=unfinished)
    return rows.select_related(
        "connection__deployment__application", "connection__deployment__environment"
    )


def count_stuck() -> int:
    """Count the leftovers that somebody has to look at, a hundred at most."""
    return listed().filter(Q(stuck=True) | Q(address=""))[:100].count()


def clear_all() -> int:
    """Retry clearing, and return how many leftovers are gone by it."""
    a_moment_ago = timezone.now() - timedelta(seconds=1)
    rows = listed().filter(made__lt=a_moment_ago, stuck=False).exclude(address="")
    return sum(_clear(row) for row in rows[:_AT_ONCE])


def clear(by: Actor, row: Leftover) -> bool:
    """Retry clearing one leftover now, and return whether it is gone.

    Raises :class:`Problem` where nobody knows its address.
    """
    if not row.address:
        raise Problem(
            409,
            "Its address is not known.",
            f"Look for {row.name} in the application, clear it away there, and close it here.",
            code="leftover-address-unknown",
        )
    gone = _clear(row)
    did = "cleared away" if gone else "tried to clear away"
    write(by, did, "leftover", row.connection.ref, {"what": row.name, "status": row.status})
    return gone


def close(by: Actor, row: Leftover, reason: str) -> None:
    """Remove a leftover from the list for a reason, which the journal keeps.

    Raises :class:`Problem`.
    """
    if not reason.strip():
        raise wrong_fields({"reason": "Say what became of it. The journal keeps it."})
    details = {
        "what": row.name,
        "made by": row.operation,
        "reason": reason.strip()[:_LONGEST_REASON],
    }
    with transaction.atomic():
        write(by, "closed", "leftover", row.connection.ref, details)
        row.delete()


def _clear(row: Leftover) -> bool:
    """Send the clearing request once.

    404 means that nothing is there only where the thing was seen before, so that its address is
    known to be right, or where no answer ever said that it was made.
    """
    row.status, row.tried = _status_of_clearing(row), timezone.now()
    not_found = row.status in _NOT_FOUND
    if row.status is not None and (
        row.status < 300
        or (not_found and row.known != Leftover.LeftoverEvidence.MADE and not row.stuck)
    ):
        Leftover.objects.filter(pk=row.pk).delete()
        return True
    row.tries += 1
    row.stuck = row.stuck or not_found or row.tries >= MOST_TRIES
    # By an update: somebody may have closed it meanwhile.
    seen = {"status": row.status, "tried": row.tried, "tries": row.tries, "stuck": row.stuck}
    Leftover.objects.filter(pk=row.pk).update(**seen)
    return False


def _status_of_clearing(row: Leftover) -> int | None:
    """Send it; ``None``: there was no answer, or no token to ask with."""
    connection = row.connection
    try:
        with destinations.transport_of(connection, 15.0, tokens.shown(connection)) as transport:
            if connection.scheme in OAUTH2:
                token, _ = tokens.hold(connection, transport)
                request = oauth2.api_request(row.method, row.address, token.access_token)
            else:
                bare = oauth2.api_request(row.method, row.address)
                now = int(timezone.now().timestamp())
                request = with_credential(
                    bare, credentials_of(connection), secrets.token_hex(12), now
                )
            return transport.send(request).status
    except (NoToken, TransportError, NotComplete):
        return None
