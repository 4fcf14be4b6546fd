"""Sessions are kept by a digest of their keys from now on: those that stand there in clear end."""

from __future__ import annotations

from typing import Any

from django.db import migrations


def end_all(apps: Any, schema_editor: Any) -> None:
    """Remove every session: people log in again."""
    apps.get_model("sessions", "Session").objects.all().delete()


class Migration(migrations.Migration):
    dependencies = [("people", "0003_handing"), ("sessions", "0001_initial")]
    operations = [migrations.RunPython(end_all, migrations.RunPython.noop)]
