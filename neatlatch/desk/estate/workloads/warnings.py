"""What is wrong with how workloads call applications: for a page of workloads, and as a filter."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from django.db import connection as database
from django.db.models import Count, F, Q, QuerySet, Window
from django.db.models.functions import RowNumber
from django.utils import timezone

from neatlatch.core import uses
from neatlatch.core.health import State
from neatlatch.core.uses import UseWarning
from neatlatch.desk.estate.connections import summaries
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.workloads.models import Use
from neatlatch.desk.ground.common.settling import stored

# So many connections are named of those that would serve, or that stand elsewhere.
_MOST_NAMED = 3
_CALLS = """SELECT u.id, u.workload_id, u.connection_id, u.application_id, w.environment_id, a.name,
    coalesce(c.ref, ''), coalesce(c.state, ''),
      p.environment_id, coalesce(s.lacks, '[]'), c.id IS NOT NULL
      AND (s.stale IS NOT 0 OR s.holds_until <= %s)
    FROM users_use u JOIN users_user w ON w.id = u.workload_id
    JOIN applications_application a ON a.id = u.application_id
      LEFT JOIN connections_connection c ON c.id = u.connection_id
      LEFT JOIN applications_place p ON p.id = c.place_id
      LEFT JOIN connections_summary s ON s.connection_id = c.id
    WHERE u.workload_id IN (SELECT value FROM json_each(%s)) ORDER BY u.id"""


@dataclass(frozen=True)
class Call:
    """A use as lists tell it: an application that a workload calls, and the connection it takes
    (``ref`` empty: none is named). Environments are told by their keys in the database.
    """

    id: int
    workload: UUID
    in_environment: int
    application: int
    application_name: str
    ref: str
    state: str
    stands_in: int | None
    lacks: tuple[str, ...]


def of_warned() -> QuerySet[Use, Any]:
    """The keys of the workloads that something is to be said of, as :func:`warn` says it."""
    fine = Q(
        connection__isnull=False,
        connection__deployment__environment=F("workload__environment"),
        connection__summary__lacks=[],
    )
    return (
        Use.objects.exclude(fine & ~Q(connection__state=State.UNLATCHED))
        .order_by()
        .values("workload")
    )


def calls_of(workloads: Iterable[UUID]) -> dict[UUID, list[Call]]:
    """What some workloads call, by the workload's key.

    One query, and those of the summaries that are stale.
    """
    now, keys = timezone.now(), {workload.hex: workload for workload in workloads}
    with database.cursor() as cursor:
        found = cursor.execute(_CALLS, [stored(now), json.dumps(list(keys))]).fetchall()
    fresh = summaries.fresh(
        sorted({UUID(connection) for _, _, connection, *_, behind in found if behind}), now
    )
    calls: dict[UUID, list[Call]] = {key: [] for key in keys.values()}
    for (
        number,
        workload,
        connection,
        application,
        in_environment,
        name,
        ref,
        state,
        stands_in,
        lacks,
        _,
    ) in found:
        new = fresh.get(UUID(connection)) if fresh and connection else None
        kept: tuple[str, ...] = tuple(json.loads(lacks)) if lacks != "[]" else ()
        whole = Call(
            number,
            keys[workload],
            in_environment,
            application,
            name,
            ref,
            state,
            stands_in,
            new.lacks if new is not None else kept,
        )
        calls[whole.workload].append(whole)
    return calls


def warn(name: str, calls: Sequence[Call], choices: Choices) -> tuple[UseWarning, ...]:
    """What is to be said of what one workload calls."""
    if not calls:
        return ()
    return uses.warn(
        name,
        choices.environments[calls[0].in_environment],
        [_used(call, choices) for call in calls],
    )


@dataclass(frozen=True)
class Choices:
    """Connections of applications by application and environment, some of each by name; and the
    names of environments.
    """

    environments: dict[int, str]
    named: dict[tuple[int, int], tuple[str, ...]]

    def here(self, call: Call) -> tuple[str, ...]:
        """Those in the workload's own environment."""
        return self.named.get((call.application, call.in_environment), ())

    def elsewhere(self, call: Call) -> tuple[str, ...]:
        """Those in other environments."""
        others = (
            self.named.get((call.application, key), ())
            for key in self.environments
            if key != call.in_environment
        )
        return tuple(ref for some in others for ref in some)


def choices_for(calls: Iterable[Call]) -> Choices:
    """The connections that would serve where none is named, or one of another environment.

    Two queries.
    """
    wanting = {
        call.application for call in calls if not call.ref or call.stands_in != call.in_environment
    }
    of_deployment = Window(RowNumber(), partition_by="deployment", order_by="ref")
    rows = (
        Connection.objects.filter(deployment__application__in=wanting)
        .annotate(nth=of_deployment, of_all=Window(Count("pk"), partition_by="deployment"))
        .filter(nth__lte=_MOST_NAMED)
        .order_by("deployment", "ref")
        .values_list("deployment__application", "deployment__environment", "ref", "nth", "of_all")
    )
    named: dict[tuple[int, int], tuple[str, ...]] = {}
    for application, environment, ref, nth, of_all in rows:
        more = (f"{of_all - nth} more",) if nth == _MOST_NAMED and of_all > nth else ()
        key = (application, environment)
        named[key] = (*named.get(key, ()), ref, *more)
    return Choices(dict(Environment.objects.values_list("pk", "name")), named)


def _used(call: Call, choices: Choices) -> uses.UsedConnection:
    if not call.ref:
        return uses.UsedConnection(
            call.application_name, choices=choices.here(call), elsewhere=choices.elsewhere(call)
        )
    assert call.stands_in is not None
    return uses.UsedConnection(
        call.application_name,
        call.ref,
        choices.environments[call.stands_in],
        State(call.state),
        call.lacks,
        choices.here(call),
        choices.elsewhere(call),
    )
