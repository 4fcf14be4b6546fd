"""One change made to many objects of a list: those that were chosen, or all that fit a filter."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from django.db.models import QuerySet
from django.http import HttpRequest
from django.utils import timezone
from ninja import Router
from pydantic import Field

from neatlatch.core import filter_words
from neatlatch.core.filter_words import Word
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.work import bulk
from neatlatch.desk.work.bulk import BulkChange, ObjectList

from .applications import listing as applications
from .connections import rows as connections
from .credentials import listing as credentials
from .workloads import listing as workloads

router = Router(tags=["bulk changes"])
# So many rows can be chosen one by one; so many are named in a preview.
_MOST_CHOSEN, _NAMED = 500, 10


class ChosenIn(RequestBody):
    """Objects of a list: ``keys`` are those that its rows go by (an application's key, a
    connection's reference, a credential's or workload's ID), or ``words`` is the filter that all of
    them fit (empty: all there are).
    """

    of: ObjectList
    keys: list[str] | None = Field(default=None, max_length=_MOST_CHOSEN)
    words: str | None = None


class BulkIn(ChosenIn):
    """What to change in them, absent: stays; ``owner`` empty: nobody's; ``test_interval`` in
    minutes, 0: every round.

    ``count`` is how many there were in the preview; ``after``, from the answer before, goes on from
    there.
    """

    owner: str | None = None
    paused: bool | None = None
    test_interval: int | None = None
    add_tags: list[str] = Field(default=[], max_length=20)
    remove_tags: list[str] = Field(default=[], max_length=20)
    count: int | None = None
    after: str | None = None

    def change(self) -> BulkChange:
        """The requested change."""
        return BulkChange(
            self.owner,
            self.paused,
            self.test_interval,
            tuple(self.add_tags),
            tuple(self.remove_tags),
        )


@dataclass(frozen=True, kw_only=True)
class BulkPreview:
    """How many objects would be looked at, how many of them are in production, and what the first
    are called.
    """

    count: int
    production: int
    names: list[str]


@dataclass(frozen=True, kw_only=True)
class RefusalOut:
    """An object that was not changed, and why."""

    name: str
    says: str


@dataclass(frozen=True, kw_only=True)
class BulkOut:
    """What was done: send the same again with ``after`` until that is empty."""

    changed: int
    unchanged: int
    refused: list[RefusalOut]
    after: str | None


@dataclass(frozen=True)
class _ListOf:
    rows: Callable[[], QuerySet[Any]]
    by_key: str
    fields: Mapping[str, str]
    fitting: Callable[[Any, Sequence[Word]], QuerySet[Any]]
    is_id: bool = False


_LISTS: dict[ObjectList, _ListOf] = {
    "applications": _ListOf(
        Application.objects.all, "key", applications.FIELDS, applications.fitting
    ),
    "connections": _ListOf(Connection.objects.all, "ref", connections.FIELDS, connections.fitting),
    "credentials": _ListOf(
        Credential.objects.all,
        "pk",
        credentials.FIELDS,
        lambda rows, words: credentials.fitting(rows, words, timezone.now()),
        is_id=True,
    ),
    "workloads": _ListOf(
        Workload.objects.all, "pk", workloads.FIELDS, workloads.fitting, is_id=True
    ),
}


def _chosen(body: ChosenIn) -> QuerySet[Any]:
    """The objects that are meant. Raises field errors."""
    rows_of = _LISTS[body.of]
    if (body.keys is None) == (body.words is None):
        raise wrong_fields({"keys": "Choose rows, or give a filter."})
    if body.keys is not None:
        keys = _ids(body.keys) if rows_of.is_id else body.keys
        return rows_of.rows().filter(**{f"{rows_of.by_key}__in": keys})
    text = body.words or ""
    if not filter_words.is_complete(text, rows_of.fields):
        raise wrong_fields({"words": "This filter is too long, or a word of it has no value."})
    return rows_of.fitting(rows_of.rows(), filter_words.read(text, rows_of.fields))


def _ids(keys: Iterable[str]) -> list[UUID]:
    try:
        return [UUID(key) for key in keys]
    except ValueError as error:
        raise wrong_fields({"keys": "These are not IDs of rows of this list."}) from error


def _after(of: ObjectList, after: str | None) -> Any:
    """The key in the database that an answer named. Raises field errors."""
    if after is None:
        return None
    try:
        field = _LISTS[of].rows().model._meta.pk
        return field.to_python(after[:40])
    except Exception as error:
        raise wrong_fields({"after": "This is not from an answer of ours."}) from error


@router.post("/bulk-changes/previews", response=BulkPreview)
def preview(request: HttpRequest, body: ChosenIn) -> BulkPreview:
    """How many objects are meant, and the first of them by name. Nothing is changed."""
    guard.need(request, "change")
    rows = _chosen(body)
    first = _LISTS[body.of].rows().filter(pk__in=rows.order_by("pk").values("pk")[:_NAMED])
    return BulkPreview(
        count=rows.count(),
        production=bulk.production_of(body.of, rows).count(),
        names=bulk.names(body.of, first),
    )


@router.post("/bulk-changes", response=BulkOut)
def change(request: HttpRequest, body: BulkIn) -> BulkOut:
    """Change the next objects of those that are meant, at most a hundred. Each is changed alone:
    one that refuses is reported, and the others are changed.
    """
    by = guard.need(request, "change")
    rows = _chosen(body)
    if body.after is None and body.count is not None and rows.count() != body.count:
        raise Problem(
            409,
            "Other objects fit this filter now.",
            "Nothing was changed. Look at the preview again.",
            code="filter-fits-others",
        )
    done = bulk.change(by, body.of, rows, body.change(), _after(body.of, body.after))
    return BulkOut(
        changed=done.changed,
        unchanged=done.unchanged,
        refused=[RefusalOut(name=each.name, says=each.says) for each in done.refused],
        after=None if done.after is None else str(done.after),
    )
