"""The owner of an application is a person, a team or a contact; its text is carried over."""

from typing import Any

import django.db.models.deletion
from django.db import migrations, models

from neatlatch.desk.ground.people.carried import owner_of_text, text_of_owner


def carry_over(apps: Any, editor: Any) -> None:
    for one in (
        apps.get_model("applications", "Application")
        .objects.exclude(owner="")
        .iterator(chunk_size=500)
    ):
        one.owned_by = owner_of_text(apps, one.owner)
        one.save(update_fields=["owned_by"])


def carry_back(apps: Any, editor: Any) -> None:
    rows = apps.get_model("applications", "Application").objects.exclude(owned_by=None)
    for one in rows.select_related("owned_by").iterator(chunk_size=500):
        one.owner = text_of_owner(one.owned_by)
        one.save(update_fields=["owner"])


class Migration(migrations.Migration):
    dependencies = [("applications", "0007_harmless_rounds"), ("people", "0007_owners")]
    operations = [
        migrations.AddField(
            "application",
            "owned_by",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="applications",
                to="people.owner",
            ),
        ),
        migrations.RunPython(carry_over, carry_back),
        migrations.RemoveField("application", "owner"),
        migrations.RenameField("application", "owned_by", "owner"),
    ]
