"""What people log in with: passkeys, recovery codes, sessions that say whose they are, and counts
of wrong log-ins of our own.
"""

from typing import Any

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models

PERSON = settings.AUTH_USER_MODEL
ID = (
    "id",
    models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID"),
)


def of_person(name: str, **more: Any) -> tuple[str, Any]:
    return (
        "person",
        models.ForeignKey(
            on_delete=django.db.models.deletion.CASCADE, related_name=name, to=PERSON, **more
        ),
    )


class Migration(migrations.Migration):
    dependencies = [("people", "0005_log_in")]
    operations = [
        migrations.AddField("person", "must_change", models.BooleanField(default=False)),
        migrations.CreateModel(
            "Passkey",
            [
                ID,
                ("name", models.CharField(max_length=60)),
                ("credential_id", models.CharField(max_length=1400, unique=True)),
                ("public_key", models.BinaryField()),
                ("sign_count", models.BigIntegerField(default=0)),
                ("added", models.DateTimeField()),
                ("last_used", models.DateTimeField(null=True)),
                of_person("passkeys"),
            ],
            {"ordering": ["added"]},
        ),
        migrations.CreateModel(
            "Challenge",
            [
                ID,
                ("digest", models.CharField(max_length=64, unique=True)),
                (
                    "purpose",
                    models.CharField(
                        choices=[("add", "Add"), ("prove", "Prove"), ("code", "Code")], max_length=5
                    ),
                ),
                ("ends", models.DateTimeField()),
                (
                    "passkey",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.CASCADE, to="people.passkey"
                    ),
                ),
                of_person("challenges"),
            ],
        ),
        migrations.CreateModel(
            "RecoveryCode",
            [
                ID,
                ("digest", models.CharField(max_length=64)),
                ("used", models.DateTimeField(null=True)),
                of_person("recovery_codes"),
            ],
        ),
        migrations.AddConstraint(
            "recoverycode",
            models.UniqueConstraint(
                fields=("person", "digest"), name="one_recovery_code_of_a_kind"
            ),
        ),
        migrations.CreateModel(
            "Session",
            [
                (
                    "session_key",
                    models.CharField(
                        max_length=40, primary_key=True, serialize=False, verbose_name="session key"
                    ),
                ),
                ("session_data", models.TextField(verbose_name="session data")),
                ("expire_date", models.DateTimeField(db_index=True, verbose_name="expire date")),
                ("begun", models.DateTimeField(null=True)),
                ("seen", models.DateTimeField(null=True)),
                ("address", models.CharField(blank=True, max_length=45)),
                ("browser", models.CharField(blank=True, max_length=200)),
                of_person("sessions", null=True),
            ],
            {"verbose_name": "session", "verbose_name_plural": "sessions", "abstract": False},
        ),
        migrations.CreateModel(
            "Tries",
            [
                ("digest", models.CharField(max_length=64, primary_key=True, serialize=False)),
                ("wrong", models.PositiveIntegerField(default=0)),
                ("since", models.DateTimeField(null=True)),
                ("until", models.DateTimeField(null=True)),
                ("known", models.BooleanField(default=False)),
                ("at", models.DateTimeField(db_index=True)),
            ],
        ),
        # Names and addresses of wrong log-ins stood there in clear.
        *(
            migrations.RunSQL(f"DROP TABLE IF EXISTS axes_{name}", migrations.RunSQL.noop)
            for name in (
                "accessattemptexpiration",
                "accessattempt",
                "accessfailurelog",
                "accesslog",
            )
        ),
    ]
