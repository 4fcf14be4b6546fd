"""Users of connections are called workloads; the tables keep their names."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("users", "0003_owners"),
        # They name the model as it was called.
        ("clients", "0009_by_name"),
        ("connections", "0015_lacks"),
        ("drawing", "0003_found_by_index"),
    ]
    operations = [
        migrations.RemoveConstraint("user", "one_user_of_a_name_in_an_environment"),
        migrations.RemoveConstraint("use", "one_use_of_a_connection"),
        migrations.RemoveConstraint("use", "one_open_use_of_an_application"),
        migrations.AlterModelTable("user", "users_user"),
        migrations.RenameModel("User", "Workload"),
        migrations.RenameField("use", "user", "workload"),
        migrations.AlterField(
            "workload",
            "environment",
            models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT,
                related_name="workloads",
                to="applications.environment",
            ),
        ),
        migrations.AlterField(
            "use",
            "connection",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="uses",
                to="connections.connection",
            ),
        ),
        migrations.AddConstraint(
            "workload",
            models.UniqueConstraint(
                fields=("name", "environment"), name="one_workload_of_a_name_in_an_environment"
            ),
        ),
        migrations.AddConstraint(
            "use",
            models.UniqueConstraint(
                fields=("workload", "connection"), name="one_use_of_a_connection"
            ),
        ),
        migrations.AddConstraint(
            "use",
            models.UniqueConstraint(
                condition=models.Q(("connection", None)),
                fields=("workload", "application"),
                name="one_open_use_of_an_application",
            ),
        ),
    ]
