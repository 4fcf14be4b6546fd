"""An application in an environment is called a deployment; the column keeps its name."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("clients", "0010_workload"), ("applications", "0009_deployments")]
    operations = [
        migrations.AlterField(
            "client",
            "place",
            models.ForeignKey(
                db_column="place_id",
                on_delete=django.db.models.deletion.PROTECT,
                related_name="clients",
                to="applications.deployment",
            ),
        ),
        migrations.RenameField("client", "place", "deployment"),
    ]
