"""Filters that people keep; the index itself is a full-text table of SQLite, made in the first
migration.
"""

from __future__ import annotations

from django.conf import settings
from django.db import models


class SavedFilter(models.Model):
    """A filter of a list under a name. ``shared``: everybody sees it."""

    person = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="filters"
    )
    list = models.CharField(max_length=20)
    name = models.CharField(max_length=60)
    words = models.CharField(max_length=300)
    shared = models.BooleanField(default=False)

    class Meta:
        ordering = ["name", "id"]
        constraints = [
            models.UniqueConstraint(fields=["person", "list", "name"], name="one_filter_of_a_name")
        ]


class Rebuild(models.Model):
    """That the index is rewritten, a block of rows after another, and how far it has come: the
    kind of rows by its place, and the key of the last one. What had stood in the index before, up
    to the entry ``newest``, goes at the end if nothing of it was written again.
    """

    place = models.PositiveSmallIntegerField(default=0)
    after = models.CharField(max_length=40, blank=True)
    newest = models.PositiveBigIntegerField(default=0)
    begun = models.DateTimeField(auto_now_add=True)
    ended = models.DateTimeField(null=True)
