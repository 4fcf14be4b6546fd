"""What the caller of this request is held to.

A token for some environments may ask only for what is in them. A person whose rights are limited
sees everything, and acts only on what is within: their acts are looked at once it is known that the
request is one (:func:`begin_act`, which :mod:`neatlatch.desk.ground.guard` calls). Look-ups, lists
and request bodies ask here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import TypeVar

from django.db.models import Model, QuerySet
from django.http import HttpRequest, HttpResponse

from neatlatch.core.reach import Place, Reach

from .problems import Problem

M = TypeVar("M", bound=Model)
_EVERYWHERE = Reach()


@dataclass
class _Limits:
    """Of a person: how far their rights reach, and where the thing is that the address names.

    ``places`` is asked once, when the request acts (``None``: the body names it). Until then
    ``named`` gathers what the body names.
    """

    reach: Reach
    places: Callable[[], Iterable[Place] | None]
    acts: bool = False
    named: list[Place] = field(default_factory=list)


_TOKEN: ContextVar[Reach] = ContextVar("token", default=_EVERYWHERE)
_PERSON: ContextVar[_Limits | None] = ContextVar("person", default=None)


def narrow(environments: frozenset[str] | None) -> None:
    """Hold this request to environments, by their keys; ``None``: to none."""
    _TOKEN.set(_EVERYWHERE if environments is None else Reach(environments))


def limit(reach: Reach, places: Callable[[], Iterable[Place] | None]) -> None:
    """Hold the acts of this request to a reach. ``places`` tells where the thing is that its
    address names; ``None``: its body names that.
    """
    _PERSON.set(None if reach.is_everywhere else _Limits(reach, places))


def begin_act() -> None:
    """This request is about to act, and not only to look. Raises :class:`Problem` (403) where the
    person's rights do not reach what it is about.
    """
    limits = _PERSON.get()
    if limits is None or limits.acts:
        return
    limits.acts = True
    places = limits.places()
    if places is None:
        places = [_together(limits.named)]
    if not limits.reach.covers(places) or not all(_fits(limits.reach, one) for one in limits.named):
        raise beyond(limits.reach)


def _together(named: Iterable[Place]) -> Place:
    """The place that a body names, in one field or in two."""
    found = Place()
    for place in named:
        found = Place(
            place.environment or found.environment, place.application or found.application
        )
    return found


def _fits(reach: Reach, place: Place) -> bool:
    """Whether what is named of a place is within; what is not named is not asked."""
    return (not place.environment or reach.has_environment(place.environment)) and (
        not place.application or reach.has_application(place.application)
    )


def environments() -> frozenset[str] | None:
    """Return the keys of the environments that the caller's token is held to; ``None``: to none."""
    return _TOKEN.get().environments


def check(environment: str = "", application: str = "") -> None:
    """Refuse what is beyond the caller's reach, by the keys of its environment and application, as
    far as they are known (empty: not). Raises :class:`Problem` (403).
    """
    place = Place(environment, application)
    if not _fits(_TOKEN.get(), place):
        raise outside()
    limits = _PERSON.get()
    if limits is None:
        return
    if not limits.acts:
        limits.named.append(place)
    elif not _fits(limits.reach, place):
        raise beyond(limits.reach)


def reaches() -> tuple[Reach, ...]:
    """Return what the caller is held to: the reach of a token, and that of a person who acts."""
    limits = _PERSON.get()
    return (_TOKEN.get(), limits.reach if limits is not None and limits.acts else _EVERYWHERE)


def within(rows: QuerySet[M], path: str) -> QuerySet[M]:
    """Return those rows that the caller may see. ``path`` leads to the key of their environment, as
    in ``deployment__environment__key``.
    """
    held = environments()
    return rows if held is None else rows.filter(**{f"{path}__in": sorted(held)})


def outside() -> Problem:
    """Return the problem of a token that is used beyond its environments (403)."""
    held = sorted(environments() or ())
    return Problem(
        403,
        "This token does not hold there.",
        f"It holds for {', '.join(held) or 'no environment'} only.",
        code="token-narrowed",
    )


def beyond(reach: Reach) -> Problem:
    """Return the problem of a person who acts beyond their limits (403)."""
    return Problem(
        403,
        "Your rights do not reach this.",
        f"You look at everything, and act only within: {reach.in_words()}. An administrator "
        f"without limits can do it, or change yours.",
        code="rights-limited",
    )


def middleware(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[..., HttpResponse]:
    """Begin each request without limits: threads serve one after another."""

    def begin(request: HttpRequest) -> HttpResponse:
        narrow(None)
        _PERSON.set(None)
        return get_response(request)

    return begin
