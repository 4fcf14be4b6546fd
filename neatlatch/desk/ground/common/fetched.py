"""Rows that point to another, where they were fetched with it."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from django.db.models import Model


def those_of(row: Model, name: str) -> Collection[Any]:
    """The rows that point to a row by a foreign key, as its manager would answer them: those that
    were fetched with it, else asked for now. To look them up by the manager takes longer than to
    use them.
    """
    kept = row.__dict__.get("_prefetched_objects_cache", {}).get(name)
    return kept if kept is not None else getattr(row, name).all()  # type: ignore[no-any-return]
