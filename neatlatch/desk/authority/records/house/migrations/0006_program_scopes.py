"""Where the rights of programs hold; those of the programs so far hold everywhere."""

from __future__ import annotations

from typing import Any

import django.db.models.deletion
from django.db import migrations, models


def everywhere_so_far(apps: Any, schema_editor: Any) -> None:
    """As it was said where they were registered."""
    scopes = apps.get_model("house", "ProgramScope")
    for client in apps.get_model("clients", "Client").objects.filter(kind="program"):
        scopes.objects.create(client=client, everywhere=True)


class Migration(migrations.Migration):
    dependencies = [
        ("applications", "0009_deployments"),
        ("clients", "0012_programs"),
        ("house", "0005_rejected_requests"),
    ]

    operations = [
        migrations.CreateModel(
            name="ProgramScope",
            fields=[
                (
                    "client",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE,
                        primary_key=True,
                        related_name="program_scope",
                        serialize=False,
                        to="clients.client",
                    ),
                ),
                ("everywhere", models.BooleanField(default=False)),
                (
                    "environments",
                    models.ManyToManyField(related_name="+", to="applications.environment"),
                ),
            ],
        ),
        migrations.RunPython(everywhere_so_far, migrations.RunPython.noop),
    ]
