"""Replacing the house's certificate authority, in the order of ``core.certificates.replacing``."""

from __future__ import annotations

from uuid import UUID

from django.db import transaction
from django.db.models import Count, Exists, OuterRef, Q, QuerySet
from django.utils import timezone

from neatlatch.core.certificates import replacing
from neatlatch.desk.authority.house.certificate_registry import in_words, receiver_at
from neatlatch.desk.authority.records.certificates.models import Authority, Issued, Trust
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write

from . import services


def _living(environment: Environment) -> QuerySet[Issued]:
    """The certificates of an environment that are valid now."""
    return Issued.objects.filter(
        authority__environment=environment,
        revoked=None,
        not_after__gt=timezone.now(),
        credential__client__isnull=False,
    )


def alive_below(environment: Environment) -> dict[UUID, int]:
    """How many certificates live below each root of an environment."""
    counted = (
        _living(environment)
        .exclude(authority__root=None)
        .order_by()
        .values("authority__root")
        .annotate(many=Count("pk"))
    )
    return {
        root: many
        for root, many in counted.values_list("authority__root", "many")
        if root is not None
    }


def situation(
    environment: Environment, most: int | None = None
) -> replacing.RootReplacementFacts | None:
    """Where the replacement of an environment's authority stands; ``None``: it has none yet.

    ``most``: of so many certificates below each root, soonest expiry first, and of so many
    receivers, those first that still have something to do.
    """
    roots = list(
        Authority.objects.filter(environment=environment, root=None)
        .exclude(state=Authority.State.RETIRED)
        .order_by("made")
    )
    if not roots:
        return None
    old, new = roots[0], roots[1] if len(roots) > 1 else None
    receivers = _receivers(environment, old, new)
    if most is not None:
        done = str(new.pk) if new is not None else ""
        receivers = sorted(
            receivers,
            key=lambda receiver: done in receiver.trusts and str(old.pk) not in receiver.trusts,
        )[:most]
    issuing = next(
        (
            str(authority.root_id)
            for authority in Authority.objects.filter(
                environment=environment, state=Authority.State.ISSUING
            ).exclude(root=None)
        ),
        str(old.pk),
    )
    leaves = [leaf for root in roots for leaf in _leaves(environment, root, new, most)]
    return replacing.RootReplacementFacts(
        str(old.pk),
        str(new.pk) if new else "",
        issuing,
        tuple(sorted(receivers, key=lambda receiver: receiver.name)),
        tuple(leaves),
    )


def _leaves(
    environment: Environment, root: Authority, new: Authority | None, most: int | None
) -> list[replacing.LeafCertificate]:
    after = (
        _living(environment).filter(authority__root=new, credential__replaces=OuterRef("pk"))
        if new is not None
        else Issued.objects.none()
    )
    rows = (
        _living(environment)
        .filter(authority__root=root)
        .annotate(moved=Exists(after))
        .order_by("not_after", "common_name")
    )
    told = rows.values_list(
        "pk", "common_name", "profile", "credential__client__deployment", "not_after", "moved"
    )
    return [
        replacing.LeafCertificate(
            str(key), name, str(root.pk), receiver_at(profile, deployment), ends, moved
        )
        for key, name, profile, deployment, ends, moved in told[:most]
    ]


def _receivers(
    environment: Environment, old: Authority, new: Authority | None
) -> list[replacing.Receiver]:
    """Who is shown certificates that live, or trusts a root though nobody shows it anything now."""
    trusts: dict[str, set[str]] = {}
    for receiver, root in Trust.objects.filter(root__environment=environment).values_list(
        "receiver", "root"
    ):
        trusts.setdefault(receiver, set()).add(str(root))
    shown = (
        _living(environment)
        .order_by()
        .values_list("profile", "credential__client__deployment")
        .distinct()
    )
    keys = {receiver_at(profile, deployment) for profile, deployment in shown} | trusts.keys()
    names = dict(
        Deployment.objects.filter(pk__in=map(_deployment_of, keys)).values_list(
            "pk", "application__name"
        )
    )
    found = []
    for key in keys:
        if (name := names.get(_deployment_of(key))) is not None:
            found.append(
                replacing.Receiver(key, in_words(key, name), frozenset(trusts.get(key, set())))
            )
    return found


def _deployment_of(receiver: str) -> int:
    return int(receiver.partition(":")[2])


def _situation(environment: Environment) -> replacing.RootReplacementFacts:
    Environment.objects.select_for_update().get(pk=environment.pk)
    found = situation(environment)
    if found is None:
        raise Problem(
            409,
            "There is no certificate authority in this environment yet.",
            "It is made with the first certificate.",
            code="no-certificate-authority",
        )
    return found


def _names(things: list[replacing.Receiver] | list[replacing.LeafCertificate]) -> str:
    return ", ".join(thing.name for thing in things[:5]) + (
        f" and {len(things) - 5} more" if len(things) > 5 else ""
    )


@transaction.atomic
def make(by: Actor, environment: Environment) -> None:
    """Make the authority that is to follow. It signs no leaf yet."""
    if _situation(environment).new:
        raise Problem(
            409,
            "A new authority has been made already.",
            "Take its replacement to its end first.",
            code="new-authority-exists",
        )
    services.make_authority(by, environment, Authority.State.PREPARED)


@transaction.atomic
def record_trust(by: Actor, root: Authority, receiver: str, trusts: bool) -> None:
    """Record that a receiver trusts a root, or no longer.

    Refused while it is shown certificates below the root that it would drop.
    """
    at = _situation(root.environment)
    if receiver not in {receiver.key for receiver in at.receivers}:
        raise Problem(404, "There is no such receiver.", code="receiver-not-found")
    if (
        not trusts
        and str(root.pk) == at.old
        and (shown := replacing.may_stop_trusting(at, receiver))
    ):
        raise Problem(
            409,
            "It is still shown certificates below this root.",
            f"It would refuse {_names(shown)}. Replace and revoke them first.",
            code="root-still-presented",
        )
    rows = Trust.objects.filter(root=root, receiver=receiver)
    if trusts == rows.exists():
        return
    if trusts:
        Trust.objects.create(
            root=root, receiver=receiver, noted_by=by.username, noted=timezone.now()
        )
    else:
        rows.delete()
    name = next(
        known_receiver.name for known_receiver in at.receivers if known_receiver.key == receiver
    )
    write(
        by,
        "recorded that it trusts" if trusts else "recorded that it no longer trusts",
        "certificate authority",
        root.name,
        {"receiver": name, "id": root.pk},
    )


@transaction.atomic
def switch(by: Actor, environment: Environment, new: bool) -> None:
    """Issue below the new authority from now on, or below the old one again.

    Refused while anybody does not trust the one.
    """
    at = _situation(environment)
    if not at.new:
        raise Problem(409, "No new authority has been made.", code="no-new-authority")
    target = at.new if new else at.old
    if new and (missing := replacing.may_switch(at)):
        raise Problem(
            409,
            "Not everybody trusts the new root yet.",
            f"{_names(missing)} would refuse what is issued below it.",
            code="new-root-not-trusted",
        )
    left = Authority.State.LEAVING if new else Authority.State.PREPARED
    Authority.objects.filter(environment=environment, state=Authority.State.ISSUING).update(
        state=left
    )
    root = Authority.objects.get(pk=target)
    Authority.objects.filter(Q(pk=root.pk) | Q(root=root)).update(state=Authority.State.ISSUING)
    write(
        by,
        "issues below",
        "certificate authority",
        root.name,
        {"environment": environment.name, "id": root.pk},
    )


@transaction.atomic
def retire(by: Actor, environment: Environment) -> None:
    """Retire the old authority: its keys are destroyed, a last revocation list stays.

    Refused while anything below it lives.
    """
    at = _situation(environment)
    if not at.new or at.issuing != at.new:
        raise Problem(
            409,
            "This authority is still the one that issues.",
            "Make another and switch to it first.",
            code="authority-still-issues",
        )
    if below := replacing.may_retire(at):
        raise Problem(
            409,
            "Certificates below it still live.",
            f"{_names(below)} would not be revocable any more. Replace and revoke them first.",
            code="certificates-still-valid",
        )
    if still := [receiver for receiver in at.receivers if at.old in receiver.trusts]:
        raise Problem(
            409,
            "Its root is still trusted.",
            (
                f"{_names(still)} should stop trusting it first; a root that nobody watches "
                f"would be trusted for good."
            ),
            code="root-still-trusted",
        )
    now, root = timezone.now(), Authority.objects.select_related("environment").get(pk=at.old)
    for authority in (root, *Authority.objects.select_related("environment").filter(root=root)):
        services.last_list(authority, now)
        Authority.objects.filter(pk=authority.pk).update(
            state=Authority.State.RETIRED, private=None
        )
    write(
        by,
        "retired",
        "certificate authority",
        root.name,
        {"environment": environment.name, "id": root.pk},
    )
