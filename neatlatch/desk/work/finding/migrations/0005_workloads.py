"""Empties the index, so that ``FindingConfig`` fills it anew after all migrations: what was found
as a user is a workload.
"""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("finding", "0004_rebuild"), ("users", "0004_workloads")]
    operations = [
        migrations.RunSQL(
            ["DELETE FROM finding_entry", "DELETE FROM finding_place"], migrations.RunSQL.noop
        )
    ]
