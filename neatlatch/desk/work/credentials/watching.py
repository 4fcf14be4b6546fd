"""Which change makes the findings about which credentials stale
(:mod:`neatlatch.desk.ground.common.marking`).
"""

from __future__ import annotations

from collections.abc import Iterator

from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential, Handover, StandsOut
from neatlatch.desk.ground.common.marking import MarkedTable, Trigger, WatchedTable, register

_SAME = "SELECT s.id FROM credentials_credential s WHERE s.fingerprint <> '' AND s.fingerprint"
# The credentials that hold what the secrets of some connections hold.
_HELD_BY = (
    "SELECT s.id FROM credentials_credential s WHERE s.fingerprint IN (SELECT c.fingerprint "
    "FROM credentials_credential c "
    "JOIN connections_heldsecret h ON h.credential_id = c.id WHERE c.fingerprint <> '' AND "
    "h.connection_id"
)
WATCHED = (
    WatchedTable(
        Credential,
        f"{{row}}.id UNION {_SAME} = {{row}}.fingerprint",
        only=("client_id", "state", "issued", "ends", "fingerprint", "weak"),
    ),
    WatchedTable(
        HeldSecret,
        (
            f"{{row}}.credential_id UNION {_SAME} = (SELECT fingerprint FROM "
            f"credentials_credential WHERE id = {{row}}.credential_id)"
        ),
    ),
    WatchedTable(Connection, f"{_HELD_BY} = {{row}}.id)", only=("deployment_id",)),
    WatchedTable(
        Deployment,
        f"{_HELD_BY} IN (SELECT id FROM connections_connection WHERE place_id = {{row}}.id))",
        only=("application_id", "environment_id"),
    ),
    WatchedTable(
        Client,
        "SELECT id FROM credentials_credential WHERE client_id = {row}.id",
        only=("account_kind", "workload_id"),
    ),
    WatchedTable(
        Handover, "{row}.credential_id", only=("credential_id", "shown", "closed", "ends")
    ),
)
MARKS = MarkedTable(StandsOut, Credential)


def _triggers() -> Iterator[Trigger]:
    yield from MARKS.follow(WATCHED)
    # A use is seen with every draw; it says something only of what was told to be unused.
    unused = " AND marks LIKE '% unused %'"
    used, drawn = (
        MARKS.mark("NEW.id", unused),
        MARKS.mark("replace(NEW.credential, '-', '')", unused),
    )
    yield (
        "marks_credential_used",
        (
            f"AFTER UPDATE OF last_used ON credentials_credential WHEN OLD.last_used IS NOT "
            f"NEW.last_used BEGIN {used} END"
        ),
    )
    back = "NEW.last_used IS NULL OR NEW.last_used < OLD.last_used"
    yield (
        "marks_credential_not_used",
        (
            f"AFTER UPDATE OF last_used ON credentials_credential WHEN {back} BEGIN "
            f"{MARKS.mark('NEW.id')} END"
        ),
    )
    yield "marks_drawn", f"AFTER INSERT ON drawing_drawn BEGIN {drawn} END"
    yield "marks_drawn_again", f"AFTER UPDATE OF last ON drawing_drawn BEGIN {drawn} END"


def begin() -> None:
    """Watch from now on."""
    register(MARKS, _triggers)
