"""A connection that does not work is unlatched; it was called open."""

from typing import Any

from django.db import migrations, models

_STATES = [
    ("latched", "latched"),
    ("sticking", "sticking"),
    ("unlatched", "unlatched"),
    ("not_proven", "not_proven"),
]


def to_unlatched(apps: Any, editor: Any) -> None:
    apps.get_model("connections", "Connection").objects.filter(state="open").update(
        state="unlatched"
    )


def to_open(apps: Any, editor: Any) -> None:
    apps.get_model("connections", "Connection").objects.filter(state="unlatched").update(
        state="open"
    )


class Migration(migrations.Migration):
    dependencies = [("connections", "0016_workloads")]
    operations = [
        migrations.RenameField("standing", "open", "unlatched"),
        migrations.AlterField(
            "connection",
            "state",
            models.CharField(choices=_STATES, default="not_proven", max_length=12),
        ),
        migrations.RunPython(to_unlatched, to_open),
    ]
