"""What a file declares of applications and their addresses, with all that follows.

A file says everything about an object; what it leaves out means what
:mod:`neatlatch.core.inventory` says. Whoever calls these says how the journal tells of it.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from django.db import transaction
from django.utils import timezone

from neatlatch.core import profiles
from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.journal.services import DeclaredChange, write
from neatlatch.desk.ground.people import owners

from .following import before_addresses, of_change
from .services import ADDRESS_FIELDS, read_given, save_with

_FIELDS = ("name", "purpose", "documentation")


@transaction.atomic
def application(by: Actor, key: str, given: Mapping[str, Any], told: DeclaredChange) -> Application:
    """Make or change an application and its profile; what is sent otherwise by a new profile is no
    longer proven. Raises :class:`Problem`."""
    profile = read_given(given["profile"], "")
    fields = {name: given[name] for name in _FIELDS} | {"owner": owners.named(given["owner"])}
    found = Application.objects.select_for_update().filter(key=key).first()
    if found is None:
        plain = profiles.to_dict(profile)
        found = Application(key=key, profile=plain, changed_by=by.username, **fields)
        found.save(force_insert=True)
    else:
        for name, value in fields.items():
            setattr(found, name, value)
        save_with(by, found, profile, of_change(found, profile))
    told.write(by, "application", key)
    return found


@transaction.atomic
def remove_application(by: Actor, found: Application) -> None:
    """Remove an application that stands nowhere any more. Raises ``ProtectedError``."""
    write(by, "removed", "application", found.key)
    found.delete()


def put_addresses(found: Deployment, given: Mapping[str, Any]) -> None:
    """Take the addresses over that a file declares of a deployment, without saving them."""
    addresses = given["addresses"]
    for name in ADDRESS_FIELDS:
        setattr(found, name, addresses.get(name, ""))
    found.more = {name: text for name, text in addresses.items() if name not in ADDRESS_FIELDS}
    found.metadata_address = given["metadata_address"]
    found.metadata = given["metadata"] or None


@transaction.atomic
def deployment(
    by: Actor, where: tuple[str, str], given: Mapping[str, Any], told: DeclaredChange
) -> Deployment:
    """Make or change where an application stands; ``where`` are the keys of both."""
    of = Application.objects.get(key=where[0])
    environment = Environment.objects.get(key=where[1])
    stands = Deployment.objects.select_for_update().filter(application=of, environment=environment)
    found = stands.first() or Deployment(application=of, environment=environment)
    if found.pk:
        before_addresses(found)
    put_addresses(found, given)
    found.changed_at = timezone.now()
    found.save()
    told.write(by, "deployment", "/".join(where))
    return found


@transaction.atomic
def remove_deployment(by: Actor, found: Deployment) -> None:
    """An application no longer stands in an environment. Raises ``ProtectedError``."""
    write(by, "removed", "deployment", f"{found.application.key}/{found.environment.key}")
    found.delete()
