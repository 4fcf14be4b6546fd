"""Programs may draw for the workloads that they name."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("house", "0006_program_scopes"), ("users", "0004_workloads")]

    operations = [
        migrations.AddField(
            "programscope",
            "workloads",
            models.ManyToManyField(related_name="drawn_for_by", to="users.workload"),
        ),
    ]
