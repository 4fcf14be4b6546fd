"""The usual three environments, so that a new desk can be used at once."""

from typing import Any

from django.db import migrations

_USUAL: tuple[dict[str, Any], ...] = (
    {"key": "sandbox", "name": "Sandbox", "look": "dashed"},
    {"key": "staging", "name": "Staging", "look": "flat"},
    {
        "key": "production",
        "name": "Production",
        "look": "striped",
        "production": True,
        "wants_service_account": True,
    },
)


def make(apps: Any, schema_editor: Any) -> None:
    """Make those that are not there."""
    environment = apps.get_model("applications", "Environment")
    for order, one in enumerate(_USUAL):
        environment.objects.get_or_create(key=one["key"], defaults={**one, "order": order})


class Migration(migrations.Migration):
    dependencies = [("applications", "0001_initial")]
    operations = [migrations.RunPython(make, migrations.RunPython.noop)]
