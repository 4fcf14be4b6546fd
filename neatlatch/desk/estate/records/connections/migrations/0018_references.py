"""A connection's name is unique together with its environment, and its reference is both:
``production/cargo-manifests``. Names stay as they were.
"""

import django.db.models.deletion
from django.db import migrations, models

_TO_REFERENCES = """UPDATE connections_connection SET name = ref, ref = (
    SELECT e.key FROM applications_place p JOIN applications_environment e
    ON e.id = p.environment_id WHERE p.id = connections_connection.place_id) || '/' || ref"""
_TO_NAMES = "UPDATE connections_connection SET ref = name"
_OF_SUMMARIES = """UPDATE connections_summary SET ref = (
    SELECT c.ref FROM connections_connection c WHERE c.id = connections_summary.connection_id)"""


class Migration(migrations.Migration):
    dependencies = [("applications", "0008_owners"), ("connections", "0017_unlatched")]
    operations = [
        migrations.AddField(
            "connection",
            "name",
            models.SlugField(db_index=False, default="", max_length=80),
            preserve_default=False,
        ),
        migrations.AlterField("connection", "ref", models.CharField(max_length=131, unique=True)),
        migrations.AlterField("summary", "ref", models.CharField(blank=True, max_length=131)),
        migrations.AddIndex(
            "connection", models.Index(fields=["name"], name="connections_by_name")
        ),
        migrations.RunSQL([_TO_REFERENCES, _OF_SUMMARIES], [_TO_NAMES, _OF_SUMMARIES]),
        migrations.CreateModel(
            name="FormerName",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("name", models.SlugField(db_index=False, max_length=80)),
                ("changed_at", models.DateTimeField()),
                ("changed_by", models.CharField(blank=True, max_length=150)),
                ("used_at", models.DateTimeField(null=True)),
                ("used_by", models.CharField(blank=True, max_length=200)),
                (
                    "connection",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="former_names",
                        to="connections.connection",
                    ),
                ),
                (
                    "environment",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="+",
                        to="applications.environment",
                    ),
                ),
            ],
            options={
                "ordering": ["name"],
                "constraints": [
                    models.UniqueConstraint(
                        fields=("environment", "name"), name="one_former_name_in_an_environment"
                    )
                ],
            },
        ),
    ]
