"""An application in an environment is called a deployment; the column keeps its name."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("house", "0003_gone_access"), ("applications", "0009_deployments")]
    operations = [
        migrations.AlterField(
            "registrationright",
            "place",
            models.ForeignKey(
                db_column="place_id",
                on_delete=django.db.models.deletion.CASCADE,
                related_name="registration_rights",
                to="applications.deployment",
            ),
        ),
        migrations.RenameField("registrationright", "place", "deployment"),
    ]
