"""Cursor pagination: a page of rows after the one a cursor names."""

from __future__ import annotations

import base64
import json
from datetime import UTC, datetime
from typing import Any, TypeVar

from django.core.exceptions import ValidationError
from django.db.models import Model, Q, QuerySet

from .problems import Problem

M = TypeVar("M", bound=Model)
PAGE = 100


def page(
    rows: QuerySet[M],
    key: str,
    cursor: str | None,
    limit: int = PAGE,
    descending: bool = False,
    then: str = "",
) -> tuple[list[M], str | None]:
    """One page ordered by a unique field, or by ``key`` and, among equals, the unique field
    ``then``; and the cursor of the next (``None``: the last). A key may be of a related row, where
    the rows have it as an attribute by the last part of its name.
    """
    keys = (key, then) if then else (key,)
    past = "lt" if descending else "gt"
    if cursor:
        after = values_of(cursor, [_field(rows.model, key) for key in keys])
        beyond = Q(**{f"{key}__{past}": after[0]})
        rows = rows.filter(
            beyond | Q(**{key: after[0], f"{then}__{past}": after[1]}) if then else beyond
        )
    found = list(rows.order_by(*(f"{'-' if descending else ''}{key}" for key in keys))[: limit + 1])
    following = (
        cursor_of([getattr(found[limit - 1], key.rpartition("__")[2]) for key in keys])
        if len(found) > limit
        else None
    )
    return found[:limit], following


def _field(model: type[Model], key: str) -> Any:
    *way, name = key.split("__")
    for column in way:
        model = model._meta.get_field(column).related_model  # type: ignore[assignment]
    return model._meta.get_field(name)


def cursor_of(values: list[Any]) -> str:
    """A cursor that names a row by the values it is ordered by."""
    text = str(values[0]) if len(values) == 1 else json.dumps([str(value) for value in values])
    return base64.urlsafe_b64encode(text.encode()).decode().rstrip("=")


def values_of(cursor: str, fields: list[Any]) -> list[Any]:
    """What a cursor names, as the fields (Django's) have it. Raises :class:`Problem`."""
    try:
        text = base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)).decode()
        told = [text] if len(fields) == 1 else json.loads(text)
        if not isinstance(told, list) or len(told) != len(fields):
            raise ValueError("not so many keys")
        values = [field.to_python(one) for field, one in zip(fields, told, strict=True)]
        if any(
            value is None or (isinstance(value, int) and abs(value) >= 2**63) for value in values
        ):
            raise ValueError("beyond what the database can hold")
        values = [_in_utc(value) if isinstance(value, datetime) else value for value in values]
    except (ValueError, TypeError, OverflowError, ValidationError) as error:
        raise Problem(
            422,
            "This cursor is not one of ours.",
            "Start again from the first page.",
            code="bad-cursor",
        ) from error
    return values


def _in_utc(moment: datetime) -> datetime:
    """A moment as cursors tell it.

    Raises ``ValueError`` for one without an offset, ``OverflowError`` for one that is none in UTC.
    """
    if moment.tzinfo is None:
        raise ValueError("no offset from UTC")
    return moment.astimezone(UTC)
