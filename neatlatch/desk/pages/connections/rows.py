"""Rows of connections in lists, from their summaries
(:mod:`neatlatch.desk.estate.connections.summaries`).
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any
from uuid import UUID

from django.db.models import F, QuerySet
from django.utils import timezone

from neatlatch.core.filter_words import Word
from neatlatch.desk.estate.connections import summaries
from neatlatch.desk.estate.connections.summaries import FIT_OF, Summed
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.pages.applications.shapes import EnvironmentOut, environment_out

from .shapes import ConnectionRow, GlyphOut

# What a list needs beside the summary; each stands in a table of its own.
_OWN = ("pk", "ref", "state", "failing", "tested_at", "paused")
_JOINED = {
    "application_key": F("place__application__key"),
    "application_name": F("place__application__name"),
    "environment_id": F("place__environment_id"),
    **{
        f"summary_{one}": F(f"summary__{one}")
        for one in ("stale", "holds_until", "fits", "says", "off", "workloads")
    },
}


def with_pins(rows: QuerySet[Connection], words: Iterable[Word]) -> QuerySet[Connection]:
    """Those with a pin off the line that is named so (``pin:scopes``), or without one."""
    for one in words:
        if one.field == "pin":
            named = {"summary__off__contains": f" {one.text}"}
            rows = rows.exclude(**named) if one.without else rows.filter(**named)
    return rows


def page_of(
    rows: QuerySet[Connection], cursor: str | None
) -> tuple[list[ConnectionRow], str | None]:
    """One page of rows by reference name, and the cursor of the next. Three queries; those whose
    summaries are stale are worked out for it."""
    found, following = page(
        rows.annotate(**_JOINED).values_list(*_OWN, *_JOINED, named=True), "ref", cursor
    )
    environments = {one.pk: environment_out(one) for one in Environment.objects.all()}
    fresh = fresh_of((one.pk, one.summary_stale, one.summary_holds_until) for one in found)
    return [
        _row(one, fresh.get(one.pk), environments[one.environment_id]) for one in found
    ], following


def fresh_of(found: Iterable[tuple[UUID, bool | None, datetime | None]]) -> dict[UUID, Summed]:
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
    return GlyphOut(fits=[FIT_OF[one] for one in fits], says=says)


def _row(one: Any, fresh: Summed | None, environment: EnvironmentOut) -> ConnectionRow:
    fits, says, off, workloads = (
        (fresh.fits, fresh.says, fresh.off, fresh.workloads)
        if fresh is not None
        else (one.summary_fits, one.summary_says, one.summary_off, one.summary_workloads)
    )
    return ConnectionRow(
        ref=one.ref,
        application=one.application_key,
        application_name=one.application_name,
        environment=environment,
        state=one.state,
        glyph=glyph(fits, says),
        latches=not off,
        failing=one.failing,
        tested_at=one.tested_at,
        workloads=workloads,
        paused=one.paused,
    )
