"""Filters that people keep, and the full-text table of everything that can be found."""

from __future__ import annotations

from typing import Any

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

# Short beginnings have an index of their own, because people look after the first letters.
INDEX = """CREATE VIRTUAL TABLE finding_entry USING fts5(
           name, words, kind UNINDEXED, address UNINDEXED, detail UNINDEXED,
           tokenize = "unicode61 remove_diacritics 2", prefix = '1 2 3')"""
PLACES = "CREATE TABLE finding_place (entry INTEGER PRIMARY KEY, of TEXT NOT NULL)"


def person() -> Any:
    return models.ForeignKey(
        on_delete=django.db.models.deletion.CASCADE,
        related_name="filters",
        to=settings.AUTH_USER_MODEL,
    )


class Migration(migrations.Migration):
    initial = True
    dependencies = [migrations.swappable_dependency(settings.AUTH_USER_MODEL)]
    operations = [
        migrations.CreateModel(
            "SavedFilter",
            [
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("list", models.CharField(max_length=20)),
                ("name", models.CharField(max_length=60)),
                ("words", models.CharField(max_length=300)),
                ("shared", models.BooleanField(default=False)),
                ("person", person()),
            ],
            options={
                "ordering": ["name", "id"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("person", "list", "name"), name="one_filter_of_a_name"
                    )
                ],
            },
        ),
        migrations.RunSQL(INDEX, "DROP TABLE finding_entry"),
        migrations.RunSQL(PLACES, "DROP TABLE finding_place"),
        migrations.RunSQL(
            "CREATE INDEX finding_place_of ON finding_place (of)", migrations.RunSQL.noop
        ),
    ]
