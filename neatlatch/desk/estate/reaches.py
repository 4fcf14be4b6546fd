"""Limits of people's rights: the environments, applications and teams that they act within.

A team stands for the applications that it owns. A person with limits looks at everything that their
role shows, and acts only on what is within.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from django.db import transaction

from neatlatch.core.reach import Reach
from neatlatch.desk.estate.records.applications.models import Application, Environment
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.models import Person, Team
from neatlatch.desk.ground.people.services import LAST_ADMINISTRATOR, is_last_administrator

# Of each kind, so many can be named.
MOST = 100


@dataclass(frozen=True)
class Limits:
    """What somebody acts within: keys of environments and of applications, names of teams; empty:
    not limited by that.
    """

    environments: tuple[str, ...] = ()
    applications: tuple[str, ...] = ()
    teams: tuple[str, ...] = ()

    @classmethod
    def of(cls, kept: Mapping[str, Sequence[str]]) -> Limits:
        """Read them as a person keeps them, or as a file names them."""
        return cls(*(tuple(kept.get(name) or ()) for name in cls.__dataclass_fields__))

    def plain(self) -> dict[str, list[str]]:
        """Return them as a person keeps them; empty: no limits."""
        return {name: sorted(set(keys)) for name, keys in vars(self).items() if keys}


def reach_of(person: Person) -> Reach:
    """Return how far a person's rights reach."""
    limits = Limits.of(person.limits)
    applications: frozenset[str] | None = None
    if limits.applications or limits.teams:
        applications = frozenset(limits.applications)
    if limits.teams:
        owned = Application.objects.filter(owner__team__name__in=limits.teams)
        applications = (applications or frozenset()) | set(owned.values_list("key", flat=True))
    return Reach(frozenset(limits.environments) or None, applications)


@transaction.atomic
def limit(by: Actor, person: Person, limits: Limits) -> Person:
    """Limit a person's rights, or lift the limits. Raises a field error for what is not there, and
    for the last administrator.
    """
    wrong = {
        name: said
        for name, keys, known in (
            (
                "environments",
                limits.environments,
                Environment.objects.values_list("key", flat=True),
            ),
            (
                "applications",
                limits.applications,
                Application.objects.filter(key__in=limits.applications).values_list(
                    "key", flat=True
                ),
            ),
            (
                "teams",
                limits.teams,
                Team.objects.filter(name__in=limits.teams).values_list("name", flat=True),
            ),
        )
        if (said := _unknown(name.removesuffix("s"), keys, known))
    }
    if wrong:
        raise wrong_fields(wrong)
    return set_limits(by, person, limits)


@transaction.atomic
def set_limits(by: Actor, person: Person, limits: Limits) -> Person:
    """:func:`limit`, where what is named may come later, as in a file. Raises a field error for the
    last administrator.
    """
    person = Person.objects.select_for_update().get(pk=person.pk)
    wanted = limits.plain()
    if wanted == person.limits:
        return person
    if wanted and is_last_administrator(person):
        raise wrong_fields({"environments": LAST_ADMINISTRATOR})
    before, person.limits = person.limits, wanted
    person.save(update_fields=["limits"])
    write(
        by,
        "limited",
        "person",
        person.username,
        {"before": before or "none", "after": wanted or "none"},
    )
    return person


def _unknown(what: str, keys: Sequence[str], known: Iterable[str]) -> str:
    if len(keys) > MOST:
        return f"At most {MOST} can be named."
    lacking = sorted(set(keys) - set(known))
    return f"There is no {what} “{lacking[0][:80]}”." if lacking else ""


def renamed_team(before: str, after: str) -> None:
    """Limits follow a team that was given another name. Part of the surrounding transaction."""
    if before == after:
        return
    for person in Person.objects.exclude(limits={}).select_for_update():
        limits = Limits.of(person.limits)
        if before in limits.teams:
            teams = tuple(after if name == before else name for name in limits.teams)
            person.limits = Limits(limits.environments, limits.applications, teams).plain()
            person.save(update_fields=["limits"])
