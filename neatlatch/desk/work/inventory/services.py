"""The inventory as a file: exporting it, seeing what a file would change, and applying it as a whole or not at all."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from django.db import transaction
from django.db.models import ProtectedError
from django.utils import timezone

from neatlatch.core.inventory import merging, reading
from neatlatch.core.inventory.merging import Change, Outcome
from neatlatch.core.inventory.shape import KINDS, Content, full
from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections.destinations import Leave
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.ground.common import heavy
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.models import Person

from . import moving
from .applying import Applying, CannotApply
from .collecting import client_keys, collect
from .models import Origin, packed

_KEPT_ORIGINS = 30
# What a client's provider holds itself, where it is managed by protocol: a change of these is made there first.
_REGISTERED = ("name", "contacts", "public", "redirect_uris", "grants", "scopes", "sign_in_method")


@dataclass(frozen=True)
class Preview:
    """What a file would change; ``standing`` names what it was compared with."""

    outcome: Outcome
    standing: str
    base_known: bool


def export(by: Actor) -> str:
    """The whole inventory as a file, noted as something that files may be made from."""
    content = collect()
    digest = reading.digest(content)
    kept = {"packed": packed(content), "at": timezone.now(), "by": by.username}
    with transaction.atomic():
        Origin.objects.update_or_create(digest=digest, defaults=kept)
        Origin.objects.filter(pk__in=list(Origin.objects.values_list("pk", flat=True)[_KEPT_ORIGINS:])).delete()
        write(by, "exported", "inventory", digest)
    return reading.write(content, digest)


# Ten thousand connections are some hundred thousand lines.
_READS_FOR = 30


def read(text: str) -> reading.Inventory:
    """A file that was read, or a problem that names every mistake with its line."""
    try:
        return heavy.run(reading.read, text, seconds=_READS_FOR)
    except reading.BadInventory as error:
        raise _mistakes(error.mistakes) from error


def _mistakes(found: list[reading.Mistake]) -> Problem:
    count = len(found)
    detail = " ".join(f"{str(one)[:1].upper()}{str(one)[1:]}." for one in found[:3]) + (f" And {count - 3} more." if count > 3 else "")
    return Problem(422, f"{'One thing is' if count == 1 else f'{count} things are'} wrong with the file; nothing was changed.", detail,
                   {"text": detail}, mistakes=[{"line": one.line, "where": one.where, "says": one.says} for one in found[:200]])  # fmt: skip


def preview(text: str, prune: bool) -> Preview:
    """What a file would change. Nothing is changed."""
    return _preview(read(text), prune)


def _preview(inventory: reading.Inventory, prune: bool) -> Preview:
    current = collect()
    origin = Origin.objects.filter(digest=inventory.base).first() if inventory.base else None
    base = _refilled(origin.content) if origin else None
    outcome = moving.said(merging.merge(current, inventory.content, base, inventory.lines, prune))
    if mistakes := reading.missing(inventory.references, outcome.content):
        raise _mistakes(mistakes)
    return Preview(outcome, reading.digest(current), origin is not None)


def _refilled(content: Content) -> Content:
    """A content that was kept before fields were added, with what leaving them out means."""
    return {kind.name: {key: full(kind, one) for key, one in content.get(kind.name, {}).items()} for kind in KINDS}


def apply(by: Person, text: str, prune: bool = False, seen: str = "", leave: Leave | None = None) -> Preview:
    """Apply a file, as a whole or not at all. ``seen`` names what the preview that somebody agreed to was compared with (empty: none was seen); ``leave`` is what to
    do where something that is held would go to a new place.

    What stands at an application that is managed by protocol is changed there first; if it refuses, nothing is changed here.
    """
    inventory = read(text)
    before = _preview(inventory, prune)
    _check_seen(before, seen)
    changed_there = _at_providers(by, before.outcome)
    try:
        with transaction.atomic():
            # Worked out anew under the write lock, so that what is applied is what stands now.
            found = _preview(inventory, prune)
            if not changed_there:  # that changes clients here, too
                _check_seen(found, seen)
            Applying(by, leave).apply(found.outcome.changes, found.outcome.content)
            if inventory.base:
                Origin.objects.update_or_create(
                    digest=inventory.base, defaults={"packed": packed(found.outcome.base), "at": timezone.now(), "by": by.username}
                )
            count = sum(one.does for one in found.outcome.changes)
            write(by, "applied", "inventory", inventory.base or "without base", {"changes": count})
    except CannotApply as error:
        raise _mistakes(
            [reading.Mistake(inventory.lines.get((error.kind, error.key), 1), f"{error.kind} → {error.key}", str(error))]
        ) from error
    except ProtectedError as error:
        names = sorted({str(one) for one in error.protected_objects})[:3]
        raise Problem(
            409, "Something that the file takes away is still used.", f"It is used by {', '.join(names)}. Nothing was changed."
        ) from error
    return found


def _check_seen(found: Preview, seen: str) -> None:
    if seen and seen != found.standing:
        raise Problem(409, "Something was changed since you looked.", "Nothing was applied. Look at the new preview, then apply it.")


def _at_providers(by: Person, outcome: Outcome) -> bool:
    """Change what is managed by protocol there; whether anything was."""
    changing, any_changed = {one.key: one for one in outcome.changes if one.kind == "clients" and one.act == "change"}, False
    if not changing:
        return False
    rows = list(Client.objects.exclude(state="asking").select_related("place__application", "place__environment"))
    names = client_keys(rows)
    for client in rows:
        key = names[client.pk]
        if key not in changing or not client.managed or client.management_token is None:
            continue
        wanted = outcome.content["clients"][key]
        fields = ClientMetadata(wanted["name"], tuple(wanted["contacts"]), wanted["public"], tuple(wanted["redirect_uris"]), tuple(wanted["grants"]),
                                frozenset(wanted["scopes"]), wanted["sign_in_method"])  # fmt: skip
        if fields != client.fields():
            try:
                clients.change(by, client, _exactly(fields))
                any_changed = True
            except Problem as problem:
                raise replaced(problem, f"{key}: {problem.detail} Nothing was applied here.") from problem
    return any_changed


def _exactly(fields: ClientMetadata) -> Callable[[ClientMetadata], ClientMetadata]:
    return lambda _: fields


def replaced(problem: Problem, detail: str) -> Problem:
    """The same problem, told for one object of the file."""
    return Problem(problem.status, problem.title, detail, problem.errors)


@dataclass(frozen=True)
class ObjectChange:
    """What would happen to one object: add, change, remove, stay, kept or conflict."""

    kind: str
    key: str
    act: str
    says: list[str]
    line: int


def told(change: Change) -> ObjectChange:
    """A change as the page and the command line want it."""
    return ObjectChange(change.kind, change.key, change.act, list(change.says), change.line)
