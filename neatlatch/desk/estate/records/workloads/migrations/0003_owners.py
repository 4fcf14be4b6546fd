"""The owner of a user of connections is a person, a team or a contact; its text is carried over."""

from typing import Any

import django.db.models.deletion
from django.db import migrations, models

from neatlatch.desk.ground.people.carried import owner_of_text, text_of_owner


def carry_over(apps: Any, editor: Any) -> None:
    for one in apps.get_model("users", "User").objects.exclude(owner="").iterator(chunk_size=500):
        one.owned_by = owner_of_text(apps, one.owner)
        one.save(update_fields=["owned_by"])


def carry_back(apps: Any, editor: Any) -> None:
    rows = apps.get_model("users", "User").objects.exclude(owned_by=None)
    for one in rows.select_related("owned_by").iterator(chunk_size=500):
        one.owner = text_of_owner(one.owned_by)
        one.save(update_fields=["owner"])


class Migration(migrations.Migration):
    dependencies = [("users", "0002_from_connections"), ("people", "0007_owners")]
    operations = [
        migrations.AddField(
            "user",
            "owned_by",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="workloads",
                to="people.owner",
            ),
        ),
        migrations.RunPython(carry_over, carry_back),
        migrations.RemoveField("user", "owner"),
        migrations.RenameField("user", "owned_by", "owner"),
    ]
