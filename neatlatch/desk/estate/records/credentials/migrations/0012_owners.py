"""The owner of a credential: a person, a team or a contact, carried over from whose account it was
noted to be, or from the contact of its client."""

from typing import Any

import django.db.models.deletion
from django.db import migrations, models

from neatlatch.desk.ground.people.carried import owner_of_text


def carry_over(apps: Any, editor: Any) -> None:
    rows = apps.get_model("credentials", "Credential").objects.exclude(client=None)
    rows = rows.filter(client__user=None).select_related("client").defer("value")
    for one in rows.iterator(chunk_size=500):
        text = one.client.account or next(iter(one.client.contacts), "")
        if (owner := owner_of_text(apps, text)) is not None:
            one.owner = owner
            one.save(update_fields=["owner"])


class Migration(migrations.Migration):
    dependencies = [
        ("credentials", "0011_chain"),
        ("clients", "0008_kinds"),
        ("people", "0007_owners"),
    ]
    operations = [
        migrations.AddField(
            "credential",
            "owner",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="credentials",
                to="people.owner",
            ),
        ),
        migrations.RunPython(carry_over, migrations.RunPython.noop),
    ]
