"""The users that were noted on connections, as users of their own: one of a name in an
environment.
"""

from __future__ import annotations

from typing import Any

from django.db import migrations
from django.utils import timezone


def carry_over(apps: Any, schema_editor: Any) -> None:
    old, user, use = (
        apps.get_model("connections", "ConnectionUser"),
        apps.get_model("users", "User"),
        apps.get_model("users", "Use"),
    )
    for one in old.objects.select_related("connection__place").order_by("pk"):
        place = one.connection.place
        found, _ = user.objects.get_or_create(
            name=one.name,
            environment_id=place.environment_id,
            defaults={
                "kind": one.kind,
                "owner": one.owner,
                "runs": one.runs,
                "changed_at": timezone.now(),
            },
        )
        use.objects.create(
            user=found,
            application_id=place.application_id,
            connection=one.connection,
            operations=one.operations,
        )


class Migration(migrations.Migration):
    dependencies = [("users", "0001_initial"), ("connections", "0005_stamp")]
    operations = [migrations.RunPython(carry_over, migrations.RunPython.noop)]
