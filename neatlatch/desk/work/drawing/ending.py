"""When workloads that draw will be able to draw no longer: the ends of what they have of their own
(``core.breaks``).
"""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from django.db import connection as database
from django.db.models import Prefetch

from neatlatch.core import breaks
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload

_WORDS = {"token": "API key", "client_secret": "client secret"}


# From the clients that are a workload's, by their index, and of these the ones whose every key has
# an end.
_ENDING = """SELECT k.workload_id FROM clients_client k
    CROSS JOIN credentials_credential c ON c.client_id = k.id
    WHERE k.workload_id IS NOT NULL AND c.digest <> '' AND c.state IN (%s, %s, %s)
      AND EXISTS (SELECT 1 FROM users_use u WHERE u.workload_id = k.workload_id
      AND u.connection_id IS NOT NULL)
    GROUP BY k.workload_id HAVING count(*) = count(c.ends) AND max(c.ends) <= %s
    ORDER BY max(c.ends), k.workload_id LIMIT %s"""


def soonest(now: datetime, most: int) -> list[tuple[Workload, breaks.Break]]:
    """Workloads that use a connection, with the end of the last thing they draw with, soonest
    first, so many at the most. Three queries.
    """
    with database.cursor() as cursor:
        within = database.ops.adapt_datetimefield_value(now + breaks.HORIZON)
        found_ids = cursor.execute(_ENDING, [*Credential.LETS_IN, within, most]).fetchall()
    ends_soon = [UUID(one) for (one,) in found_ids]
    given = Credential.objects.exclude(digest="").defer("value")
    workloads = Workload.objects.filter(pk__in=ends_soon).select_related("environment")
    found = []
    for workload in workloads.prefetch_related("keys", Prefetch("keys__credentials", given)):
        own_keys = [
            _own(one) for key in workload.keys.all() for one in key.credentials.all() if one.lives
        ]
        if end := breaks.of_workload(workload.name, own_keys, now):
            found.append((workload, end))
    return sorted(found, key=lambda ending: breaks.urgency(ending[1]))


def _own(credential: Credential) -> breaks.OwnKey:
    return breaks.OwnKey(
        _WORDS.get(credential.kind, "certificate"), credential.hint, credential.ends
    )
