"""An application in an environment is called a deployment."""

from typing import Any

from django.db import migrations, models


def to_deployments(apps: Any, editor: Any) -> None:
    every = apps.get_model("decommissioning", "Decommissioning").objects
    every.filter(of="places").update(of="deployments")


class Migration(migrations.Migration):
    dependencies = [("decommissioning", "0001_objects_taken_down")]
    operations = [
        migrations.AlterField(
            "decommissioning",
            "of",
            models.CharField(
                choices=[
                    ("connections", "Connection"),
                    ("clients", "Client"),
                    ("deployments", "Deployment"),
                    ("workloads", "Workload"),
                ],
                max_length=12,
            ),
        ),
        migrations.RunPython(to_deployments, migrations.RunPython.noop),
    ]
