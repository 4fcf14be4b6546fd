"""What a file declares of applications and their addresses, with all that follows.

A file says everything about an object; what it leaves out means what
:mod:`neatlatch.core.inventory` says. The caller says how the journal tells of it.
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
def application(
    by: Actor, key: str, declared: Mapping[str, Any], declared_change: DeclaredChange
) -> Application:
    """Make or change an application and its profile; what is sent otherwise by a new profile is no
    longer proven. Raises :class:`Problem`."""
    profile = read_given(declared["profile"], "")
    fields = {name: declared[name] for name in _FIELDS} | {"owner": owners.named(declared["owner"])}
    found = Application.objects.select_for_update().filter(key=key).first()
    if found is None:
        plain = profiles.to_dict(profile)
        found = Application(key=key, profile=plain, changed_by=by.username, **fields)
        found.save(force_insert=True)
    else:
        for name, value in fields.items():
            setattr(found, name, value)
        save_with(by, found, profile, of_change(found, profile))
    declared_change.write(by, "application", key)
    return found


@transaction.atomic
def remove_application(by: Actor, application: Application) -> None:
    """Remove an application that stands nowhere any more. Raises ``ProtectedError``."""
    write(by, "removed", "application", application.key)
    application.delete()


def put_addresses(deployment: Deployment, fields: Mapping[str, Any]) -> None:
    """Take the addresses over that a file declares of a deployment, without saving them."""
    addresses = fields["addresses"]
    for name in ADDRESS_FIELDS:
        setattr(deployment, name, addresses.get(name, ""))
    deployment.more = {name: text for name, text in addresses.items() if name not in ADDRESS_FIELDS}
    deployment.metadata_address = fields["metadata_address"]
    deployment.metadata = fields["metadata"] or None


@transaction.atomic
def deployment(
    by: Actor, where: tuple[str, str], fields: Mapping[str, Any], declared_change: DeclaredChange
) -> Deployment:
    """Make or change where an application stands; ``where`` are the keys of both."""
    of = Application.objects.get(key=where[0])
    environment = Environment.objects.get(key=where[1])
    stands = Deployment.objects.select_for_update().filter(application=of, environment=environment)
    found = stands.first() or Deployment(application=of, environment=environment)
    if found.pk:
        before_addresses(found)
    put_addresses(found, fields)
    found.changed_at = timezone.now()
    found.save()
    declared_change.write(by, "deployment", "/".join(where))
    return found


@transaction.atomic
def remove_deployment(by: Actor, deployment: Deployment) -> None:
    """Remove an application from an environment.

    Raises ``ProtectedError`` while anything uses it.
    """
    write(by, "removed", "deployment", f"{deployment.application.key}/{deployment.environment.key}")
    deployment.delete()
