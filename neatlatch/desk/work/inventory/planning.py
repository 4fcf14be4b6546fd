"""Planning an import: what a file would change, checked whole, and stored step by step.

Nothing here holds the write lock for longer than a block of steps takes to be written down.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, replace
from datetime import timedelta
from itertools import islice
from typing import Any
from uuid import UUID

from django.db import IntegrityError, transaction
from django.utils import timezone

from neatlatch.core.inventory import merging, reading, small_files, undoing, within_reach
from neatlatch.core.inventory.merging import Change, Outcome
from neatlatch.core.inventory.shape import BY_NAME, KINDS, Content, full
from neatlatch.core.program_tokens import ProgramRight
from neatlatch.desk.estate.connections.destinations import DestinationPermission, Move
from neatlatch.desk.ground.common import giving_way, narrowed, owner
from neatlatch.desk.ground.common.actors import Actor, ProgramCaller
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.people.actors import lacks_right

from . import moving, validating
from .collecting import CurrentState, ObjectNow, collected, of_rows
from .models import ImportPlan, ImportStep, Origin, packed, unpacked
from .plain import PlainFields

State = ImportPlan.State
# So long a plan is left to the process that works on it, where nobody can say whether it lives.
LEASE = timedelta(seconds=60)
# Kinds of objects that are people, or say who sees what together.
_OF_PEOPLE = frozenset({"people", "teams"})
_STORED_AT_ONCE, _DELETED_AT_ONCE, _READ_AT_ONCE = 400, 2_000, 400


@dataclass(frozen=True)
class Preview:
    """What a file would change."""

    outcome: Outcome
    # Names all that it would change and every conflict, with the values before and after.
    standing: str
    # Whether it is known what the file was made from.
    base_known: bool
    # What it would send to a new place.
    moves: list[Move]
    # The digest of what the file was made from, as the file says; empty: it does not say.
    base: str
    # Everything as it is now.
    now: CurrentState


@dataclass(frozen=True)
class StepContent:
    """What a step does to its object."""

    # In words.
    says: list[str]
    # The line of the file; 0: it has none.
    line: int
    # The object before and after; ``None``: there is none.
    before: PlainFields | None
    after: PlainFields | None
    # The ID of the client that the object belongs to or is; empty: of none.
    client: str


def content_of(step: ImportStep) -> StepContent:
    """What a stored step does."""
    return StepContent(**unpacked(step.packed))


def of_file(by: Actor | None, inventory: reading.Inventory, prune: bool) -> Preview:
    """What a file would change, checked by every rule.

    Raises :class:`Problem` with each mistake.
    """
    _check_reach(inventory, prune)
    now = collected()
    origin = Origin.objects.filter(digest=inventory.base).first() if inventory.base else None
    if missing := list(
        islice(small_files.lacking(inventory.lacking, now.content), reading.MOST_MISTAKES)
    ):
        raise refused(missing)
    content = small_files.with_client_ids(inventory.content, now.content)
    renames = merging.client_renames(content, now.content)
    wanted = merging.with_renamed_clients(content, renames)
    said = {
        (kind, renames.get(key, key) if kind == "clients" else key): names
        for (kind, key), names in inventory.said.items()
    }
    if not inventory.base:
        wanted = small_files.completed(small_files.with_whole_profiles(wanted), said, now.content)
    base = None
    if origin is not None:
        base = _refilled(origin.content)
        base = merging.with_renamed_clients(base, merging.client_renames(base, now.content))
    lines = dict(inventory.lines)
    for before, after in renames.items():
        lines["clients", after] = lines.get(("clients", before), 0)
    references = tuple(
        replace(reference, named=renames.get(reference.named, reference.named))
        if reference.kind == "clients"
        else reference
        for reference in inventory.references
    )
    outcome = merging.merge(now.content, wanted, base, lines, prune)
    base_known = origin is not None
    return _checked(by, now, outcome, references, inventory.base, base_known, files=inventory.files)


def _in_file(mistake: reading.Mistake, files: Mapping[tuple[str, str], str]) -> reading.Mistake:
    """A mistake with the name of its file, where there are several."""
    kind, _, rest = mistake.where.partition(" → ")
    return replace(mistake, file=files.get((kind, rest.partition(" → ")[0]), ""))


def _refilled(content: Content) -> Content:
    """A content that was kept before fields were added, with what leaving them out means."""
    return {
        kind.name: {key: full(kind, fields) for key, fields in content.get(kind.name, {}).items()}
        for kind in KINDS
    }


def of_reverse(by: Actor | None, plan: ImportPlan) -> Preview:
    """What undoing a plan would change: all that its steps changed goes back to what it was, and
    what was changed since stays, with all that it uses. Raises :class:`Problem` with each mistake.
    """
    now = collected()
    wanted: Content = {kind: dict(some) for kind, some in now.content.items()}
    base: Content = {kind: dict(some) for kind, some in now.content.items()}
    names = names_by_id(now.content)
    for step in plan.steps.filter(number__lte=plan.done).iterator(chunk_size=2_000):
        content = content_of(step)
        key = names.get(content.client, step.key) if step.kind == "clients" else step.key
        for some, fields in ((wanted, content.before), (base, content.after)):
            if fields is None:
                some[step.kind].pop(key, None)
            else:  # filled up: the plan may be older than a field
                some[step.kind][key] = full(BY_NAME[step.kind], fields)
    outcome = merging.merge(now.content, wanted, base, {}, prune=True)
    outcome.changes = [_of_undo(change) for change in outcome.changes]
    undoing.keep_what_is_used(outcome, now.content)
    return _checked(by, now, outcome, (), plan.base, True, undo=True)


def _of_undo(change: Change) -> Change:
    """A change as an undo tells it: there is no file."""
    if change.act == "remove":
        return replace(change, says=("the import added it",))
    if change.act in ("kept", "conflict"):
        return replace(change, says=("changed since; it stays as it is", *change.says[1:]))
    return change


def names_by_id(content: Content) -> dict[str, str]:
    """How clients are named in a content, by their IDs."""
    return {client["id"]: key for key, client in content["clients"].items()}


def of_wanted(
    by: Actor | None, now: CurrentState, wanted: Content, lines: dict[tuple[str, str], int]
) -> Preview:
    """What making some objects so would change; all others stay. Raises :class:`Problem` with each
    mistake."""
    outcome = merging.merge(now.content, wanted, None, lines)
    return _checked(by, now, outcome, (), "", False)


def _checked(
    by: Actor | None,
    now: CurrentState,
    outcome: Outcome,
    references: tuple[reading.Reference, ...],
    base: str,
    base_known: bool,
    *,
    undo: bool = False,
    files: Mapping[tuple[str, str], str] | None = None,
) -> Preview:
    if any(change.does and change.kind in _OF_PEOPLE for change in outcome.changes):
        _check_may_change_people(by)
    if wrong := validating.mistakes(by, now, outcome, references):
        raise refused([_in_file(mistake, files or {}) for mistake in wrong], undo=undo)
    found = moving.moves(outcome)
    outcome.changes = moving.with_moves(outcome, found)
    return Preview(outcome, _standing(now, outcome), base_known, found, base, now)


def _check_reach(inventory: reading.Inventory, prune: bool) -> None:
    """A caller who is held to some environments or applications imports what is within. Raises
    :class:`Problem` (403).
    """
    for reach in narrowed.reaches():
        if reach.is_everywhere:
            continue
        if said := "what the file leaves out" if prune else within_reach.beyond(inventory, reach):
            raise Problem(
                403,
                "This file reaches further than your rights.",
                f"They hold for {reach.in_words()} only, and it says: {said[:300]}. Of what is "
                "within, a file may name deployments, clients, connections and workloads, without "
                "“base”, and without secrets and IDs.",
                code="file-beyond-reach",
            )


def _check_may_change_people(by: Actor | None) -> None:
    """A program changes people only with the right for it; a person who changes anything may."""
    if isinstance(by, ProgramCaller) and not by.grant.holds(ProgramRight.PEOPLE):
        raise lacks_right(ProgramRight.PEOPLE)


def _standing(now: CurrentState, outcome: Outcome) -> str:
    """Names what somebody agrees to.

    What the plan leaves alone is not part of it: it may change.
    """
    shown = [
        [
            change.kind,
            change.key,
            change.act,
            change.says,
            _before(now, change),
            outcome.content[change.kind].get(change.key),
        ]
        for change in outcome.changes
        if change.does or change.act == "conflict"
    ]
    return hashlib.sha256(
        json.dumps(shown, sort_keys=True, ensure_ascii=False).encode()
    ).hexdigest()[:24]


def _before(now: CurrentState, change: Change) -> PlainFields | None:
    return now.content.get(change.kind, {}).get(change.key)


def refused(mistakes: list[reading.Mistake], *, undo: bool = False) -> Problem:
    """That a file, or an undo, is refused for these mistakes, which are told by their lines."""
    count = len(mistakes)
    says = [
        f"{mistake.where}: {mistake.says}" if undo else str(mistake) for mistake in mistakes[:3]
    ]
    detail = " ".join(f"{text[:1].upper()}{text[1:].rstrip('.')}." for text in says)
    detail += f" And {count - 3:,} more." if count > 3 else ""
    at_least = "At least " if count == reading.MOST_MISTAKES else ""
    many = "One thing is" if count == 1 else f"{at_least}{count:,} things are"
    title = f"{many} wrong with the file; nothing was changed."
    if undo:
        title = (
            f"This import cannot be undone for "
            f"{'one reason' if count == 1 else f'{count} reasons'}; nothing was changed."
        )
    shown = [
        {
            "file": mistake.file,
            "line": mistake.line,
            "where": mistake.where,
            "says": mistake.says,
        }
        for mistake in mistakes[:200]
    ]
    return Problem(422, title, detail, {"text": detail}, mistakes=shown, code="inventory-mistakes")


# Clients come before the credentials that are theirs; in the file it is the other way round.
_ORDER = [kind.name for kind in KINDS if kind.name not in ("credentials", "clients")]
_ORDER[_ORDER.index("connections") : _ORDER.index("connections")] = ["clients", "credentials"]


def in_order(preview: Preview) -> list[Change]:
    """The changes that do something, in the order in which they are applied.

    What an application itself must accept comes first, so that its refusal finds nothing changed.
    """
    doing = [change for change in preview.outcome.changes if change.does]
    at = {kind: place for place, kind in enumerate(_ORDER)}

    def place(change: Change) -> tuple[int, int]:
        if change.act == "remove":
            return 2, -at[change.kind]
        return (0 if is_managed_by_protocol(change, preview) else 1), at[change.kind]

    return sorted(doing, key=place)


def is_managed_by_protocol(change: Change, preview: Preview) -> bool:
    """Whether a change is of a client that its application itself changes (RFC 7592)."""
    return change.kind == "clients" and change.act == "change" and change.key in preview.now.managed


def store(
    by: Actor,
    preview: Preview,
    leave: DestinationPermission | None,
    undoes: ImportPlan | None = None,
) -> ImportPlan:
    """Store what a preview shows as a plan, and open it: from then on nobody else changes its
    objects.

    Raises :class:`Problem` where another import is open.
    """
    outcome, changes = preview.outcome, in_order(preview)
    acts = [change.act for change in outcome.changes]
    before = Origin.objects.filter(digest=preview.base).values_list("packed", flat=True).first()
    after = (
        undoes.base_before if undoes is not None else packed(outcome.base) if preview.base else None
    )
    plan = ImportPlan.objects.create(
        who=by.username,
        begun=timezone.now(),
        total=len(changes),
        adds=acts.count("add"),
        changes=acts.count("change"),
        removes=acts.count("remove"),
        conflicts=acts.count("conflict"),
        undoes=undoes,
        reason=leave.reason if leave is not None else "",
        lets_go=leave is not None and not leave.reason,
        base=preview.base,
        base_before=before,
        base_after=after,
        worker=owner.sign(),
        worker_until=timezone.now() + LEASE,
    )
    steps = _steps(plan, preview, changes)
    while block := list(islice(steps, _STORED_AT_ONCE)):
        ImportStep.objects.bulk_create(block)
        if len(block) == _STORED_AT_ONCE:
            giving_way.let_others_write()
    try:
        with transaction.atomic():
            ImportPlan.objects.filter(pk=plan.pk).update(state=State.CHECKING, is_open=True)
    except IntegrityError as error:
        discard(plan)
        raise another_open() from error
    plan.refresh_from_db()
    return plan


def discard(plan: ImportPlan) -> None:
    """Remove a plan and its steps, a block of them after another."""
    for start in range(0, plan.total, _DELETED_AT_ONCE):
        plan.steps.filter(number__gt=start, number__lte=start + _DELETED_AT_ONCE).delete()
        if start + _DELETED_AT_ONCE < plan.total:
            giving_way.let_others_write()
    plan.delete()


def another_open() -> Problem:
    """That another import is being applied."""
    return Problem(
        409,
        "Another import is being applied.",
        "Wait until it has finished, or stop it on the Inventory page. Nothing was changed.",
        code="another-import",
    )


def _steps(plan: ImportPlan, preview: Preview, changes: list[Change]) -> Iterator[ImportStep]:
    outcome = preview.outcome
    for number, change in enumerate(changes, start=1):
        before = _before(preview.now, change)
        after = outcome.content[change.kind].get(change.key)
        if change.kind == "people" and change.act == "remove" and before is not None:
            after = {**before, "active": False}  # somebody who leaves stays, and logs in no more
        content = StepContent(
            list(change.says),
            change.line,
            before,
            after,
            _client_of(change, before, after, outcome.content),
        )
        yield ImportStep(
            plan=plan,
            number=number,
            kind=change.kind,
            key=change.key,
            act=change.act,
            row=preview.now.rows.get((change.kind, change.key), ""),
            packed=packed(asdict(content)),
        )


def _client_of(
    change: Change, before: PlainFields | None, after: PlainFields | None, content: Content
) -> str:
    fields: dict[str, Any] = after or before or {}
    if change.kind == "clients":
        return str(UUID(fields["id"]))
    if name := fields.get("client"):
        client = content["clients"].get(name)
        return str(UUID(client["id"])) if client is not None else ""
    return ""


def check_still_so(plan: ImportPlan, preview: Preview) -> bool:
    """Whether each object of a plan is still as the preview found it; else the plan is removed.

    Asked once a plan is open, when nobody changes its objects any more. Raises :class:`Problem`
    where somebody has stopped it meanwhile.
    """
    if not _are_still_so(preview):
        discard(plan)
        return False
    checking = ImportPlan.objects.filter(pk=plan.pk, state=State.CHECKING)
    if not checking.update(state=State.APPLYING):
        raise Problem(
            409, "This import was stopped.", "Nothing was applied.", code="import-stopped"
        )
    plan.refresh_from_db()
    return True


def _are_still_so(preview: Preview) -> bool:
    """Whether the objects that a preview changes or removes are as it found them.

    Whether one that it adds is there by now is asked when it is added.
    """
    by_kind: dict[str, dict[str, Change]] = {}
    for change in preview.outcome.changes:
        if change.does and (row := preview.now.rows.get((change.kind, change.key))):
            by_kind.setdefault(change.kind, {})[row] = change
    for kind, changes in by_kind.items():
        rows = list(changes)
        for start in range(0, len(rows), _READ_AT_ONCE):
            found = of_rows(kind, some := rows[start : start + _READ_AT_ONCE])
            if any(_is_other(found.get(row), changes[row], preview.now) for row in some):
                return False
    return True


def _is_other(now: ObjectNow | None, change: Change, then: CurrentState) -> bool:
    return now is None or (now.key, now.fields) != (change.key, _before(then, change))


def changed_meanwhile() -> Problem:
    """That something was changed between a preview and its application."""
    return Problem(
        409,
        "Something was changed since you looked.",
        "Nothing was applied. Look at the new preview, then apply it.",
        code="changed-since-preview",
    )
