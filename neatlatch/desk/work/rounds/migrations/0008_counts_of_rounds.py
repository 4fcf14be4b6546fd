"""Rounds keep the counts of their tests: those of rounds that have ended are taken over from what
is left of their tests.
"""

from typing import Any

from django.db import migrations, models
from django.db.models import Count, Q


def take_over(apps: Any, schema_editor: Any) -> None:
    test = apps.get_model("rounds", "Test").objects
    over = Q(state__in=("done", "stopped"))
    counted = (
        test.exclude(round=None)
        .order_by()
        .values("round")
        .annotate(
            total=Count("pk"),
            over=Count("pk", filter=over),
            in_vain=Count("pk", filter=Q(passed=False)),
        )
    )
    for number, total, done, failed in counted.values_list("round", "total", "over", "in_vain"):
        apps.get_model("rounds", "Round").objects.filter(pk=number).update(
            total=total, done=done, failed=failed
        )


class Migration(migrations.Migration):
    dependencies = [("connections", "0015_lacks"), ("rounds", "0007_recent")]

    operations = [
        *(
            migrations.AddField("round", name, models.PositiveIntegerField(default=0))
            for name in ("done", "failed", "total")
        ),
        migrations.AddIndex(
            "test",
            models.Index(
                fields=["round", "state", "passed"],
                condition=models.Q(round__isnull=False),
                name="how_a_round_goes",
            ),
        ),
        migrations.RunPython(take_over, migrations.RunPython.noop),
    ]
