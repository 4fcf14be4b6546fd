"""An authority that is made and not in use yet is prepared; it was called staged."""

from typing import Any

from django.db import migrations, models

_STATES = [
    ("prepared", "Prepared"),
    ("issuing", "Issuing"),
    ("leaving", "Leaving"),
    ("retired", "Retired"),
]


def to_prepared(apps: Any, editor: Any) -> None:
    rows = apps.get_model("certificates", "Authority").objects
    rows.filter(state="staged").update(state="prepared")


def to_staged(apps: Any, editor: Any) -> None:
    rows = apps.get_model("certificates", "Authority").objects
    rows.filter(state="prepared").update(state="staged")


class Migration(migrations.Migration):
    dependencies = [("certificates", "0003_by_end")]
    operations = [
        migrations.AlterField(
            "authority",
            "state",
            models.CharField(choices=_STATES, default="issuing", max_length=8),
        ),
        migrations.RunPython(to_prepared, to_staged),
    ]
