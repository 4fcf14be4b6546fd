"""A grant says what the person's log-in held to when they gave it."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("house", "0007_draws_for")]

    operations = [
        migrations.AddField("grant", "log_in", models.CharField(blank=True, max_length=64)),
    ]
