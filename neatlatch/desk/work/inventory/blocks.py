"""Applying a stored plan in blocks: each is a transaction of few rows, so others write in between.

A process that is killed leaves the plan after its last whole block; the worker goes on with it. A
block that fails changes nothing, and ends the plan: what was applied before it stays until it is
undone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import asdict, replace
from datetime import datetime, timedelta

import structlog
from django.db import DatabaseError, IntegrityError, transaction
from django.db.models import F, ProtectedError, Q
from django.utils import timezone

from neatlatch.core.inventory.merging import Change
from neatlatch.core.inventory.reading import Mistake
from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections.destinations import DestinationPermission
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.ground import won
from neatlatch.desk.ground.common import giving_way, owner, refusals
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write

from .applying import Applier
from .collecting import of_rows
from .models import ImportPlan, ImportStep, Origin, packed
from .planning import LEASE, State, content_of, discard
from .validating import of_problem

log = structlog.get_logger()
# What a block may cost, and what a step of each kind does (any other: 1). A connection takes some
# forty statements, a workload twenty-five; a change of an application or a client reaches all its
# connections.
COST = 20
_COSTS = {"connections": 3, "workloads": 2, "applications": 5, "deployments": 3, "clients": 2}
# A removal does as much as its services do: tokens, samples, what was issued.
_REMOVAL = 3
# So many plans are kept, for so long, to be undone.
_KEPT, _KEPT_FOR = 20, timedelta(days=30)
_STEPS_AT_ONCE = 400


class StepFailed(Exception):
    """A step of a plan cannot be applied; ``mistake`` says which, on what line, and why."""

    def __init__(self, mistake: Mistake) -> None:
        super().__init__(str(mistake))
        self.mistake = mistake


def cost_of(kind: str, act: str) -> int:
    """What a step does to the database, in the unit of :data:`COST`."""
    return max(_COSTS.get(kind, 1), _REMOVAL if act == "remove" else 0)


def fit_in_one(changes: Iterable[Change]) -> bool:
    """Whether changes are one block: then they are applied as a whole or not at all."""
    return sum(cost_of(change.kind, change.act) for change in changes if change.does) <= COST


def work_on(
    plan: ImportPlan, progress: Callable[[ImportPlan], object] = lambda _: None
) -> ImportPlan:
    """Apply what is left of a plan, unless another process is at it; the plan as it then is.

    ``progress`` is called after each block. Raises the database's refusal where it is not for long:
    the plan stays as it is, and the worker goes on with it.
    """
    worker = _claim(plan)
    if not worker:
        plan.refresh_from_db()
        return plan
    try:
        while (left := _next_block(plan)) is not None:
            _apply(plan, left, worker, patient=True)
            progress(plan)
            giving_way.let_others_write()
        if plan.is_open:
            _record_results(plan)
            won.until_saved(lambda: _finish(plan, worker), f"import-{plan.pk}")
    except _PlanTaken:
        plan.refresh_from_db()
    except StepFailed as failed:
        _stop(plan, f"{str(failed)[:1].upper()}{str(failed)[1:]}.")
    except DatabaseError as error:
        if not refusals.will_pass(error):
            _stop_for_a_fault(plan)
        raise
    except Exception:
        _stop_for_a_fault(plan)
        raise
    finally:
        ImportPlan.objects.filter(pk=plan.pk, worker=worker).update(worker="", worker_until=None)
    return plan


def apply_in_one(plan: ImportPlan) -> ImportPlan:
    """Apply a plan that is one block, as a whole or not at all: where a step fails, the plan is
    gone.

    Raises :class:`StepFailed`, :class:`Problem`. What goes wrong once the block is applied leaves
    the plan to the worker, which ends it: it can be undone like any other.
    """
    try:
        while (left := _next_block(plan)) is not None:
            _apply(plan, left, plan.worker, patient=False)
        _record_results(plan)
        won.until_saved(lambda: _finish(plan, plan.worker), f"import-{plan.pk}")
    except _PlanTaken:
        plan.refresh_from_db()
    except Exception:
        if plan.done:
            ImportPlan.objects.filter(pk=plan.pk, worker=plan.worker).update(
                worker="", worker_until=None
            )
        else:
            discard(plan)
        raise
    return plan


class _PlanTaken(Exception):
    """The plan was stopped, or taken over by another process."""


def _claim(plan: ImportPlan) -> str:
    """Take a plan on; the name of the lease, empty where another process has it."""
    now, mine = timezone.now(), owner.sign()
    held = ImportPlan.objects.filter(pk=plan.pk, state=State.APPLYING)
    for stands, until in held.values_list("worker", "worker_until"):
        if (
            stands
            and not owner.is_gone(stands)
            and (owner.is_alive(stands) or (until is not None and until > now))
        ):
            return ""
        if held.filter(worker=stands).update(worker=mine, worker_until=now + LEASE):
            plan.refresh_from_db()
            return mine
    return ""


def _next_block(plan: ImportPlan) -> list[ImportStep] | None:
    """The next steps of a plan, as many as make a block; ``None``: there are none left."""
    steps: list[ImportStep] = []
    cost = 0
    for step in plan.steps.filter(number__gt=plan.done, number__lte=plan.done + COST).order_by(
        "number"
    ):
        cost += cost_of(step.kind, step.act)
        if steps and cost > COST:
            break
        steps.append(step)
    return steps or None


def _apply(plan: ImportPlan, steps: list[ImportStep], worker: str, *, patient: bool) -> None:
    """Apply a block; ``patient``: however long the database is locked. Raises :class:`StepFailed`,
    and
    :class:`_PlanTaken`; then nothing was changed here.
    """
    for step in steps:
        _change_by_protocol(plan, step)
    if patient:
        won.until_saved(lambda: _apply_here(plan, steps, worker), f"import-{plan.pk}")
    else:
        _apply_here(plan, steps, worker)
    plan.done = steps[-1].number


@transaction.atomic
def _apply_here(plan: ImportPlan, steps: list[ImportStep], worker: str) -> None:
    mine = ImportPlan.objects.filter(
        pk=plan.pk, is_open=True, worker=worker, done=steps[0].number - 1
    )
    if not mine.update(own_turn=True, worker_until=timezone.now() + LEASE):
        raise _PlanTaken
    leave = DestinationPermission(plan.reason) if plan.reason or plan.lets_go else None
    applying = Applier(plan.by, leave)
    for step in steps:
        content = content_of(step)
        try:
            row = applying.apply(step.kind, step.key, step.act, content)
        except Problem as problem:
            raise StepFailed(of_problem(step.kind, step.key, content.line, problem)) from problem
        except ProtectedError as error:
            names = ", ".join(sorted({str(row) for row in error.protected_objects})[:3])
            raise StepFailed(
                _mistake(step, content.line, f"it is still used by {names}")
            ) from error
        except IntegrityError as error:
            says = "it clashes with something that was added meanwhile, or has the name of another"
            raise StepFailed(_mistake(step, content.line, says)) from error
        if (row and row != step.row) or not step.guarded:
            # What was added is guarded from now on, too: a later edit would count as the import's
            # own.
            ImportStep.objects.filter(pk=step.pk).update(row=row or step.row, guarded=True)
    ImportPlan.objects.filter(pk=plan.pk).update(own_turn=False, done=F("done") + len(steps))


def _mistake(step: ImportStep, line: int, says: str) -> Mistake:
    return Mistake(line or 1, f"{step.kind} → {step.key}", says)


def _change_by_protocol(plan: ImportPlan, step: ImportStep) -> None:
    """Change a client at its application, where that is managed by protocol; again is harmless."""
    if step.kind != "clients" or step.act != "change":
        return
    content = content_of(step)
    rows = Client.objects.select_related("deployment__application", "deployment__environment")
    client, wanted = rows.get(pk=content.client), content.after
    if not client.managed or client.management_token is None or wanted is None:
        return
    fields = ClientMetadata(
        wanted["name"],
        tuple(wanted["contacts"]),
        wanted["public"],
        tuple(wanted["redirect_uris"]),
        tuple(wanted["grants"]),
        frozenset(wanted["scopes"]),
        wanted["sign_in_method"],
    )
    if fields == client.fields():
        return
    step.guarded = False
    step.save(update_fields=["guarded"])
    try:
        clients.change(plan.by, client, lambda _: fields)
    except Problem as problem:
        raise ChangeRefused(
            step.key, of_problem(step.kind, step.key, content.line, problem), problem
        ) from problem


class ChangeRefused(StepFailed):
    """An application did not make the change of a client; ``problem`` is what it said."""

    def __init__(self, key: str, mistake: Mistake, problem: Problem) -> None:
        super().__init__(mistake)
        detail = f"{key}: {problem.detail} Nothing was applied here."
        self.problem = Problem(
            problem.status, problem.title, detail, problem.errors, code=problem.code
        )


def _record_results(plan: ImportPlan) -> None:
    """Record what became of the objects of a plan that is still open, where a service made
    something else of what was declared: by that it is known at an undo what was changed since.
    """
    steps = plan.steps.filter(number__lte=plan.done).exclude(row="")
    for kind in steps.order_by().values_list("kind", flat=True).distinct():
        last = 0
        while some := list(
            steps.filter(kind=kind, number__gt=last).order_by("number")[:_STEPS_AT_ONCE]
        ):
            last = some[-1].number
            _record_results_of(kind, some)


def _record_results_of(kind: str, steps: list[ImportStep]) -> None:
    now = of_rows(kind, [step.row for step in steps])
    noted: list[ImportStep] = []
    for step in steps:
        content = content_of(step)
        became = now[step.row].fields if step.row in now else None
        if became is not None and became != content.after:
            step.packed = packed(asdict(replace(content, after=became)))
            noted.append(step)
    ImportStep.objects.bulk_update(noted, ["packed"], batch_size=100)


@transaction.atomic
def _finish(plan: ImportPlan, worker: str) -> None:
    """All steps are applied: from now on files of this origin are seen as made from the new
    content.
    """
    mine = ImportPlan.objects.filter(pk=plan.pk, is_open=True, worker=worker)
    if not mine.update(state=State.APPLIED, is_open=False, ended=timezone.now()):
        raise _PlanTaken
    _record_origin(plan.who, plan)
    _record_undone(plan)
    did = "applied" if plan.undoes_id is None else "undid"
    write(plan.by, did, "inventory", plan.base or "without base", {"changes": plan.total})
    plan.refresh_from_db()


def _record_origin(username: str, plan: ImportPlan) -> None:
    """Keep what files of a plan's origin are from now on seen as made from. Part of the surrounding
    transaction."""
    if not plan.base or plan.base_after is None:
        return
    if plan.undoes is not None:
        # Only where no other file of this origin was applied since.
        rows = Origin.objects.filter(digest=plan.base, packed=plan.undoes.base_after)
        rows.update(packed=plan.base_after, at=timezone.now(), by=username)
        return
    Origin.keep(plan.base, plan.base_after, username)


def _record_undone(plan: ImportPlan) -> None:
    """Record what a plan undid: an import; or the undoing of one, which then is as it was.

    Part of the surrounding transaction.
    """
    earlier, undone = plan.undoes, True
    while earlier is not None:
        ImportPlan.objects.filter(pk=earlier.pk).update(undone=undone)
        earlier, undone = earlier.undoes, not undone


def _stop(plan: ImportPlan, problem: str, by: Actor | None = None) -> None:
    """End a plan before its last step; ``by`` is who stops it (``None``: it stops by itself, under
    whose name it is applied).
    """
    plan.refresh_from_db()
    if plan.is_open:
        _record_results(plan)

    @transaction.atomic
    def stop() -> None:
        ended = {
            "state": State.STOPPED,
            "is_open": False,
            "ended": timezone.now(),
            "problem": problem,
        }
        if ImportPlan.objects.filter(pk=plan.pk, is_open=True).update(**ended):
            plan.refresh_from_db()
            about = {"applied": plan.done, "of": plan.total, "why": problem}
            write(
                by or plan.by, "stopped applying", "inventory", plan.base or "without base", about
            )

    won.until_saved(stop, f"import-{plan.pk}")
    plan.refresh_from_db()


def _stop_for_a_fault(plan: ImportPlan) -> None:
    log.exception("a block of an import failed", plan=str(plan.pk), done=plan.done)
    _stop(plan, "Applying failed by a fault of Neat Latch. See the server log.")


def stop(by: Actor, plan: ImportPlan) -> ImportPlan:
    """Stop a plan after the block that is being applied.

    Raises :class:`Problem` where it has ended.
    """
    if not plan.is_open:
        raise Problem(
            409, "This import has ended.", "There is nothing to stop.", code="import-over"
        )
    _stop(plan, f"Stopped by {by.shown_name}.", by)
    return plan


def go_on(progress: Callable[[ImportPlan], object] = lambda _: None) -> None:
    """Go on with an import that nobody works on; ``progress`` is called after each block."""
    for plan in ImportPlan.objects.filter(state=State.APPLYING):
        work_on(plan, progress)


def forget_old(now: datetime) -> int:
    """Clear away plans that nobody undoes any more, and those that were never begun; how many."""
    kept = ImportPlan.objects.order_by("-begun").values_list("pk", flat=True)[:_KEPT]
    ended = ImportPlan.objects.filter(state__in=(State.APPLIED, State.STOPPED))
    old = list(ended.filter(Q(begun__lt=now - _KEPT_FOR) | ~Q(pk__in=list(kept))))
    for plan in old:
        discard(plan)
    return len(old) + forget_never_begun(now)


def forget_never_begun(now: datetime) -> int:
    """Clear away plans whose process ended before anything of them was applied; how many."""
    never_begun = ImportPlan.objects.filter(state__in=(State.STORING, State.CHECKING))
    gone = [
        plan
        for plan in never_begun
        if owner.is_gone(plan.worker) or plan.begun < now - timedelta(hours=1)
    ]
    for plan in gone:
        discard(plan)
    return len(gone)
