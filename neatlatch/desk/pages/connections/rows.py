"""Rows of connections in lists, from their summaries
(:mod:`neatlatch.desk.estate.connections.summaries`).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

from django.db.models import F, QuerySet
from django.utils import timezone

from neatlatch.core.filter_words import Word
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.connections import summaries
from neatlatch.desk.estate.connections.summaries import FIT_OF, ComputedSummary
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common import filtering
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out

from .shapes import ConnectionRow, GlyphOut

# What a list needs beside the summary; each stands in a table of its own.
_OWN = ("pk", "ref", "state", "failing", "tested_at", "paused")
_JOINED = {
    "application_key": F("deployment__application__key"),
    "application_name": F("deployment__application__name"),
    "environment_id": F("deployment__environment_id"),
    **{
        f"summary_{name}": F(f"summary__{name}")
        for name in ("stale", "holds_until", "fits", "says", "off", "workloads")
    },
}


# What may be written before a colon, and where it is looked for.
FIELDS = {
    "env": "env",
    "environment": "env",
    "state": "state",
    "app": "app",
    "application": "app",
    "pin": "pin",
    "scheme": "scheme",
    "team": "team",
    "workload": "workload",
    "owner": "owner",
    "client": "client",
    "tag": "tag",
}
LOOKUPS = {
    "env": "deployment__environment__key__startswith",
    "state": "state__startswith",
    "app": "deployment__application__key__contains",
    "scheme": "scheme__contains",
    "team": "team__name__icontains",
    "workload": "uses__workload__name__icontains",
    "owner": "uses__workload__owner__name__icontains",
    "client": "client__name__icontains",
    "tag": object_notes.BY_TAG,
}
_PLAIN = ("ref__icontains", "deployment__application__name__icontains")


def fitting(rows: QuerySet[Connection], words: Sequence[Word]) -> QuerySet[Connection]:
    """Those that fit the words of a filter; ``pin:scopes`` fits those with that pin off the
    line.
    """
    rows = filtering.apply(rows, words, LOOKUPS, _PLAIN)
    for word in words:
        if word.field == "pin":
            named = {"summary__off__contains": f" {word.text}"}
            rows = rows.exclude(**named) if word.without else rows.filter(**named)
    return rows


def page_of(
    rows: QuerySet[Connection], cursor: str | None
) -> tuple[list[ConnectionRow], str | None]:
    """One page of rows by reference name, and the cursor of the next. Four queries; those whose
    summaries are stale are worked out for it."""
    found, following = page(
        rows.annotate(**_JOINED).values_list(*_OWN, *_JOINED, named=True), "ref", cursor
    )
    environments = {
        environment.pk: environment_out(environment) for environment in Environment.objects.all()
    }
    fresh = fresh_of((row.pk, row.summary_stale, row.summary_holds_until) for row in found)
    tags = object_notes.tags_of(Connection, [row.pk for row in found])
    return [
        _row(row, fresh.get(row.pk), environments[row.environment_id], tags.get(row.pk, []))
        for row in found
    ], following


def fresh_of(
    found: Iterable[tuple[UUID, bool | None, datetime | None]],
) -> dict[UUID, ComputedSummary]:
    """Summaries of those of a page whose kept ones are stale, or have had their moment; by key."""
    now = timezone.now()
    behind = [
        key
        for key, stale, until in found
        if stale is not False or (until is not None and until <= now)
    ]
    return summaries.fresh(behind, now)


def glyph(fits: str, says: str) -> GlyphOut:
    """The pins as they are drawn."""
    return GlyphOut(fits=[FIT_OF[fit] for fit in fits], says=says)


def _row(
    row: Any, fresh: ComputedSummary | None, environment: EnvironmentOut, tags: list[str]
) -> ConnectionRow:
    fits, says, off, workloads = (
        (fresh.fits, fresh.says, fresh.off, fresh.workloads)
        if fresh is not None
        else (row.summary_fits, row.summary_says, row.summary_off, row.summary_workloads)
    )
    return ConnectionRow(
        ref=row.ref,
        application=row.application_key,
        application_name=row.application_name,
        environment=environment,
        state=row.state,
        glyph=glyph(fits, says),
        latches=not off,
        failing=row.failing,
        tested_at=row.tested_at,
        workloads=workloads,
        paused=row.paused,
        tags=tags,
    )
