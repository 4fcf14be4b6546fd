"""Thousands of everything: rows of the demo copied, each with a key and names of its own, its
relations to copies as well.
"""

from __future__ import annotations

import copy
import uuid
from typing import Any

from django.apps import apps
from django.db import models
from django.db.models import Model

# What a firm has few of, whatever its size.
FEW = {
    "applications.Environment",
    "certificates.Authority",
    "certificates.Trust",
    "house.SigningKey",
    "contenttypes.ContentType",
    "auth.Permission",
    "auth.Group",
    "sessions.Session",
}
NOT_OURS = ("auth", "contenttypes", "sessions")


def kinds() -> list[type[Model]]:
    """The models with rows, each after those it refers to."""
    found: list[type[Model]] = []

    def add(model: type[Model]) -> None:
        if model in found or model in under_way:
            return
        under_way.append(model)
        for field in model._meta.concrete_fields:
            if field.is_relation and field.related_model is not model:
                add(field.related_model)  # type: ignore[arg-type]
        found.append(model)

    under_way: list[type[Model]] = []
    for model in apps.get_models():
        if model._meta.managed and model._meta.app_label not in NOT_OURS:
            add(model)
    return [item for item in found if item._meta.managed and item._meta.app_label not in NOT_OURS]


class Copies:
    """The rows that stand now, copied until there are so many copies of each kind."""

    def __init__(self) -> None:
        self._rows = {model: list(model._default_manager.all()) for model in kinds()}
        self._made: dict[type[Model], list[Any]] = {}

    def up_to(self, count: int) -> dict[str, int]:
        """Returns how many there are of each kind then. Kinds of which there is none stay empty."""
        for model, rows in self._rows.items():
            if rows and model._meta.label not in FEW:
                made = self._made.setdefault(model, [])
                after = (
                    max(model._default_manager.values_list("pk", flat=True)) - len(made)
                    if isinstance(rows[0].pk, int)
                    else 0
                )
                first = len(made)
                for number in range(first, count):
                    made.append(
                        _copied(rows[number % len(rows)], number, self._made, after + 1 + number)
                    )
                model._default_manager.bulk_create(
                    made[first:], ignore_conflicts=True, batch_size=200
                )
        return {model._meta.label: model._default_manager.count() for model in self._rows}


def _copied(row: Model, number: int, copies: dict[type[Model], list[Any]], following: int) -> Model:
    made = copy.copy(row)
    made._state = models.base.ModelState()
    made._state.adding = True
    for field in row._meta.concrete_fields:
        value = getattr(row, field.attname)
        if field.is_relation:
            related = copies.get(field.related_model)  # type: ignore[arg-type]
            if (
                value is not None and related and number < len(related)
            ):  # of its own kind, those before it
                setattr(made, field.attname, related[number].pk)
                made._state.fields_cache.pop(field.name, None)
        elif field.primary_key:
            setattr(made, field.attname, _key(field, number, following))
        elif _must_differ(field) and value not in (None, ""):
            setattr(made, field.attname, _other(field, value, number))
    return made


def _key(field: Any, number: int, following: int) -> Any:
    if isinstance(field, models.UUIDField):
        return uuid.uuid4()
    if isinstance(field, (models.AutoField, models.BigAutoField)):
        return 1_000_000 + number
    return (
        following if isinstance(field, models.IntegerField) else f"copy-{number}"
    )  # the journal takes no number but the next


def _must_differ(field: Any) -> bool:
    """Unique values, and those that would make one thing of all copies: names, digests,
    fingerprints.
    """
    return not isinstance(field, models.BinaryField) and (
        bool(field.unique)
        or field.name
        in ("name", "fingerprint", "digest", "client_id", "public_key", "jti", "serial")
    )


def _other(field: Any, value: Any, number: int) -> Any:
    if isinstance(field, models.IntegerField):
        return 1_000_000 + number
    end = f"-{number}"
    return f"{str(value)[: (field.max_length or 200) - len(end)]}{end}"
