"""What inventory files were made from."""

from __future__ import annotations

from django.db import models


class Origin(models.Model):
    """A content that was exported, by its digest, and how files made from it stand since: ``content`` is what the last of them that was applied said."""

    digest = models.CharField(max_length=64, primary_key=True)
    content = models.JSONField()
    at = models.DateTimeField()
    by = models.CharField(max_length=150)

    class Meta:
        ordering = ["-at"]
