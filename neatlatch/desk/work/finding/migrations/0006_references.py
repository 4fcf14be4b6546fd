"""Empties the index, so that ``FindingConfig`` fills it anew after all migrations: connections are
found at their references.
"""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("finding", "0005_workloads"), ("connections", "0018_references")]
    operations = [
        migrations.RunSQL(
            ["DELETE FROM finding_entry", "DELETE FROM finding_place"], migrations.RunSQL.noop
        )
    ]
