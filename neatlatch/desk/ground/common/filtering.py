"""Filters of lists, on rows of the database."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TypeVar

from django.db.models import Model, Q, QuerySet

from neatlatch.core import filter_words
from neatlatch.core.filter_words import Word

from .problems import Problem

M = TypeVar("M", bound=Model)


def apply(
    rows: QuerySet[M], words: Iterable[Word], fields: Mapping[str, str], plain: Sequence[str]
) -> QuerySet[M]:
    """Rows that fit.

    ``fields`` names a lookup for each field, ``plain`` the lookups that a plain word may meet.
    Fields that are not named are passed over.
    """
    for word in words:
        if word.field and word.field not in fields:
            continue
        wanted = Q()
        for lookup in (fields[word.field],) if word.field else plain:
            wanted |= Q(**{lookup: word.text})
        if word.without:
            # By a query of its own: excluding over a join would keep rows that have another related
            # one.
            rows = rows.exclude(pk__in=rows.model._default_manager.filter(wanted).values("pk"))
        elif word.field and _goes_to_many(
            rows.model, fields[word.field]
        ):  # a row that several fit is one row
            rows = rows.filter(pk__in=rows.model._default_manager.filter(wanted).values("pk"))
        else:
            rows = rows.filter(wanted)
    return rows


def holds(word: Word, takes: str = "yes or no") -> bool:
    """Whether rows are wanted for which a field of yes or no holds.

    ``takes`` tells what the field takes. Raises :class:`Problem` (422) for another value.
    """
    said = filter_words.truth(word.text)
    if said is None:
        raise Problem(
            422,
            f"“{word.field}:” takes {takes}.",
            f"It was given “{word.text[:60]}”.",
            code="bad-filter",
        )
    return said != word.without


def _goes_to_many(model: type[Model], lookup: str) -> bool:
    at: type[Model] = model
    for part in lookup.split("__"):
        field = at._meta.get_field(part)
        if field.one_to_many or field.many_to_many:
            return True
        if not field.is_relation:
            break
        at = field.related_model  # type: ignore[assignment]
    return False
