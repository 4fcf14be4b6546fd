"""Empties the index, so that ``FindingConfig`` fills it anew after all migrations: certificates and
authorities are found now, too.
"""

from __future__ import annotations

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("finding", "0002_fill"), ("certificates", "0001_initial")]
    operations = [
        migrations.RunSQL(
            ["DELETE FROM finding_entry", "DELETE FROM finding_place"], migrations.RunSQL.noop
        )
    ]
