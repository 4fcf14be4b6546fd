"""An application in an environment is called a deployment; the column keeps its name."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("access", "0001_initial"), ("applications", "0009_deployments")]
    operations = [
        migrations.AlterField(
            "rulebook",
            "place",
            models.OneToOneField(
                db_column="place_id",
                on_delete=django.db.models.deletion.CASCADE,
                primary_key=True,
                serialize=False,
                related_name="rule_book",
                to="applications.deployment",
            ),
        ),
        migrations.RenameField("rulebook", "place", "deployment"),
    ]
