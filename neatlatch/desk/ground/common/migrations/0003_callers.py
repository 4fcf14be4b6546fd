"""Answers that are kept for a repeated request belong to a caller, who may be a program."""

from __future__ import annotations

from typing import Any

from django.db import migrations, models


def name_the_callers(apps: Any, schema_editor: Any) -> None:
    """The login name in place of the person's key."""
    kept, people = apps.get_model("common", "Repeatable"), apps.get_model("people", "Person")
    for row in kept.objects.all():
        row.who = people.objects.values_list("username", flat=True).get(pk=row.person_id)
        row.save(update_fields=["who"])


class Migration(migrations.Migration):
    dependencies = [("common", "0002_initial"), ("people", "0001_initial")]

    operations = [
        migrations.RemoveConstraint(model_name="repeatable", name="one_answer_for_a_key"),
        migrations.AddField(
            model_name="repeatable",
            name="who",
            field=models.CharField(default="", max_length=150),
            preserve_default=False,
        ),
        migrations.RunPython(name_the_callers, migrations.RunPython.noop),
        migrations.RemoveField(model_name="repeatable", name="person"),
        migrations.AddConstraint(
            model_name="repeatable",
            constraint=models.UniqueConstraint(fields=("who", "key"), name="one_answer_for_a_key"),
        ),
    ]
