"""A credential that is made and not in use yet is prepared; it was called staged."""

from typing import Any

from django.db import migrations, models

_STATES = [
    ("prepared", "Prepared"),
    ("active", "Active"),
    ("retiring", "Retiring"),
    ("retired", "Retired"),
    ("revoked", "Revoked"),
]


def to_prepared(apps: Any, editor: Any) -> None:
    rows = apps.get_model("credentials", "Credential").objects
    rows.filter(state="staged").update(state="prepared")


def to_staged(apps: Any, editor: Any) -> None:
    rows = apps.get_model("credentials", "Credential").objects
    rows.filter(state="prepared").update(state="staged")


class Migration(migrations.Migration):
    dependencies = [("credentials", "0013_stands_out")]
    operations = [
        migrations.AlterField(
            "credential",
            "state",
            models.CharField(choices=_STATES, default="active", max_length=10),
        ),
        migrations.RunPython(to_prepared, to_staged),
    ]
