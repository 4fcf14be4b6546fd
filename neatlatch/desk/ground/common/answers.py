"""Long answers written quickly: a list is made of dataclasses that need no second look."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from pydantic import TypeAdapter

_ADAPTERS: dict[type[Any], TypeAdapter[Any]] = {}


class CacheableResponse(HttpResponse):
    """A long answer that holds nothing secret, such as a list or an export: it may be told by its
    tag, and made smaller on the way (:mod:`.caching`)."""


def written(answer: Any) -> CacheableResponse:
    """An answer of the shape that its operation names, as JSON, without validating it again."""
    shape = type(answer)
    if shape not in _ADAPTERS:
        _ADAPTERS[shape] = TypeAdapter(shape)
    return CacheableResponse(
        _ADAPTERS[shape].dump_json(answer), content_type="application/json; charset=utf-8"
    )
