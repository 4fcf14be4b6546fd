"""A connection may hold several secrets: the one it had becomes its client secret."""

from typing import Any

import django.db.models.deletion
from django.db import migrations, models


def carry_over(apps: Any, schema_editor: Any) -> None:
    connections, held = (
        apps.get_model("connections", "Connection"),
        apps.get_model("connections", "HeldSecret"),
    )
    held.objects.bulk_create(
        held(connection_id=one.pk, key="client_secret", credential_id=one.credential_id)
        for one in connections.objects.exclude(credential=None).only("pk", "credential_id")
    )


class Migration(migrations.Migration):
    dependencies = [("connections", "0003_initial"), ("credentials", "0003_kinds")]

    operations = [
        migrations.AddField("connection", "slots", models.JSONField(default=dict)),
        migrations.CreateModel(
            name="HeldSecret",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("key", models.CharField(max_length=60)),
                (
                    "connection",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="held_secrets",
                        to="connections.connection",
                    ),
                ),
                (
                    "credential",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="holders",
                        to="credentials.credential",
                    ),
                ),
            ],
            options={"ordering": ["id"]},
        ),
        migrations.AddConstraint(
            "heldsecret",
            models.UniqueConstraint(fields=["connection", "key"], name="one_secret_for_a_value"),
        ),
        migrations.RunPython(carry_over, migrations.RunPython.noop, elidable=True),
        migrations.RemoveField("connection", "credential"),
    ]
