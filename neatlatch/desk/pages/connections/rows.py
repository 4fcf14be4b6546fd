"""Rows of the list of connections, worked out once and kept until something they depend on changes.

What they depend on is read with every page, in one query: versions, moments and states of the connection, its tokens, its client, its places and its
application. A row whose stamp is still the same, and whose next end has not come, is answered as it was kept; only the others are worked out anew.
"""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from django.core.serializers.json import DjangoJSONEncoder
from django.db.models import Aggregate, Max, OuterRef, QuerySet, Subquery, TextField, Value
from django.db.models.functions import Concat
from django.utils import timezone

from neatlatch.core.filter_words import Word
from neatlatch.core.pins import Fit
from neatlatch.desk.estate.connections import halves
from neatlatch.desk.estate.records.applications.models import Environment, Place
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.ground.common.pages import PAGE, page

from .shaping import row

_MOST = 20_000
# Rows that are looked at for one page of a filter by pins.
_MOST_LOOKED_AT = 1_000
_OFF = (Fit.DIFFERS, Fit.MISSING, Fit.NOT_PROVEN)
_STAMP = (
    "version", "stamp", "changed_at", "state", "failing", "paused", "tested_at", "proven_at", "secret_taken_at", "client__version", "client__changed_at", "place__changed_at",
    "place__application__version", "any_place", "all_tokens",
    # Whatever an environment asks of its connections, or is called.
    *(f"place__environment__{field.attname}" for field in Environment._meta.concrete_fields),
)  # fmt: skip
_TOKENS = Concat("pk", Value("/"), "generation", Value("/"), "account", Value("/"), "signed_in_at", output_field=TextField())


class _Together(Aggregate):
    """All of a group in one text (SQLite's ``group_concat``)."""

    function = "GROUP_CONCAT"
    output_field = TextField()


@dataclass(frozen=True)
class Kept:
    """A row as JSON, the pins that are off, and until when it holds if nothing changes (``None``: for good)."""

    stamp: tuple[Any, ...]
    until: datetime | None
    text: str
    off: frozenset[str]


_kept: dict[UUID, Kept] = {}


def page_of(rows: QuerySet[Connection], cursor: str | None, pin_words: list[Word]) -> tuple[list[str], str | None]:
    """One page of rows as JSON texts, and the cursor of the next. ``pin_words`` keep the rows that have a pin so named off the line."""
    # An address in another environment may be the one we use: a change of any of the application's places counts.
    any_place = (
        Place.objects.filter(application=OuterRef("place__application"))
        .order_by()
        .values("application")
        .annotate(newest=Max("changed_at"))
        .values("newest")
    )
    tokens = (
        TokenSet.objects.filter(connection=OuterRef("pk")).order_by().values("connection").annotate(all=_Together(_TOKENS)).values("all")
    )
    stamped = rows.annotate(any_place=Subquery(any_place), all_tokens=Subquery(tokens)).values_list("pk", "ref", *_STAMP, named=True)
    if not pin_words:
        found, following = page(stamped, "ref", cursor)
        return [one.text for one in _kept_of(found)], following
    return _with_pins(stamped, cursor, pin_words)


def _with_pins(stamped: QuerySet[Any], cursor: str | None, pin_words: list[Word]) -> tuple[list[str], str | None]:
    """One page of the rows whose pins are as the words say. Whether they are is worked out row by row, so a page may be short, or empty, and
    still have one that follows it: no more than so many rows are looked at for it."""
    texts: list[str] = []
    looked_at = 0
    while True:
        found, following = page(stamped, "ref", cursor)
        texts += [one.text for one in _kept_of(found) if _has_pins(one, pin_words)]
        looked_at += len(found)
        if following is None or len(texts) >= PAGE or looked_at >= _MOST_LOOKED_AT:
            return texts, following
        cursor = following


def _has_pins(kept: Kept, pin_words: list[Word]) -> bool:
    return all(any(key.startswith(word.text.replace("-", "_")) for key in kept.off) != word.without for word in pin_words)


def _kept_of(found: list[Any]) -> list[Kept]:
    """The kept rows of a page, those that are out of date worked out anew."""
    now = timezone.now()
    stale = [one.pk for one in found if not _holds(_kept.get(one.pk), tuple(one[2:]), now)]
    if stale:
        _work_out(stale, {one.pk: tuple(one[2:]) for one in found}, now)
    return [_kept[one.pk] for one in found if one.pk in _kept]


def _holds(kept: Kept | None, stamp: tuple[Any, ...], now: datetime) -> bool:
    return kept is not None and kept.stamp == stamp and (kept.until is None or now < kept.until)


def _work_out(stale: list[UUID], stamps: dict[UUID, tuple[Any, ...]], now: datetime) -> None:
    if len(_kept) > _MOST:
        _kept.clear()
    for one in halves.with_everything(Connection.objects.filter(pk__in=stale)):
        worked_out = halves.work_out(one, now)
        text = json.dumps(asdict(row(one, worked_out)), cls=DjangoJSONEncoder, ensure_ascii=False)
        _kept[one.pk] = Kept(stamps[one.pk], _until(one, now), text, frozenset(pin.key for pin in worked_out if pin.fit in _OFF))


def _until(connection: Connection, now: datetime) -> datetime | None:
    """The next moment at which a pin may change by itself: the end of a secret, on either side, or of the certificate."""
    credentials = [*connection.secrets().values(), *(connection.client.credentials.all() if connection.client else ())]
    ends = [one.ends for one in credentials if one.ends is not None]
    sight = halves.certificate_sight(connection, now) if "certificate" in connection.values else None
    if sight is not None and sight.ends is not None:
        ends.append(sight.ends)
    return min((one for one in ends if one > now), default=None)
