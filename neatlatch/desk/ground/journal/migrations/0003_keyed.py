"""Checkpoints, checks in slices, and triggers that REPLACE does not get past."""

from typing import Any

from django.db import migrations, models

_WORDS = "the journal is never changed"
# As they stood when this was written; neatlatch.desk.ground.journal.triggers is what they are held
# to.
MADE = [
    (
        f"CREATE TRIGGER journal_entry_no_UPDATE BEFORE UPDATE ON journal_entry BEGIN SELECT "
        f"RAISE(ABORT, '{_WORDS}'); END"
    ),
    (
        f"CREATE TRIGGER journal_entry_no_DELETE BEFORE DELETE ON journal_entry BEGIN SELECT "
        f"RAISE(ABORT, '{_WORDS}'); END"
    ),
    "CREATE TRIGGER journal_entry_only_NEXT BEFORE INSERT ON journal_entry "
    "WHEN NEW.number <> (SELECT coalesce(max(number), 0) + 1 FROM journal_entry) OR EXISTS "
    "(SELECT 1 FROM journal_entry WHERE own = NEW.own) "
    f"BEGIN SELECT RAISE(ABORT, '{_WORDS}'); END",
    (
        f"CREATE TRIGGER journal_checkpoint_no_UPDATE BEFORE UPDATE ON journal_checkpoint BEGIN "
        f"SELECT RAISE(ABORT, '{_WORDS}'); END"
    ),
    (
        f"CREATE TRIGGER journal_checkpoint_no_DELETE BEFORE DELETE ON journal_checkpoint BEGIN "
        f"SELECT RAISE(ABORT, '{_WORDS}'); END"
    ),
]


def make(apps: Any, editor: Any) -> None:
    for name in ("UPDATE", "DELETE"):
        editor.execute(f"DROP TRIGGER IF EXISTS journal_entry_no_{name}")
    for one in MADE:
        editor.execute(one)


class Migration(migrations.Migration):
    dependencies = [("journal", "0002_append_only")]
    operations = [
        migrations.CreateModel(
            "Checkpoint",
            [
                ("number", models.PositiveBigIntegerField(primary_key=True, serialize=False)),
                ("sealed", models.CharField(max_length=250)),
            ],
        ),
        migrations.CreateModel(
            "Check",
            [
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("begun", models.DateTimeField()),
                ("number", models.PositiveBigIntegerField(default=0)),
                ("own", models.CharField(max_length=64)),
                ("ended", models.DateTimeField(null=True)),
                ("fault", models.CharField(blank=True, max_length=300)),
            ],
            {"ordering": ["-begun"]},
        ),
        migrations.RunPython(make, migrations.RunPython.noop),
    ]
