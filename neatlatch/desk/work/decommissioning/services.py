"""Decommissioning an object, step by step: confirm that its uses may stop, revoke, prove refused,
forget its secrets and keep its history.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.core.exceptions import ObjectDoesNotExist
from django.db import IntegrityError, transaction
from django.db.models import ProtectedError
from django.utils import timezone

from neatlatch.core.decommissioning import DecommissioningFacts, Revocation, Step, Usage, obstacle
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.work.replacing.trial import Outcome

from .models import Decommissioning
from .subjects import Subject, subject

_LONGEST_REASON = 300
NOUNS = {
    "clients": "client",
    "connections": "connection",
    "deployments": "application",
    "workloads": "workload",
}


@dataclass(frozen=True)
class RevokedItem:
    """Something that was revoked; ``said`` is what the application answered, where it was asked."""

    key: str
    what: str
    how: str
    at: str
    by: str
    said: str


@dataclass(frozen=True)
class DecommissioningProgress:
    """How far it is, with all that its page shows. ``gone``: somebody took the object away
    otherwise; ``obstacle``: why it cannot be confirmed yet without a reason, or at all.
    """

    decommissioning: Decommissioning
    gone: bool
    address: str
    step: Step | None
    usages: list[Usage]
    obstacle: str
    revoked: list[RevokedItem]
    left: list[Revocation]
    also: str


def begin(by: Actor, of: str, row: str) -> Decommissioning:
    """Begin to decommission an object, or go on with what was begun. Nothing is changed yet.
    Raises :class:`Problem`.
    """
    found = _subject(of, row)
    if refused := found.never:
        raise Problem(409, "This is not decommissioned.", refused, code="not-decommissionable")
    row = found.row
    with transaction.atomic():
        open_one = Decommissioning.objects.filter(of=of, row=row, ended=None).first()
        if open_one is not None:
            return open_one
        try:
            with transaction.atomic():
                made = Decommissioning.objects.create(
                    of=of,
                    row=row,
                    name=found.name[:250],
                    where=found.where[:200],
                    begun=timezone.now(),
                    begun_by=by.username,
                )
        except IntegrityError:  # somebody else began at the same moment
            return Decommissioning.objects.get(of=of, row=row, ended=None)
        write(by, "began to decommission", NOUNS[of], found.name)
    return made


def _subject(of: str, row: str) -> Subject:
    found = subject(of, row)
    if found is None:
        raise Problem(
            409,
            f"This {NOUNS[of]} is gone.",
            "Somebody took it away otherwise. Nothing is left to be decommissioned.",
            code="object-gone",
        )
    return found


def standing_of(decommissioning: Decommissioning) -> DecommissioningProgress:
    """How far it is."""
    revoked = [RevokedItem(key, **told) for key, told in _revoked(decommissioning).items()]
    found = None
    if decommissioning.ended is None:
        found = subject(decommissioning.of, decommissioning.row)
    if found is None:
        is_gone = decommissioning.ended is None
        return DecommissioningProgress(decommissioning, is_gone, "", None, [], "", revoked, [], "")
    usages, left = found.usages(), _left(decommissioning, found)
    return DecommissioningProgress(
        decommissioning,
        False,
        found.address,
        _step(decommissioning, left),
        usages,
        obstacle(usages, "", timezone.now()),
        revoked,
        left,
        found.also,
    )


def _revoked(decommissioning: Decommissioning) -> dict[str, dict[str, str]]:
    """What was revoked, without what only the steps need to know."""
    return {
        key: {name: value for name, value in told.items() if name != "provable"}
        for key, told in decommissioning.revoked.items()
    }


def _left(decommissioning: Decommissioning, subject: Subject) -> list[Revocation]:
    return [
        revocation
        for revocation in subject.revocations()
        if revocation.key not in decommissioning.revoked
    ]


def _step(decommissioning: Decommissioning, left: list[Revocation]) -> Step:
    return DecommissioningFacts(
        decommissioning.confirmed_at is not None,
        tuple(left),
        any(told["provable"] for told in decommissioning.revoked.values()),
        decommissioning.proven_at is not None or bool(decommissioning.unproven),
    ).step


def _at(decommissioning: Decommissioning, *steps: Step) -> tuple[Decommissioning, Subject]:
    """It as it is now, locked, with its object. Raises :class:`Problem` where it is at another
    step.
    """
    stands = Decommissioning.objects.select_for_update().get(pk=decommissioning.pk)
    if stands.ended is not None:
        raise Problem(
            409, "This is over.", "Reload the page to see how it ended.", code="process-over"
        )
    found = _subject(stands.of, stands.row)
    if _step(stands, _left(stands, found)) not in steps:
        raise Problem(
            409,
            "This is not the step to do now.",
            "Reload the page to see how far it is.",
            code="wrong-step",
        )
    return stands, found


def _reason(reason: str) -> str:
    reason = " ".join(reason.split())
    if len(reason) > _LONGEST_REASON:
        raise wrong_fields({"reason": f"More than {_LONGEST_REASON} characters are not kept."})
    return reason


@transaction.atomic
def confirm(by: Actor, decommissioning: Decommissioning, reason: str) -> Decommissioning:
    """Confirm that what uses it may stop; ``reason`` says why, where something still does. A
    connection is not tested in rounds from then on. Raises :class:`Problem`.
    """
    stands, found = _at(decommissioning, "uses")
    reason = _reason(reason)
    if refused := obstacle(found.usages(), reason, timezone.now()):
        raise Problem(409, "It is still in use.", refused, {"reason": refused}, code="still-in-use")
    stands.confirmed_at, stands.reason = timezone.now(), reason
    stands.save(update_fields=["confirmed_at", "reason"])
    if stands.of == Decommissioning.Of.CONNECTION:
        row = Connection.objects.get(pk=stands.row)
        connections.change_how_tested(by, row, {"paused": True})
    write(by, "confirmed as unused", NOUNS[stands.of], stands.name, {"reason": reason})
    return stands


def revoke(by: Actor, decommissioning: Decommissioning, key: str) -> Decommissioning:
    """Revoke something, or say that a person has revoked it at the application. Raises
    :class:`Problem`.
    """
    with transaction.atomic():
        stands, found = _at(decommissioning, "revoke")
        wanted = {each.key: each for each in _left(stands, found) if each.how != "kept"}.get(key)
    if wanted is None:
        raise Problem(
            404,
            "This is not to be revoked.",
            "Reload the page to see what is left.",
            code="not-to-be-revoked",
        )
    said = found.revoke(by, wanted)  # it may ask the application: outside of any transaction
    with transaction.atomic():
        stands = Decommissioning.objects.select_for_update().get(pk=decommissioning.pk)
        stands.revoked = {
            **stands.revoked,
            key: {
                "what": wanted.what,
                "how": wanted.how,
                "at": timezone.now().isoformat(),
                "by": by.username,
                "said": said[:200],
                "provable": wanted.provable,
            },
        }
        stands.save(update_fields=["revoked"])
        about = {"what": wanted.what, "how": wanted.how}
        write(by, "revoked for decommissioning", NOUNS[stands.of], stands.name, about)
    return stands


def prove(by: Actor, decommissioning: Decommissioning) -> tuple[Decommissioning, Outcome]:
    """Try what was revoked: once it is refused, that is proven. Raises :class:`Problem`."""
    with transaction.atomic():
        _, found = _at(decommissioning, "prove")
    outcome = found.prove()
    with transaction.atomic():
        stands = Decommissioning.objects.select_for_update().get(pk=decommissioning.pk)
        stands.proof = outcome.says[:400]
        if outcome.refused:
            stands.proven_at = timezone.now()
            write(by, "proved refused", NOUNS[stands.of], stands.name, {"says": outcome.says})
        stands.save(update_fields=["proof", "proven_at"])
    return stands, outcome


@transaction.atomic
def go_on_unproven(by: Actor, decommissioning: Decommissioning, reason: str) -> Decommissioning:
    """Go on though it could not be seen that it is refused; ``reason`` says how that was checked
    otherwise, or why not. Raises :class:`Problem`.
    """
    stands, _ = _at(decommissioning, "prove")
    reason = _reason(reason)
    if not reason:
        raise wrong_fields({"reason": "Say how it was checked, or why it cannot be."})
    stands.unproven = reason
    stands.save(update_fields=["unproven"])
    write(by, "went on unproven with", NOUNS[stands.of], stands.name, {"reason": reason})
    return stands


def end(
    by: Actor, decommissioning: Decommissioning, confirm_name: str, with_also: bool
) -> Decommissioning:
    """Forget its secrets, keep its history and take it away; ``confirm_name`` is its name, typed.
    Raises :class:`Problem`.
    """
    with transaction.atomic():
        stands, found = _at(decommissioning, "end")
    if confirm_name.strip() != found.name:
        raise wrong_fields({"confirm": f"Type {found.name} to confirm."})
    if blocking := [usage.name for usage in found.usages() if usage.blocks]:
        raise Problem(
            409,
            "Something was added meanwhile.",
            f"{', '.join(blocking[:3])} must be decommissioned or moved first.",
            code="changed-since-preview",
        )
    history: dict[str, Any] = found.history()
    # Kept before it goes: a program that is killed in between leaves both.
    Decommissioning.objects.filter(pk=stands.pk, ended=None).update(history=history)
    try:
        found.remove(by, with_also)
    except ObjectDoesNotExist as error:
        raise Problem(
            409, "It is gone.", "Somebody took it away at the same moment.", code="object-gone"
        ) from error
    except ProtectedError as error:
        names = ", ".join(sorted({str(row) for row in error.protected_objects})[:3])
        raise Problem(
            409, "It is still used.", f"{names} must go first.", code="still-in-use"
        ) from error
    with transaction.atomic():
        stands = Decommissioning.objects.select_for_update().get(pk=stands.pk)
        if stands.ended is None:
            stands.ended, stands.ended_by = timezone.now(), by.username
            stands.save(update_fields=["ended", "ended_by"])
            about = {"where": stands.where, "reason": stands.reason}
            write(by, "decommissioned", NOUNS[stands.of], stands.name, about)
    return stands


@transaction.atomic
def cancel(by: Actor, decommissioning: Decommissioning) -> Decommissioning:
    """Stop decommissioning it: what was revoked stays revoked. One whose object is gone is over.
    Raises :class:`Problem`.
    """
    stands = Decommissioning.objects.select_for_update().get(pk=decommissioning.pk)
    if stands.ended is not None:
        raise Problem(
            409, "This is over.", "Reload the page to see how it ended.", code="process-over"
        )
    stands.ended, stands.ended_by = timezone.now(), by.username
    stands.cancelled = subject(stands.of, stands.row) is not None
    stands.save(update_fields=["ended", "ended_by", "cancelled"])
    write(by, "stopped decommissioning", NOUNS[stands.of], stands.name)
    return stands
