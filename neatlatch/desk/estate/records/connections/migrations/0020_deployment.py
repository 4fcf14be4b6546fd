"""An application in an environment is called a deployment; the column keeps its name."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("connections", "0019_test_interval"), ("applications", "0009_deployments")]
    operations = [
        migrations.AlterField(
            "connection",
            "place",
            models.ForeignKey(
                db_column="place_id",
                on_delete=django.db.models.deletion.PROTECT,
                related_name="connections",
                to="applications.deployment",
            ),
        ),
        migrations.RenameField("connection", "place", "deployment"),
    ]
