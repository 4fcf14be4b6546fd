"""Tokens by connection and, where each person has their own, by person; who was asked to connect
one.
"""

from __future__ import annotations

from typing import Any

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

_FIELDS = (
    "access",
    "refresh",
    "granted",
    "account",
    "signed_in_at",
    "obtained",
    "ends",
    "generation",
    "lease",
    "lease_until",
    "refused",
)


def carry_over(apps: Any, schema_editor: Any) -> None:
    old, new = (
        apps.get_model("connections", "OldTokenSet"),
        apps.get_model("connections", "TokenSet"),
    )
    for one in old.objects.order_by("pk"):
        # They stay sealed for the same place: a shared token's place has not changed.
        new.objects.create(
            connection_id=one.connection_id, **{field: getattr(one, field) for field in _FIELDS}
        )


def _person(null: bool, related: str) -> Any:
    return models.ForeignKey(
        null=null,
        on_delete=django.db.models.deletion.CASCADE,
        related_name=related,
        to=settings.AUTH_USER_MODEL,
    )


def _connection(related: str) -> Any:
    return models.ForeignKey(
        on_delete=django.db.models.deletion.CASCADE,
        related_name=related,
        to="connections.connection",
    )


class Migration(migrations.Migration):
    dependencies = [
        ("connections", "0006_users_apart"),
        ("people", "0002_teams"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]
    operations = [
        migrations.AddField("connection", "individual", models.BooleanField(default=False)),
        migrations.AddField("connection", "scopes_changed_at", models.DateTimeField(null=True)),
        migrations.AddField(
            "connection",
            "team",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="connections",
                to="people.team",
            ),
        ),
        migrations.CreateModel(
            "Account",
            [
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("expected", models.CharField(blank=True, max_length=200)),
                ("asked_at", models.DateTimeField(null=True)),
                ("asked_by", models.CharField(blank=True, max_length=150)),
                ("connection", _connection("accounts")),
                ("person", _person(False, "accounts")),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(
                        fields=("connection", "person"), name="one_account_of_a_person"
                    )
                ]
            },
        ),
        migrations.RenameModel("TokenSet", "OldTokenSet"),
        migrations.CreateModel(
            "TokenSet",
            [
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("access", models.BinaryField()),
                ("refresh", models.BinaryField(null=True)),
                ("granted", models.JSONField(default=list)),
                ("account", models.CharField(blank=True, max_length=200)),
                ("signed_in_at", models.DateTimeField()),
                ("obtained", models.DateTimeField()),
                ("ends", models.DateTimeField(null=True)),
                ("generation", models.PositiveIntegerField(default=1)),
                ("lease", models.CharField(blank=True, max_length=64)),
                ("lease_until", models.DateTimeField(null=True)),
                ("refused", models.CharField(blank=True, max_length=300)),
                ("connection", _connection("token_sets")),
                ("person", _person(True, "token_sets")),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(
                        fields=("connection", "person"), name="one_token_set_of_a_person"
                    ),
                    models.UniqueConstraint(
                        condition=models.Q(("person", None)),
                        fields=("connection",),
                        name="one_shared_token_set",
                    ),
                ]
            },
        ),
        migrations.RunPython(carry_over, migrations.RunPython.noop),
        migrations.DeleteModel("OldTokenSet"),
    ]
