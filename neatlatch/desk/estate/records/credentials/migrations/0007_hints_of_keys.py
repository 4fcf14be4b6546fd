"""Private keys were all called “key”; now each by the end of its public half's hash."""

from __future__ import annotations

from typing import Any

from django.db import migrations


def name(apps: Any, schema: Any) -> None:
    for one in (
        apps.get_model("credentials", "Credential")
        .objects.filter(kind="private_key", hint="key")
        .exclude(public_key="")
    ):
        one.hint = f"…{one.public_key.rstrip('=')[-4:]}"
        one.save(update_fields=["hint"])


class Migration(migrations.Migration):
    dependencies = [("credentials", "0006_named")]
    operations = [migrations.RunPython(name, migrations.RunPython.noop)]
