"""The journal: who did what. Never changed afterwards; the database itself refuses it (see the first migration)."""

from __future__ import annotations

from django.db import models


class Entry(models.Model):
    """One entry. ``details`` holds plain values and never a secret; ``own`` covers them and the hash before."""

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
        """What the hash covers."""
        return {"at": self.at.isoformat(), "who": self.who, "did": self.did, "noun": self.noun, "ref": self.ref, "details": self.details}
