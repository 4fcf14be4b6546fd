"""Actors as people: who did something, kept as text while another process may have to finish it,
and what only a person can do.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from neatlatch.core.program_tokens import MEANINGS, ProgramGrant, ProgramRight
from neatlatch.desk.ground.common.actors import BEFORE_PROGRAMS, Actor, ProgramCaller
from neatlatch.desk.ground.common.problems import Problem

from .models import Person


@dataclass(frozen=True)
class DelegatedCaller:
    """Somebody's command line, which calls the API in their name."""

    person: Person
    grant: ProgramGrant

    @property
    def username(self) -> str:
        """The person's."""
        return self.person.username

    @property
    def shown_name(self) -> str:
        """The person's."""
        return self.person.shown_name


def actor_of(username: str | int) -> Actor:
    """Return who was kept by ``username``: a person, or a program by its name, without its rights.

    A number is a person's key, as it was kept before programs had tokens. Raises
    ``Person.DoesNotExist``.
    """
    if isinstance(username, int):
        return Person.objects.get(pk=username)
    if username.startswith(BEFORE_PROGRAMS):
        name = username.removeprefix(BEFORE_PROGRAMS)
        return ProgramCaller(name, "", ProgramGrant(frozenset()))
    return Person.objects.get(username=username)


def shown_names(usernames: Iterable[str]) -> dict[str, str]:
    """Return what people read in place of actors' usernames: one query."""
    names = set(usernames)
    people = Person.objects.filter(username__in=names)
    return {name: name for name in names} | {
        person.username: person.shown_name for person in people
    }


def lacks_right(right: ProgramRight) -> Problem:
    """Return the problem of a program whose token lacks a right (403)."""
    return Problem(
        403,
        "This token does not allow this.",
        f"It requires the right “{right}”: {MEANINGS[right]}. "
        f"Ask an administrator for a token that has it.",
        code="token-forbids",
    )


def only_a_person() -> Problem:
    """Return the problem of a program that asks for what only a person can do (403)."""
    return Problem(
        403,
        "Only a person can do this.",
        "It requires somebody who is logged in. Open Neat Latch in a browser.",
        code="person-required",
    )


def person_who(by: Actor) -> Person:
    """Return an actor that must be a person. Raises :class:`Problem` (403)."""
    if not isinstance(by, Person):
        raise only_a_person()
    return by
