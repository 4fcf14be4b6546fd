"""Workloads draw; they were called users."""

from django.db import migrations, models

_SPAN = ("connection", "workload", "credential", "way", "span", "begins")


class Migration(migrations.Migration):
    dependencies = [("drawing", "0003_found_by_index")]
    operations = [
        migrations.RemoveConstraint("drawn", "one_row_for_a_span"),
        migrations.RemoveIndex("drawn", "draws_of_a_user"),
        migrations.RenameField("drawn", "user", "workload"),
        migrations.AddIndex("drawn", models.Index(fields=["workload"], name="draws_of_a_workload")),
        migrations.AddConstraint(
            "drawn", models.UniqueConstraint(fields=_SPAN, name="one_row_for_a_span")
        ),
    ]
