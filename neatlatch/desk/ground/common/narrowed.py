"""The environments that the caller of this request is held to.

A token for some environments may ask only for what is in them. Who asks is found out once, before
the operation begins; look-ups and lists ask here.
"""

from __future__ import annotations

from collections.abc import Callable
from contextvars import ContextVar
from typing import TypeVar

from django.db.models import Model, QuerySet
from django.http import HttpRequest, HttpResponse

from .problems import Problem

M = TypeVar("M", bound=Model)
_TO: ContextVar[frozenset[str] | None] = ContextVar("narrowed", default=None)


def narrow(environments: frozenset[str] | None) -> None:
    """Hold this request to environments, by their keys; ``None``: to none."""
    _TO.set(environments)


def environments() -> frozenset[str] | None:
    """Return the keys of the environments that the caller is held to; ``None``: to none."""
    return _TO.get()


def check(environment: str) -> None:
    """Refuse what is in an environment that the caller is not held to, by its key. Raises
    :class:`Problem` (403).
    """
    held = _TO.get()
    if held is not None and environment not in held:
        raise outside()


def within(rows: QuerySet[M], path: str) -> QuerySet[M]:
    """Return those rows that the caller may see. ``path`` leads to the key of their environment, as
    in ``deployment__environment__key``.
    """
    held = _TO.get()
    return rows if held is None else rows.filter(**{f"{path}__in": sorted(held)})


def outside() -> Problem:
    """Return the problem of a caller who asks beyond their environments (403)."""
    held = sorted(_TO.get() or ())
    return Problem(
        403,
        "This token does not hold there.",
        f"It holds for {', '.join(held) or 'no environment'} only.",
        code="token-narrowed",
    )


def middleware(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[..., HttpResponse]:
    """Begin each request without a narrowing: threads serve one after another."""

    def begin(request: HttpRequest) -> HttpResponse:
        narrow(None)
        return get_response(request)

    return begin
