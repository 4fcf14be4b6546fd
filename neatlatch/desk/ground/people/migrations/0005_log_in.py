"""Since when a second factor stands, the epoch of somebody's sessions, and word of what was done to
their log-in.
"""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.db import migrations, models
from django.utils import timezone


def have_stood(apps: Any, schema_editor: Any) -> None:
    """Second factors that are there already have been there for a day."""
    apps.get_model("people", "Person").objects.exclude(factor=None).update(
        factor_since=timezone.now() - timedelta(days=1)
    )


class Migration(migrations.Migration):
    dependencies = [("people", "0004_sessions")]
    operations = [
        migrations.AddField(
            model_name="person", name="epoch", field=models.PositiveIntegerField(default=0)
        ),
        migrations.AddField(
            model_name="person", name="factor_since", field=models.DateTimeField(null=True)
        ),
        migrations.AddField(
            model_name="person", name="notices", field=models.JSONField(default=list)
        ),
        migrations.RunPython(have_stood, migrations.RunPython.noop),
    ]
