"""Cursor pagination: a page of rows after the one a cursor names."""

from __future__ import annotations

import base64
from typing import Any, TypeVar

from django.core.exceptions import ValidationError
from django.db.models import Model, QuerySet

from .problems import Problem

M = TypeVar("M", bound=Model)
PAGE = 100


def page(rows: QuerySet[M], key: str, cursor: str | None, limit: int = PAGE, descending: bool = False) -> tuple[list[M], str | None]:
    """One page ordered by a unique field, and the cursor of the next (``None``: this was the last)."""
    if cursor:
        after = _decode(cursor, rows.model._meta.get_field(key))
        rows = rows.filter(**{f"{key}__{'lt' if descending else 'gt'}": after})
    found = list(rows.order_by(f"{'-' if descending else ''}{key}")[: limit + 1])
    following = _encode(getattr(found[limit - 1], key)) if len(found) > limit else None
    return found[:limit], following


def _encode(value: Any) -> str:
    return base64.urlsafe_b64encode(str(value).encode()).decode().rstrip("=")


def _decode(cursor: str, field: Any) -> Any:
    try:
        value = field.to_python(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)).decode())
        if isinstance(value, int) and abs(value) >= 2**63:
            raise ValueError("beyond what the database can hold")
    except (ValueError, ValidationError) as error:
        raise Problem(422, "This cursor is not one of ours.", "Start again from the first page.") from error
    return value
