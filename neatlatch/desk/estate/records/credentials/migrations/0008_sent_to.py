"""Where a secret goes: the origins that it was cleared for.

Those that stand are filled by connections 0008.
"""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("credentials", "0007_hints_of_keys")]
    operations = [migrations.AddField("credential", "sent_to", models.JSONField(default=list))]
