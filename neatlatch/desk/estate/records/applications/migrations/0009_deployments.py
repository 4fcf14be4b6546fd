"""An application in an environment is called a deployment; the table keeps its name."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("applications", "0008_owners"),
        # They name the model as it was called.
        ("access", "0001_initial"),
        ("clients", "0010_workload"),
        ("connections", "0019_test_interval"),
        ("house", "0003_gone_access"),
    ]
    operations = [
        migrations.AlterModelTable("place", "applications_place"),
        migrations.RenameModel("Place", "Deployment"),
        migrations.AlterField(
            "deployment",
            "application",
            models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT,
                related_name="deployments",
                to="applications.application",
            ),
        ),
        migrations.AlterField(
            "deployment",
            "environment",
            models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT,
                related_name="deployments",
                to="applications.environment",
            ),
        ),
    ]
