"""What was done to a thing is found by an index: the database reads the thing's ID out of the
details.

It is no field of the model: entries that older migrations write would need it before it is there,
and Django would make the table anew, which its triggers do not outlive.
"""

from django.db import migrations

COLUMN = """ALTER TABLE journal_entry ADD COLUMN about text
    GENERATED ALWAYS AS (CAST(json_extract(details, '$.id') AS TEXT)) VIRTUAL"""


class Migration(migrations.Migration):
    dependencies = [("journal", "0004_taken_over")]

    operations = [
        migrations.RunSQL(COLUMN, "ALTER TABLE journal_entry DROP COLUMN about"),
        migrations.RunSQL(
            "CREATE INDEX entries_about ON journal_entry (about)", "DROP INDEX entries_about"
        ),
    ]
