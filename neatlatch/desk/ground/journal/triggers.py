"""What has the database itself refuse to change the journal.

They stand in the database, so that they are looked at when a program starts.
"""

from __future__ import annotations

from django.db import connection

_WORDS = "the journal is never changed"
# REPLACE deletes the old row without a word to triggers of deletion (SQLite, “recursive_triggers”),
# so an insert is looked at too.
TRIGGERS = {
    "journal_entry_no_UPDATE": (
        f"CREATE TRIGGER journal_entry_no_UPDATE BEFORE UPDATE ON journal_entry BEGIN SELECT "
        f"RAISE(ABORT, '{_WORDS}'); END"
    ),
    "journal_entry_no_DELETE": (
        f"CREATE TRIGGER journal_entry_no_DELETE BEFORE DELETE ON journal_entry BEGIN SELECT "
        f"RAISE(ABORT, '{_WORDS}'); END"
    ),
    "journal_entry_only_NEXT": (
        "CREATE TRIGGER journal_entry_only_NEXT BEFORE INSERT ON journal_entry "
        "WHEN NEW.number <> (SELECT coalesce(max(number), 0) + 1 FROM journal_entry) OR "
        "EXISTS (SELECT 1 FROM journal_entry WHERE own = NEW.own) "
        f"BEGIN SELECT RAISE(ABORT, '{_WORDS}'); END"
    ),
    "journal_checkpoint_no_UPDATE": (
        f"CREATE TRIGGER journal_checkpoint_no_UPDATE BEFORE UPDATE ON journal_checkpoint "
        f"BEGIN SELECT RAISE(ABORT, '{_WORDS}'); END"
    ),
    "journal_checkpoint_no_DELETE": (
        f"CREATE TRIGGER journal_checkpoint_no_DELETE BEFORE DELETE ON journal_checkpoint "
        f"BEGIN SELECT RAISE(ABORT, '{_WORDS}'); END"
    ),
}


def missing() -> list[str]:
    """The triggers that are not there, or not as they should be."""
    with connection.cursor() as cursor:
        rows = cursor.execute(
            "SELECT name, sql FROM sqlite_master WHERE type = 'trigger' AND tbl_name LIKE "
            "'journal_%'"
        ).fetchall()
    stand = {name: " ".join(str(sql).split()) for name, sql in rows}
    return [name for name, sql in TRIGGERS.items() if stand.get(name) != " ".join(sql.split())]


def make(names: list[str]) -> None:
    """Make these anew."""
    with connection.cursor() as cursor:
        for name in names:
            cursor.execute(f"DROP TRIGGER IF EXISTS {name}")
            cursor.execute(TRIGGERS[name])
