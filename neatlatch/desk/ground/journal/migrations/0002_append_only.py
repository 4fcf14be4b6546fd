"""The database itself refuses to change or delete an entry."""

from django.db import migrations

_REFUSE = """
CREATE TRIGGER journal_entry_no_{act} BEFORE {act} ON journal_entry
BEGIN SELECT RAISE(ABORT, 'the journal is never changed'); END
"""


class Migration(migrations.Migration):
    dependencies = [("journal", "0001_initial")]
    operations = [
        migrations.RunSQL(_REFUSE.format(act=act), f"DROP TRIGGER journal_entry_no_{act}")
        for act in ("UPDATE", "DELETE")
    ]
