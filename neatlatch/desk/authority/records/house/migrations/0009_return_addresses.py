"""Programs name where they may have people sent back to."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("house", "0008_log_in")]

    operations = [
        migrations.AddField("programscope", "return_addresses", models.JSONField(default=list)),
    ]
