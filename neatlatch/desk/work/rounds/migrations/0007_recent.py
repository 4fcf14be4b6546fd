"""The last tests of each connection stand with it, too: taken over from the samples."""

from typing import Any

from django.db import migrations

from neatlatch.core.health import RECENT, with_latest


def take_over(apps: Any, schema_editor: Any) -> None:
    samples = apps.get_model("rounds", "Sample").objects
    for one in (
        apps.get_model("connections", "Connection")
        .objects.only("id", "recent")
        .iterator(chunk_size=500)
    ):
        last = samples.filter(connection_id=one.pk).order_by("-at").values_list("passed", "ms")
        for passed, ms in reversed(last[:RECENT]):
            one.recent = with_latest(one.recent, passed, ms)
        one.save(update_fields=["recent"])


class Migration(migrations.Migration):
    dependencies = [("rounds", "0006_by_program"), ("connections", "0014_summaries")]

    operations = [migrations.RunPython(take_over, migrations.RunPython.noop)]
