"""The list of credentials: what fits a filter, and a page of it, by the ends."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from uuid import UUID

from django.db.models import DateTimeField, IntegerField, Q, QuerySet, UUIDField

from neatlatch.core.filter_words import Word
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.records.connections.models import HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common import filtering
from neatlatch.desk.ground.common.pages import PAGE, cursor_of, values_of
from neatlatch.desk.work.credentials.shown import CredentialOut

FIELDS = {
    "kind": "kind",
    "env": "env",
    "environment": "env",
    "app": "app",
    "application": "app",
    "used": "used",
    "over": "over",
    "ends": "ends",
    "connection": "connection",
    "by": "by",
    "state": "state",
    "owner": "owner",
    "mark": "mark",
    "tag": "tag",
}
_TEXTS = {
    "kind": "kind__icontains",
    "env": "client__deployment__environment__name__icontains",
    "app": "client__deployment__application__name__icontains",
    "by": "put_in_by__icontains",
    "state": "state__icontains",
    "mark": "stands_out__marks__icontains",
    "tag": object_notes.BY_TAG,
}
_PLAIN = (
    "hint__icontains",
    "client__deployment__application__name__icontains",
    "client__deployment__environment__name__icontains",
    "client__name__icontains",
    "client__client_id__icontains",
)

# "ends:30d" is what ends within thirty days and has not ended yet; "ends:yes" is what has an end at
# all.
_IN_DAYS = re.compile(r"([0-9]{1,4})d?")
_TAKES = {
    "used": "yes or no",
    "over": "yes or no",
    "ends": "yes, no or a number of days up to 9999, such as 30d",
}


def fitting(
    rows: QuerySet[Credential], words: Iterable[Word], now: datetime
) -> QuerySet[Credential]:
    """Those that fit the words of a filter."""
    truths = {"used": Q(pk__in=_held_by()), "over": Q(ends__lte=now), "ends": Q(ends__isnull=False)}
    for word in words:
        without = word.without
        if word.field == "ends" and (days := _IN_DAYS.fullmatch(word.text)):
            wanted = Q(ends__gt=now, ends__lte=now + timedelta(days=int(days[1])))
        elif word.field in truths:
            wanted, without = truths[word.field], not filtering.holds(word, _TAKES[word.field])
        elif word.field == "connection":
            wanted = Q(pk__in=_held_by(connection__ref__icontains=word.text))
        elif word.field == "owner":
            wanted = _owned_by(word.text)
        elif word.field:
            wanted = Q(**{_TEXTS[word.field]: word.text})
        else:
            wanted = Q(kind__icontains=word.text.replace(" ", "_")) | Q(
                pk__in=_held_by(connection__ref__icontains=word.text)
            )
            for lookup in _PLAIN:
                wanted |= Q(**{lookup: word.text})
        chosen = Credential.objects.filter(wanted).order_by().values("pk")
        rows = rows.exclude(pk__in=chosen) if without else rows.filter(pk__in=chosen)
    return rows


def _held_by(**which: str) -> QuerySet[HeldSecret, UUID]:
    return HeldSecret.objects.filter(**which).order_by().values_list("credential", flat=True)


def _owned_by(text: str) -> Q:
    """Whose it is, as the list tells it: as somebody said, else the workload's that draws with it,
    else what is noted of the account.
    """
    of_workload = Q(client__workload__owner__name__icontains=text) | Q(
        client__workload__owner=None, client__workload__name__icontains=text
    )
    noted = Q(client__account__icontains=text) | Q(
        client__account="", client__contacts__icontains=text
    )
    return Q(owner__name__icontains=text) | Q(owner=None) & (
        Q(client__workload__isnull=False) & of_workload | Q(client__workload=None) & noted
    )


@dataclass(frozen=True, kw_only=True)
class CredentialRow(CredentialOut):
    """A credential in the list."""

    tags: list[str]


@dataclass(frozen=True, kw_only=True)
class Credentials:
    """A page of credentials."""

    items: list[CredentialRow]
    next: str | None


def page_of(rows: QuerySet[Credential], cursor: str | None) -> tuple[list[UUID], str | None]:
    """The keys of a page, by their ends: first those that have one, by one index, then
    the others.
    """
    rank, ends, key = (0, None, None)
    if cursor:
        rank, ends, key = values_of(cursor, [IntegerField(), DateTimeField(), UUIDField()])
    found: list[tuple[UUID, datetime | None]] = []
    if rank == 0:
        ending = rows.filter(ends__isnull=False)
        if key is not None:
            ending = ending.filter(Q(ends__gt=ends) | Q(ends=ends, pk__gt=key))
        found = list(ending.order_by("ends", "pk").values_list("pk", "ends")[: PAGE + 1])
    if len(found) <= PAGE:
        endless = rows.filter(ends=None)
        if rank == 1:
            endless = endless.filter(pk__gt=key)
        found += list(endless.order_by("pk").values_list("pk", "ends")[: PAGE + 1 - len(found)])
    if len(found) <= PAGE:
        return [one for one, _ in found], None
    key, ends = found[PAGE - 1]
    told = ends or datetime(1970, 1, 1, tzinfo=UTC)
    return [one for one, _ in found[:PAGE]], cursor_of([int(ends is None), told.isoformat(), key])
