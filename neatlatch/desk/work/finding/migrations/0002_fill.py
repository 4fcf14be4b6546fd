"""Once filled the index; ``FindingConfig`` does so now, after all migrations, because rows are read
as the models have them today.
"""

from __future__ import annotations

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [
        ("finding", "0001_initial"),
        ("access", "0001_initial"),
        ("users", "0002_from_connections"),
        ("connections", "0007_token_sets"),
        ("clients", "0004_benches"),
        ("people", "0002_teams"),
        ("credentials", "0003_kinds"),
    ]
