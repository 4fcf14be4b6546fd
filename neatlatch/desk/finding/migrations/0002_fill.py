"""What stood here before there was an index is found too."""

from __future__ import annotations

from typing import Any

from django.db import migrations


def fill(apps: Any, schema_editor: Any) -> None:
    # Only where there is something: on a new desk the tables that later migrations change need not be read.
    if apps.get_model("applications", "Application").objects.exists():
        from neatlatch.desk.finding import index

        index.rebuild()


class Migration(migrations.Migration):
    dependencies = [("finding", "0001_initial"), ("access", "0001_initial"), ("users", "0002_from_connections"), ("connections", "0007_token_sets"),
                    ("clients", "0004_benches"), ("people", "0002_teams"), ("credentials", "0003_kinds")]  # fmt: skip
    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
