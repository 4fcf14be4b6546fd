"""The journal: who did what.

Never changed afterwards; the database itself refuses it (see
:mod:`neatlatch.desk.ground.journal.triggers`).
"""

from __future__ import annotations

from django.db import models
from django.db.models.expressions import RawSQL

# The ID of what an entry is about, which the database reads from its details, and has an index of;
# of no column that is written, because entries are never changed.
ABOUT = RawSQL("journal_entry.about", [], output_field=models.TextField())


class Entry(models.Model):
    """One entry. ``details`` holds plain values and never a secret; ``own`` covers them and the
    code before.
    """

    number = models.PositiveBigIntegerField(primary_key=True)
    at = models.DateTimeField()
    who = models.CharField(max_length=150)
    did = models.CharField(max_length=60)
    noun = models.CharField(max_length=40)
    ref = models.CharField(max_length=200)
    details = models.JSONField(default=dict)
    before = models.CharField(max_length=64)
    own = models.CharField(max_length=64, unique=True)

    class Meta:
        indexes = [models.Index(fields=["noun", "ref"])]

    def content(self) -> dict[str, object]:
        """What the code covers."""
        return {
            "at": self.at.isoformat(),
            "who": self.who,
            "did": self.did,
            "noun": self.noun,
            "ref": self.ref,
            "details": self.details,
        }


class Checkpoint(models.Model):
    """Every thousandth entry as it was written, so that a check can begin there; ``sealed`` is its
    anchor.
    """

    number = models.PositiveBigIntegerField(primary_key=True)
    sealed = models.CharField(max_length=250)


class Check(models.Model):
    """How far the check of the whole journal, which goes on in slices, has come, and what the last
    one that came to its end found.
    """

    begun = models.DateTimeField()
    number = models.PositiveBigIntegerField(default=0)
    own = models.CharField(max_length=64)
    ended = models.DateTimeField(null=True)
    fault = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["-begun"]
