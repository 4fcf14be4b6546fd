"""An import says by name who began it: a program may, too."""

from typing import Any

from django.db import migrations, models


def to_names(apps: Any, editor: Any) -> None:
    for plan in apps.get_model("inventory", "ImportPlan").objects.select_related("by"):
        plan.who = plan.by.username
        plan.save(update_fields=["who"])


class Migration(migrations.Migration):
    dependencies = [("inventory", "0006_deployments")]
    operations = [
        migrations.AddField(
            "importplan",
            "who",
            models.CharField(default="", max_length=150),
            preserve_default=False,
        ),
        migrations.RunPython(to_names, migrations.RunPython.noop),
        migrations.RemoveField("importplan", "by"),
    ]
