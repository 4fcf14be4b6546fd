"""Environments of the firm: adding one, changing it, their order, and removing one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from django.db import transaction
from django.db.models import Exists, Max, OuterRef, ProtectedError, QuerySet

from neatlatch.core import references
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.journal.services import DeclaredChange, write

LOOKS = ("dashed", "flat", "striped")
# Orders that no environment has, through which they pass while they change places.
_ASIDE = 10_000
_LONGEST_KEY = 50
# What may be in an environment, by the names of models.
_IN_USE_BY = {
    "deployment": "applications",
    "workload": "workloads",
    "authority": "certificate authorities",
    "signingkey": "signing keys",
}
_WORDS = {
    "name": "name",
    "look": "look",
    "production": "production",
    "wants_service_account": "service accounts required",
}


def all_in_order() -> QuerySet[Environment]:
    """Every environment, in order, with whether anything is in it (``in_use``)."""
    here = OuterRef("pk")
    return Environment.objects.annotate(
        in_use=Exists(Deployment.objects.filter(environment=here))
        | Exists(Workload.objects.filter(environment=here))
    ).order_by("order")


@transaction.atomic
def add(by: Actor, key: str, fields: Mapping[str, Any]) -> Environment:
    """Add an environment, the last in order; its key stays as it is. Raises a field error."""
    errors = _wrong_key(key)
    if not errors and Environment.objects.filter(key=key).exists():
        errors["key"] = f"The key {key} is taken."
    last = Environment.objects.aggregate(last=Max("order"))["last"]
    made = Environment(key=key, order=0 if last is None else last + 1)
    errors |= _put(made, {"name": "", **fields})
    if errors:
        raise wrong_fields(errors)
    made.save(force_insert=True)
    write(by, "added", "environment", key, {"name": made.name})
    return made


def _wrong_key(key: str) -> dict[str, str]:
    if references.is_name(key) and len(key) <= _LONGEST_KEY:
        return {}
    says = f"A key has small letters, digits and single hyphens, {_LONGEST_KEY} at the most."
    return {"key": says}


@transaction.atomic
def change(by: Actor, environment: Environment, fields: Mapping[str, Any]) -> Environment:
    """Change what is said of an environment; a field that is left out stays. Raises a field
    error.
    """
    changed = Environment.objects.select_for_update().get(pk=environment.pk)
    before = {name: getattr(changed, name) for name in _WORDS}
    if errors := _put(changed, fields):
        raise wrong_fields(errors)
    told = [
        f"{word}: {before[name]} became {getattr(changed, name)}"
        for name, word in _WORDS.items()
        if before[name] != getattr(changed, name)
    ]
    if told:
        changed.save(update_fields=list(_WORDS))
        write(by, "changed", "environment", changed.key, {"changes": told})
    return changed


def _put(environment: Environment, fields: Mapping[str, Any]) -> dict[str, str]:
    """Put values in place without saving them; what is wrong with them, by field."""
    errors = {}
    if (name := fields.get("name")) is not None:
        environment.name = " ".join(name.split())
        others = Environment.objects.exclude(pk=environment.pk)
        if not environment.name or len(environment.name) > 60:
            errors["name"] = "A name has 1 to 60 characters."
        elif others.filter(name__iexact=environment.name).exists():
            errors["name"] = f"The name {environment.name} is taken."
    if (look := fields.get("look")) is not None:
        environment.look = look
        if look not in LOOKS:
            errors["look"] = f"A look is one of {', '.join(LOOKS)}."
    for flag in ("production", "wants_service_account"):
        if fields.get(flag) is not None:
            setattr(environment, flag, fields[flag])
    return errors


@transaction.atomic
def put_in_order(by: Actor, keys: Sequence[str]) -> None:
    """Put the environments in an order; ``keys`` names each of them once. Raises
    :class:`Problem`.
    """
    found = {
        environment.key: environment for environment in Environment.objects.select_for_update()
    }
    if sorted(keys) != sorted(found):
        says = "Somebody may have added or removed one. Reload the page."
        raise Problem(
            409, "These are not the environments that there are.", says, code="environments-differ"
        )
    if list(keys) == [
        environment.key
        for environment in sorted(found.values(), key=lambda environment: environment.order)
    ]:
        return
    for start in (_ASIDE, 0):  # two cannot have the same order, not even for a moment
        for order, key in enumerate(keys, start=start):
            Environment.objects.filter(pk=found[key].pk).update(order=order)
    write(by, "put in order", "environment", "all", {"order": list(keys)})


@transaction.atomic
def declare(
    by: Actor, key: str, fields: Mapping[str, Any], declared_change: DeclaredChange
) -> Environment:
    """Make or change an environment to what a file declares. Raises a field error."""
    known = Environment.objects.select_for_update().filter(key=key).first()
    found = known or Environment(key=key)
    found.order = fields["order"]
    errors = _put(found, fields)
    if known is None:
        errors |= _wrong_key(key)
    if errors:
        raise wrong_fields(errors)
    found.save()
    declared_change.write(by, "environment", key)
    return found


@transaction.atomic
def remove(by: Actor, environment: Environment) -> None:
    """Remove an environment that nothing is in. Raises :class:`Problem`."""
    key = environment.key
    try:
        environment.delete()
    except ProtectedError as error:
        models = {protected_object._meta.model_name for protected_object in error.protected_objects}
        kinds = sorted(_IN_USE_BY.get(str(model), str(model)) for model in models)
        raise Problem(
            409,
            f"{environment.name} is in use.",
            f"It still has {', '.join(kinds)}. Remove these first.",
            code="environment-in-use",
        ) from error
    write(by, "removed", "environment", key)
