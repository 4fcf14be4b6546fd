"""Who may draw a secret itself. Those who draw today are filled in by drawing 0002."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("credentials", "0008_sent_to")]
    operations = [migrations.AddField("credential", "drawn_by", models.JSONField(default=list))]
