"""Filters that people keep; the index itself is a full-text table of SQLite, made in the first migration."""

from __future__ import annotations

from django.conf import settings
from django.db import models


class SavedFilter(models.Model):
    """A filter of a list under a name. ``shared``: everybody sees it."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="filters")
    list = models.CharField(max_length=20)
    name = models.CharField(max_length=60)
    words = models.CharField(max_length=300)
    shared = models.BooleanField(default=False)

    class Meta:
        ordering = ["name", "id"]
        constraints = [models.UniqueConstraint(fields=["person", "list", "name"], name="one_filter_of_a_name")]
