"""One change made to many objects of a list: an owner, a test interval, a pause, tags.

Each object is changed by its own service, in a transaction of its own, so that nobody waits for the
whole; what one refuses stays as it is and is reported, and the others are changed.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal

from django.db import transaction
from django.db.models import Model, QuerySet

from neatlatch.core import annotating
from neatlatch.core.annotating import BadAnnotation
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.credentials import owned as credentials
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common import giving_way
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people.models import Owner

ObjectList = Literal["applications", "connections", "credentials", "workloads"]
# So many objects are changed by one call; a caller that has more calls again.
BLOCK = 100


@dataclass(frozen=True)
class BulkChange:
    """What is changed; ``None`` and empty: stays. ``owner`` as :func:`owners.named` reads it (empty
    text: nobody), ``test_interval`` in minutes (0: every round).
    """

    owner: str | None = None
    paused: bool | None = None
    test_interval: int | None = None
    add_tags: tuple[str, ...] = ()
    remove_tags: tuple[str, ...] = ()

    def checked(self, of: ObjectList) -> BulkChange:
        """The same, tidied. Raises field errors, also for what objects of the list do not have."""
        kind, errors = _KINDS[of], {}
        for name in ("owner", "paused", "test_interval"):
            if getattr(self, name) is not None and name not in kind.fields:
                errors[name] = kind.lacks[name]
        tags: dict[str, tuple[str, ...]] = {}
        for name in ("add_tags", "remove_tags"):
            try:
                tags[name] = tuple(annotating.tag(text) for text in getattr(self, name))
            except BadAnnotation as error:
                errors[name] = str(error)
        if self.test_interval is not None:
            errors |= connections.out_of_bounds({"test_interval": self.test_interval})
        if not errors and set(tags["add_tags"]) & set(tags["remove_tags"]):
            errors["remove_tags"] = "The same tag cannot be added and removed."
        if errors:
            raise wrong_fields(errors)
        if self.owner is not None:
            owners.check_named(self.owner)
        checked = BulkChange(self.owner, self.paused, self.test_interval, **tags)
        if checked == BulkChange():
            raise Problem(
                422, "Nothing would change.", "Choose what to change.", code="nothing-would-change"
            )
        return checked


@dataclass(frozen=True)
class Refusal:
    """An object that was not changed, and why."""

    name: str
    says: str


@dataclass
class BulkResult:
    """What one call has done: how many objects were changed, how many were so already, which
    refused; ``after`` is the key of the last, to go on from (``None``: there are no more).
    """

    changed: int = 0
    unchanged: int = 0
    refused: list[Refusal] = field(default_factory=list)
    after: Any = None


def change(
    by: Actor, of: ObjectList, rows: QuerySet[Any], wanted: BulkChange, after: Any = None
) -> BulkResult:
    """Change the next objects of a list, in the order of their keys, after the one with the key
    ``after`` (``None``: from the first).

    Raises :class:`Problem` where the requested change cannot be made to objects of this list.
    """
    kind, wanted = _KINDS[of], wanted.checked(of)
    rows = rows.filter(pk__gt=after) if after is not None else rows
    keys = list(rows.order_by("pk").values_list("pk", flat=True)[: BLOCK + 1])
    result = BulkResult(after=keys[BLOCK - 1] if len(keys) > BLOCK else None)
    for key in keys[:BLOCK]:
        _change_one(by, kind, key, wanted, result)
    if result.after is not None:
        giving_way.let_others_write()
    return result


def _change_one(by: Actor, kind: _Kind, key: Any, wanted: BulkChange, result: BulkResult) -> None:
    row = kind.rows().filter(pk=key).first()
    if row is None:  # gone meanwhile
        return
    try:
        with transaction.atomic():
            changes = [step(by, row, wanted) for step in kind.steps]
            if wanted.add_tags or wanted.remove_tags:
                changes.append(
                    object_notes.change_tags(by, row, wanted.add_tags, wanted.remove_tags)
                )
    except Problem as problem:
        says = next(iter(problem.errors.values()), "") or f"{problem.title} {problem.detail}"
        result.refused.append(Refusal(kind.name_of(row), says.strip()))
        return
    if any(changes):
        result.changed += 1
    else:
        result.unchanged += 1


Step = Callable[[Actor, Any, BulkChange], bool]


@dataclass(frozen=True)
class _Kind:
    """A kind of object: the changes that it takes, and why it does not take the others."""

    rows: Callable[[], QuerySet[Any]]
    name_of: Callable[[Any], str]
    steps: tuple[Step, ...]
    fields: frozenset[str]
    lacks: dict[str, str] = field(default_factory=dict)


def _owned(give: Callable[[Actor, Any, str], object]) -> Step:
    """The step that gives an object another owner by its service; one that has this owner already
    stays.
    """

    def step(by: Actor, row: Any, wanted: BulkChange) -> bool:
        if wanted.owner is None:
            return False
        owner: Owner | None = owners.named(wanted.owner)
        if owner == row.owner:
            return False
        give(by, row, owner.key if owner is not None else "")
        return True

    return step


def _test_connection(by: Actor, row: Connection, wanted: BulkChange) -> bool:
    how = {"paused": wanted.paused, "test_interval": wanted.test_interval}
    how = {name: value for name, value in how.items() if value is not None}
    return bool(how) and connections.change_how_tested(by, row, how)


_NOT_TESTED = {
    "paused": "Only connections are paused.",
    "test_interval": "Only connections have a test interval.",
}
_OWNED = frozenset({"owner"})
_KINDS: dict[ObjectList, _Kind] = {
    "applications": _Kind(
        lambda: Application.objects.select_related("owner"),
        lambda row: str(row.name),
        (_owned(lambda by, row, owner: applications.change(by, row, {"owner": owner})),),
        _OWNED,
        _NOT_TESTED,
    ),
    "connections": _Kind(
        lambda: Connection.objects.all(),
        lambda row: str(row.ref),
        (_test_connection,),
        frozenset({"paused", "test_interval"}),
        {"owner": "A connection has no owner of its own: its application and its workloads do."},
    ),
    "credentials": _Kind(
        lambda: Credential.objects.select_related("owner").defer("value"),
        lambda row: str(row.hint),
        (_owned(credentials.give),),
        _OWNED,
        _NOT_TESTED,
    ),
    "workloads": _Kind(
        lambda: Workload.objects.select_related("owner", "environment"),
        lambda row: f"{row.name} ({row.environment.name})",
        (_owned(lambda by, row, owner: workloads.change(by, row, {"owner": owner})),),
        _OWNED,
        _NOT_TESTED,
    ),
}


def production_of(of: ObjectList, rows: QuerySet[Any]) -> QuerySet[Any]:
    """Those of some objects that are in a production environment."""
    column = {
        "applications": "deployments__environment__production",
        "connections": "deployment__environment__production",
        "credentials": "client__deployment__environment__production",
        "workloads": "environment__production",
    }[of]
    model: type[Model] = rows.model
    inside = model._default_manager.filter(**{column: True}).order_by().values("pk")
    return rows.filter(pk__in=inside)


def names(of: ObjectList, rows: QuerySet[Any]) -> list[str]:
    """What some objects are called."""
    kind = _KINDS[of]
    keys = list(rows.order_by().values_list("pk", flat=True))
    return sorted(kind.name_of(row) for row in kind.rows().filter(pk__in=keys))
