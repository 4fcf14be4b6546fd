from functools import reduce
from operator import or_
from typing import Any

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

TARGETS = (
    "application",
    "client",
    "connection",
    "credential",
    "environment",
    "owner",
    "person",
    "workload",
)


def _only(target: str) -> models.Q:
    return models.Q(**{f"{other}__isnull": other != target for other in TARGETS})


def _of(model: str) -> Any:
    return models.OneToOneField(
        null=True,
        on_delete=django.db.models.deletion.CASCADE,
        related_name="annotation",
        to=model,
    )


class Migration(migrations.Migration):
    initial = True

    dependencies = [
        ("applications", "0008_owners"),
        ("clients", "0010_workload"),
        ("connections", "0018_references"),
        ("credentials", "0014_prepared"),
        ("people", "0007_owners"),
        ("users", "0004_workloads"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Annotation",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("notes", models.TextField(blank=True)),
                ("links", models.JSONField(default=list)),
                ("version", models.PositiveIntegerField(default=0)),
                ("changed_at", models.DateTimeField()),
                ("changed_by", models.CharField(blank=True, max_length=150)),
                ("application", _of("applications.application")),
                ("client", _of("clients.client")),
                ("connection", _of("connections.connection")),
                ("credential", _of("credentials.credential")),
                ("environment", _of("applications.environment")),
                ("owner", _of("people.owner")),
                ("person", _of(settings.AUTH_USER_MODEL)),
                ("workload", _of("users.workload")),
            ],
        ),
        migrations.CreateModel(
            name="Tag",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("name", models.CharField(db_index=True, max_length=40)),
                (
                    "annotation",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="tags",
                        to="annotations.annotation",
                    ),
                ),
            ],
            options={"ordering": ["name"]},
        ),
        migrations.AddConstraint(
            model_name="annotation",
            constraint=models.CheckConstraint(
                condition=reduce(or_, map(_only, TARGETS)), name="annotation_of_one_object"
            ),
        ),
        migrations.AddConstraint(
            model_name="tag",
            constraint=models.UniqueConstraint(
                fields=("annotation", "name"), name="one_tag_of_a_name"
            ),
        ),
    ]
