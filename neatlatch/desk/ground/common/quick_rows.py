"""Reading many rows to look at them: Django's instances, made in a fifth of its time.

Django's own way writes each question anew, and asks a converter for every value and an initialiser
for every instance, which is most of the time that rows take. Here a question is written out once,
columns are converted by their type, and put where the instance keeps them. What was not asked for
is asked for when it is looked at, as ever. Relations are put in by :func:`join` and :func:`hang`.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any, Generic, TypeVar
from uuid import UUID

from django.db import connection as database
from django.db import models
from django.db.models import Model
from django.db.models.base import ModelState

M = TypeVar("M", bound=Model)
Convert = Callable[[Any], Any]


def moment(value: Any) -> datetime:
    """A moment as the database has it, of a column or of an expression."""
    # SQLite's module has taken the text apart already (the backend registers it so); it is in UTC.
    found = value if isinstance(value, datetime) else datetime.fromisoformat(value)
    return found.replace(tzinfo=UTC)


@lru_cache(maxsize=10_000)
def _key(value: str) -> UUID:
    return UUID(value)


def _json(value: Any) -> Any:
    # The usual empty ones are made anew each time: anyone who holds one may change it.
    return {} if value == "{}" else [] if value == "[]" else json.loads(value)


_BY_TYPE: dict[type[models.Field[Any, Any]], Convert] = {
    models.DateTimeField: moment,
    models.UUIDField: _key,
    models.JSONField: _json,
    models.BooleanField: bool,
}
# Columns of these come as Python has them.
_PLAIN = (
    models.CharField,
    models.TextField,
    models.IntegerField,
    models.AutoField,
    models.FloatField,
    models.BinaryField,
)


def _convert(field: models.Field[Any, Any]) -> Convert | None:
    """How a column's values are made Python's; ``None``: they are.

    Raises ``TypeError`` for a kind of column that nothing is known of.
    """
    target = field.target_field if isinstance(field, models.ForeignKey) else field
    for kind, convert in _BY_TYPE.items():
        if isinstance(target, kind):
            return convert
    if isinstance(target, _PLAIN):
        return None
    raise TypeError(f"{field} is of a kind that is not read quickly yet")


class Reading(Generic[M]):
    """A question for rows by a set of keys, written out once: the instances of a model that are
    found.

    ``where`` is SQL with ``{keys}`` in the place of the set (empty: all rows, and it is asked with
    no keys); ``order`` is SQL too. ``only`` names the fields that are read, ``but`` the columns
    that are not; ``also`` are expressions in SQL by the name that the instances have them under. Of
    UUIDs, whole numbers and texts; there may be any number of keys.
    """

    def __init__(
        self,
        model: type[M],
        where: str = "",
        *,
        only: Collection[str] = (),
        but: Collection[str] = (),
        order: str = "",
        also: Mapping[str, str] | None = None,
    ) -> None:
        self._model, self._where, self._order = model, where, order
        self._only, self._but, self._also = only, but, also or {}
        self._asked: _RowQuery | None = None

    def __call__(self, keys: Iterable[Any] = ()) -> list[M]:
        """The instances for these keys."""
        asked = self._asked = self._asked or self._written()
        told: list[Any] = []
        if self._where:
            told = [key.hex if isinstance(key, UUID) else key for key in keys]
            if not told:
                return []
        with database.cursor() as cursor:
            rows = cursor.execute(
                asked.sql, [json.dumps(told)] * self._where.count("{keys}")
            ).fetchall()
        return list(_made(self._model, asked, rows))

    def _written(self) -> _RowQuery:
        meta = self._model._meta
        wanted = {meta.get_field(field_name).name for field_name in self._only} | (
            {meta.pk.name} if self._only else set()
        )
        fields = [
            concrete_field
            for concrete_field in meta.concrete_fields
            if concrete_field.attname not in self._but
            and (not self._only or concrete_field.name in wanted)
        ]
        converts = [_convert(field) for field in fields]
        columns = [
            *(f't."{field.column}"' for field in fields),
            *(f"{sql} AS {name}" for name, sql in self._also.items()),
        ]
        sql = f"SELECT {', '.join(columns)} FROM {meta.db_table} t"
        if self._where:
            sql += f" WHERE {self._where.format(keys='(SELECT value FROM json_each(%s))')}"
        if self._order:
            sql += f" ORDER BY {self._order}"
        return _RowQuery(
            sql=sql,
            names=[*(field.attname for field in fields), *self._also],
            converting=[
                (at, convert) for at, convert in enumerate(converts) if convert is not None
            ],
        )


@dataclass(frozen=True)
class _RowQuery:
    sql: str
    # Of the columns, as instances keep them; and which of them are converted, how.
    names: list[str]
    converting: list[tuple[int, Convert]]


def _made(model: type[M], asked: _RowQuery, rows: Iterable[tuple[Any, ...]]) -> Iterator[M]:
    alias = database.alias
    for row in rows:
        values = list(row)
        for at, convert in asked.converting:
            if (value := values[at]) is not None:
                values[at] = convert(value)
        made = model.__new__(model)
        state = ModelState()
        state.adding, state.db = False, alias
        kept = made.__dict__
        kept.update(zip(asked.names, values, strict=True))
        kept["_state"] = state
        yield made


def join(rows: Iterable[Model], name: str, targets: dict[Any, Any]) -> None:
    """Put in what a foreign key of rows points to, by its keys; what is not among the targets is
    asked for when it is looked at."""
    for row in rows:
        attname = f"{name}_id"
        if (key := row.__dict__[attname]) in targets or key is None:
            row._state.fields_cache[name] = targets.get(key)


def hang(rows: Iterable[Model], name: str, of: Iterable[Model], attname: str) -> None:
    """Give rows those that point to them by a foreign key, as ``prefetch_related`` would."""
    by_key: dict[Any, list[Model]] = {}
    for model in of:
        by_key.setdefault(model.__dict__[attname], []).append(model)
    for row in rows:
        kept: dict[str, Any] = row.__dict__.setdefault("_prefetched_objects_cache", {})
        kept[name] = by_key.get(row.pk, [])


def hang_one(rows: Iterable[Model], name: str, of: Iterable[Model], attname: str) -> None:
    """Give rows the one that points to them by a one-to-one field, as ``select_related`` would."""
    by_key = {model.__dict__[attname]: model for model in of}
    for row in rows:
        row._state.fields_cache[name] = by_key.get(row.pk)
