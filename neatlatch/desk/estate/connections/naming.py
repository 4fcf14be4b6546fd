"""What connections are called: their names and references, changes of names, and names they had."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models.functions import Coalesce
from django.utils import timezone

from neatlatch.core import references
from neatlatch.core.references import Proposal
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.connections.models import Connection, FormerName
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, not_found, wrong_fields
from neatlatch.desk.ground.journal.services import write

# How long a former name still serves after it was last drawn by.
SERVES = timedelta(days=30)
# A use of a former name is recorded once in this time.
_RECORDED_EVERY = timedelta(hours=1)
_MOST_CANDIDATES = 20
# Names read for a page of proposals, and the proposals of a page.
_MOST_READ, MOST_PROPOSED = 5_000, 100


def named(deployment: Deployment, name: str) -> dict[str, str]:
    """The name and the reference of a connection in a deployment, as the fields of a new one."""
    return {"name": name, "ref": references.write(deployment.environment.key, name)}


def obstacle(deployment: Deployment, name: str, own: Connection | None = None) -> str:
    """Why a new connection in a deployment, or its ``own``, cannot have a name (empty: it can)."""
    if not references.is_name(name):
        return references.WRONG_NAME
    reference = references.write(deployment.environment.key, name)
    former = FormerName.objects.filter(environment=deployment.environment_id, name=name)
    if own is not None:
        former = former.exclude(connection=own)
    if Connection.objects.filter(ref=reference).exists():
        return f"The name {reference} is taken."
    if (kept := former.select_related("connection").first()) is not None:
        return (
            f"{reference} is a former name of {kept.connection.ref}, by which workloads may still "
            f"draw it. End that on the page of {kept.connection.ref} first."
        )
    return ""


def check_free(deployment: Deployment, name: str, own: Connection | None = None) -> None:
    """Raise a field error where a connection cannot have a name (:func:`obstacle`)."""
    if says := obstacle(deployment, name, own):
        raise wrong_fields({"name": says})


def free_name(deployment: Deployment, wanted: str = "") -> str:
    """A name that is free in an environment: the wanted one or the application's key, with a number
    where that is taken.
    """
    base = wanted or deployment.application.key
    starts = references.write(deployment.environment.key, base)
    named_so = Connection.objects.filter(ref__gte=starts, ref__lt=f"{starts}~")
    formerly = FormerName.objects.filter(
        environment=deployment.environment_id, name__gte=base, name__lt=f"{base}~"
    )
    taken = {*named_so.values_list("name", flat=True), *formerly.values_list("name", flat=True)}
    name, number = base, 2
    while name in taken:
        name, number = f"{base}-{number}", number + 1
    return name


def no_connection(reference: str) -> Problem:
    """Nothing has this reference; one without its environment is told the candidates, and a former
    one what it became.
    """
    environment, slash, name = reference.partition("/")
    if slash and (became := _became(environment, name)):
        return Problem(
            404,
            "This connection has another name.",
            f"It is {became} now.",
            candidates=[became],
            code="connection-renamed",
        )
    bare = environment
    if slash and Environment.objects.filter(key=environment).exists():
        return not_found("connection")
    candidates = candidates_for(bare)
    if not candidates:
        return not_found("connection")
    return Problem(
        404,
        "A connection is named together with its environment.",
        f"Write {references.alternatives(candidates)} in place of {bare}.",
        candidates=candidates,
        code="connection-needs-environment",
    )


def candidates_for(name: str) -> list[str]:
    """The references of connections with a name, whatever their environment."""
    rows = Connection.objects.filter(name=name).order_by("ref")
    return list(rows.values_list("ref", flat=True)[:_MOST_CANDIDATES])


def _became(environment: str, name: str) -> str:
    former = FormerName.objects.filter(environment__key=environment, name=name)
    return former.values_list("connection__ref", flat=True).first() or ""


@transaction.atomic
def rename(by: Actor, connection: Connection, name: str) -> Connection:
    """Give a connection another name. The old one goes on working for draws until nobody has used
    it for 30 days. Raises a field error.
    """
    rows = Connection.objects.select_for_update().select_related("deployment__environment")
    renamed = rows.get(pk=connection.pk)
    if renamed.name == name:
        return renamed
    deployment = renamed.deployment
    check_free(deployment, name, own=renamed)
    FormerName.objects.filter(environment=deployment.environment_id, name=name).delete()
    FormerName.objects.create(
        environment=deployment.environment,
        name=renamed.name,
        connection=renamed,
        changed_at=timezone.now(),
        changed_by=by.username,
    )
    before = renamed.ref
    renamed.name, renamed.ref = name, references.write(deployment.environment.key, name)
    renamed.version += 1
    # ``changed_at`` stays: a test sends the same under any name, so what was proven is.
    renamed.changed_by = by.username
    renamed.save(update_fields=["name", "ref", "version", "changed_by"])
    write(by, "renamed", "connection", renamed.ref, {"from": before})
    return renamed


@dataclass(frozen=True)
class RenameResult:
    """What became of a connection that was to be renamed. ``problem`` says why it was not."""

    ref: str
    became: str
    problem: str = ""


def rename_all(by: Actor, wanted: Sequence[tuple[str, str]]) -> list[RenameResult]:
    """Rename connections, given as reference and name, each by itself."""
    found = []
    for reference, name in wanted:
        connection = Connection.objects.filter(ref=reference).first()
        try:
            if connection is None:
                raise no_connection(reference)
            found.append(RenameResult(reference, rename(by, connection, name).ref))
        except Problem as problem:
            says = next(iter(problem.errors.values()), problem.detail)
            found.append(RenameResult(reference, "", says))
    return found


@dataclass(frozen=True)
class ProposalPage:
    """A page of proposals; ``following`` is where the next page begins (empty: there is none)."""

    proposals: list[Proposal]
    following: str


def proposals(after: str = "") -> ProposalPage:
    """Names without their environment for connections that say it twice, in the order of their
    references, after one of them.
    """
    rows = Connection.objects.filter(ref__gt=after).order_by("ref")
    names = list(rows.values_list("deployment__environment__key", "name")[:_MOST_READ])
    saying = [pair for pair in names if references.joined_name(pair[1], pair[0]) != pair[1]]
    shown = saying[:MOST_PROPOSED]
    following = ""
    if len(saying) > len(shown):
        following = references.write(*shown[-1])
    elif len(names) == _MOST_READ:
        following = references.write(*names[-1])
    return ProposalPage(references.propose(shown, _taken(shown)), following)


def _taken(names: list[tuple[str, str]]) -> dict[str, str]:
    """Which of the references that these names would be joined to are not free, and what has
    each.
    """
    wanted = {
        references.write(environment, joined): references.write(environment, name)
        for environment, name in names
        if (joined := references.joined_name(name, environment)) != name
    }
    connections = Connection.objects.filter(ref__in=wanted).values_list("ref", flat=True)
    taken = dict.fromkeys(connections, "another connection")
    former = FormerName.objects.filter(name__in={ref.partition("/")[2] for ref in wanted})
    rows = former.values_list("environment__key", "name", "connection__ref")
    for environment, name, ref in rows:
        reference = references.write(environment, name)
        if wanted.get(reference, ref) != ref:
            taken.setdefault(reference, f"{ref}, formerly")
    return taken


def drawn_by_former(environment: Environment, name: str) -> FormerName | None:
    """The connection that had a name in an environment, where it still serves."""
    rows = FormerName.objects.filter(environment=environment, name=name)
    return rows.select_related("connection").first()


def record_use(former: FormerName, workload: str, now: datetime) -> None:
    """Record that a workload drew by a former name; hourly at most."""
    if former.used_at is None or now - former.used_at >= _RECORDED_EVERY:
        FormerName.objects.filter(pk=former.pk).update(used_at=now, used_by=workload[:200])


@transaction.atomic
def end_former(by: Actor, connection: Connection, name: str) -> None:
    """End a former name at once: draws by it are refused from now on. Raises :class:`Problem`."""
    ended, _ = FormerName.objects.filter(connection=connection, name=name).delete()
    if not ended:
        raise not_found("former name")
    write(by, "ended a former name", "connection", connection.ref, {"name": name})


def ends(former: FormerName) -> datetime:
    """When a former name ends, unless somebody draws by it before."""
    return (former.used_at or former.changed_at) + SERVES


def end_unused(now: datetime) -> int:
    """End the former names that nobody has drawn by for 30 days; returns how many."""
    unused = FormerName.objects.alias(last=Coalesce("used_at", "changed_at"))
    return unused.filter(last__lt=now - SERVES).delete()[0]
