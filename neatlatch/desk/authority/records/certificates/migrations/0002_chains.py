"""The chain of a certificate stands with its key's credential too."""

from __future__ import annotations

from typing import Any

from django.db import migrations


def fill(apps: Any, schema_editor: Any) -> None:
    """Write it down for what was issued before."""
    issued = apps.get_model("certificates", "Issued").objects.select_related("authority__root")
    credentials = apps.get_model("credentials", "Credential").objects
    for one in issued.iterator(200):
        root = one.authority.root.pem if one.authority.root is not None else ""
        row = credentials.filter(pk=one.credential_id)
        row.update(chain=one.pem + one.authority.pem, root=root)


class Migration(migrations.Migration):
    dependencies = [("certificates", "0001_initial"), ("credentials", "0011_chain")]
    operations = [migrations.RunPython(fill, migrations.RunPython.noop, elidable=True)]
