"""The inventory as a file: exporting it, seeing what a file would change, applying it, and undoing
that.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from django.db import transaction
from django.utils import timezone

from neatlatch.core.inventory import reading, several_files
from neatlatch.core.inventory.merging import Change, Outcome
from neatlatch.desk.estate.connections import destinations
from neatlatch.desk.estate.connections.destinations import DestinationPermission, PermissionRequired
from neatlatch.desk.ground.common import heavy
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write

from . import blocks, planning
from .collecting import collect
from .models import ImportPlan, ImportStep, Origin, packed
from .planning import Preview, State

_KEPT_ORIGINS = 30
# How often a plan is made anew where something changed between working it out and opening it.
_TRIES = 3


def export(by: Actor) -> str:
    """The whole inventory as a file, noted as something that files may be made from."""
    content = collect()
    digest = reading.digest(content)
    stored = packed(content)
    with transaction.atomic():
        Origin.keep(digest, stored, by.username)
        Origin.objects.filter(
            pk__in=list(Origin.objects.values_list("pk", flat=True)[_KEPT_ORIGINS:])
        ).delete()
        write(by, "exported", "inventory", digest)
    return reading.write(content, digest)


# Ten thousand connections are a million values: seconds of processor time, and octets.
_READS_FOR, _READS_IN = 60, 1024 * 1024 * 1024


# A text is the only file; several have names.
Files = str | Sequence[several_files.InventoryFile]


def read(files: Files) -> reading.Inventory:
    """Files that were read, or a problem that names every mistake with its line."""
    several = [several_files.InventoryFile("", files)] if isinstance(files, str) else list(files)
    try:
        return heavy.run(several_files.read, several, seconds=_READS_FOR, memory=_READS_IN)
    except reading.BadInventory as error:
        raise planning.refused(error.mistakes) from error


def preview(files: Files, prune: bool, by: Actor | None = None) -> Preview:
    """What files would change. Nothing is changed. Raises :class:`Problem` with every mistake."""
    return planning.of_file(by, read(files), prune)


@dataclass(frozen=True)
class BegunImport:
    """An import: what it changes, and its plan (``None``: there is nothing to change)."""

    preview: Preview
    plan: ImportPlan | None

    @property
    def outcome(self) -> Outcome:
        """What it changes."""
        return self.preview.outcome


def nothing_to_check() -> None:
    """What is checked before a large import is left to the worker, where nothing is."""


def begin(
    by: Actor,
    files: Files,
    prune: bool = False,
    seen: str = "",
    leave: DestinationPermission | None = None,
    check: Callable[[], None] = nothing_to_check,
) -> BegunImport:
    """Begin to apply files.

    A plan that is one block is applied when this returns, or nothing is; of a larger one nothing is
    applied yet: the worker does it, or :func:`to_its_end`. ``seen`` names what the preview that
    somebody agreed to was compared with (empty: none was seen); ``leave`` is what to do where
    something that is held would go to a new place; ``check`` is called before a larger one is
    stored, and may raise. Raises :class:`Problem`.
    """
    inventory = read(files)
    return begin_planned(by, lambda: planning.of_file(by, inventory, prune), seen, leave, check)


def begin_planned(
    by: Actor,
    plan_it: Callable[[], Preview],
    seen: str = "",
    leave: DestinationPermission | None = None,
    check: Callable[[], None] = nothing_to_check,
    undoes: ImportPlan | None = None,
) -> BegunImport:
    """Begin to apply what a preview shows, as :func:`begin`."""
    blocks.forget_never_begun(timezone.now())
    for _ in range(_TRIES):
        shown = plan_it()
        if seen and seen != shown.standing:
            raise planning.changed_meanwhile()
        if leave is None and shown.moves:
            raise destinations.asking(shown.moves)
        if shown.outcome.nothing:
            if undoes is None:
                _record_no_change(by, shown)
            return BegunImport(shown, None)
        in_one = blocks.fit_in_one(shown.outcome.changes)
        if not in_one:
            check()
        plan = planning.store(by, shown, leave, undoes)
        if planning.check_still_so(plan, shown):
            return BegunImport(shown, _in_one(plan) if in_one else _left_to_others(plan))
        if seen:
            break
    raise planning.changed_meanwhile()


@transaction.atomic
def _record_no_change(by: Actor, shown: Preview) -> None:
    """A file that changes nothing was applied all the same: others of its origin are seen as made
    from it.
    """
    if shown.base:
        Origin.keep(shown.base, packed(shown.outcome.base), by.username)
    write(by, "applied", "inventory", shown.base or "without base", {"changes": 0})


def _in_one(plan: ImportPlan) -> ImportPlan:
    try:
        return blocks.apply_in_one(plan)
    except blocks.ChangeRefused as refused:
        raise refused.problem from refused
    except blocks.StepFailed as failed:
        if isinstance(failed.__cause__, PermissionRequired):
            raise failed.__cause__ from failed
        raise planning.refused([failed.mistake]) from failed


def _left_to_others(plan: ImportPlan) -> ImportPlan:
    ImportPlan.objects.filter(pk=plan.pk).update(worker="", worker_until=None)
    plan.refresh_from_db()
    return plan


def apply(
    by: Actor,
    files: Files,
    prune: bool = False,
    seen: str = "",
    leave: DestinationPermission | None = None,
) -> BegunImport:
    """Apply files to their end: :func:`begin`, and then all its blocks.

    Raises :class:`Problem`, too, where a block fails: what was applied before it stays.
    """
    begun = begin(by, files, prune, seen, leave)
    return BegunImport(begun.preview, to_its_end(begun.plan) if begun.plan is not None else None)


def to_its_end(
    plan: ImportPlan, progress: Callable[[ImportPlan], object] = lambda _: None
) -> ImportPlan:
    """Apply all that is left of a plan. Raises :class:`Problem` where it stopped."""
    if plan.is_open:
        blocks.work_on(plan, progress)
    if plan.state == State.STOPPED:
        title = f"Applying stopped: {plan.done:,} of {plan.total:,} changes were applied."
        raise Problem(
            422,
            title,
            f"{plan.problem} Mend the file and apply it again, or undo what was applied.",
            code="import-failed",
        )
    return plan


def check_may_undo(plan: ImportPlan) -> None:
    """Check that a plan can be undone. Raises :class:`Problem`."""
    if plan.is_open or plan.state not in (State.APPLIED, State.STOPPED):
        raise Problem(
            409,
            "This import has not ended.",
            "Stop it first, or wait until it has finished.",
            code="import-not-over",
        )
    if not plan.done:
        raise Problem(
            409,
            "Nothing of this import was applied.",
            "There is nothing to undo.",
            code="import-applied-nothing",
        )
    if plan.undone:
        raise Problem(
            409,
            "This import was undone already.",
            "To have it again, undo what undid it.",
            code="import-undone",
        )


def undo_preview(plan: ImportPlan, by: Actor | None = None) -> Preview:
    """What undoing a plan would change. Nothing is changed. Raises :class:`Problem`."""
    check_may_undo(plan)
    return planning.of_reverse(by, plan)


def undo(
    by: Actor,
    plan: ImportPlan,
    seen: str = "",
    leave: DestinationPermission | None = None,
    check: Callable[[], None] = nothing_to_check,
) -> BegunImport:
    """Begin to undo a plan, by the reverse of its stored steps, as :func:`begin`: what somebody
    changed since stays. Raises :class:`Problem`.
    """
    check_may_undo(plan)
    return begin_planned(by, lambda: planning.of_reverse(by, plan), seen, leave, check, plan)


@dataclass(frozen=True)
class ObjectChange:
    """What would happen to one object: add, change, remove, stay, kept or conflict."""

    kind: str
    key: str
    act: str
    says: list[str]
    line: int


def stop(by: Actor, plan: ImportPlan) -> ImportPlan:
    """Stop an import after the block that is being applied. Raises :class:`Problem`."""
    return blocks.stop(by, plan)


def step_as_shown(step: ImportStep) -> ObjectChange:
    """A stored step as the page and the command line show it."""
    content = planning.content_of(step)
    return ObjectChange(step.kind, step.key, step.act, content.says, content.line)


def object_change(change: Change) -> ObjectChange:
    """A change as the page and the command line show it."""
    return ObjectChange(change.kind, change.key, change.act, list(change.says), change.line)
