"""Contents that files were made from are kept compressed."""

import json
import zlib
from typing import Any

from django.db import migrations, models


def pack(apps: Any, schema_editor: Any) -> None:
    for one in apps.get_model("inventory", "Origin").objects.iterator(chunk_size=5):
        one.packed = zlib.compress(
            json.dumps(one.content, ensure_ascii=False, separators=(",", ":")).encode(), 6
        )
        one.save(update_fields=["packed"])


class Migration(migrations.Migration):
    dependencies = [("inventory", "0001_initial")]

    operations = [
        migrations.AddField("origin", "packed", models.BinaryField(default=b"")),
        migrations.RunPython(pack, migrations.RunPython.noop),
        migrations.RemoveField("origin", "content"),
        migrations.AlterField("origin", "packed", models.BinaryField()),
    ]
