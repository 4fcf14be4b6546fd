"""Requests that were turned away are called rejected; the table keeps its name."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("house", "0004_deployment")]
    operations = [
        migrations.AlterModelTable("turned", "house_turned"),
        migrations.RenameModel("Turned", "RejectedRequest"),
        migrations.AlterField(
            "rejectedrequest",
            "client",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.CASCADE,
                related_name="rejected_requests",
                to="clients.client",
            ),
        ),
    ]
