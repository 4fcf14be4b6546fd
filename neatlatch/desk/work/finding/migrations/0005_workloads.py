"""Empties the index, so that ``FindingConfig`` fills it anew after all migrations: what was found
as a user is a workload. Kept filters say what they mean by today's words.
"""

import re
from typing import Any

from django.db import migrations

# In which list, what was said, and what is said now.
_WORDS = (
    ("connections", r"\bstate:(\"?)open\b", r"state:\1unlatched"),
    ("connections", r"\buser:", "workload:"),
    ("credentials", r"\bstate:(\"?)staged\b", r"state:\1prepared"),
)


def to_words_of_now(apps: Any, editor: Any) -> None:
    filters = apps.get_model("finding", "SavedFilter").objects
    filters.filter(list="users").update(list="workloads")
    for one in filters.iterator(chunk_size=500):
        words = one.words
        for of, before, after in _WORDS:
            if one.list == of:
                words = re.sub(before, after, words)
        if words != one.words:
            one.words = words[:300]
            one.save(update_fields=["words"])


class Migration(migrations.Migration):
    dependencies = [("finding", "0004_rebuild"), ("users", "0004_workloads")]
    operations = [
        migrations.RunPython(to_words_of_now, migrations.RunPython.noop),
        migrations.RunSQL(
            ["DELETE FROM finding_entry", "DELETE FROM finding_place"], migrations.RunSQL.noop
        ),
    ]
