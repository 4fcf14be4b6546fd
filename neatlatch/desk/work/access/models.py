"""Access rules of an application in one environment, as they are kept here and as they were last
read there.
"""

from __future__ import annotations

from typing import Any

from django.db import models

from neatlatch.core.access import Book, formats
from neatlatch.desk.estate.records.applications.models import Deployment


class RuleBook(models.Model):
    """``content`` are our rules and groups; ``there`` those that were last read at the application,
    with their ``tag``; ``pushed`` what we last wrote.
    """

    deployment = models.OneToOneField(
        Deployment,
        on_delete=models.CASCADE,
        related_name="rule_book",
        primary_key=True,
        db_column="place_id",
    )
    content = models.JSONField(default=dict)
    version = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField()
    changed_by = models.CharField(max_length=150, blank=True)
    there: Any = models.JSONField(null=True)
    resources = models.JSONField(default=list)
    tag = models.CharField(max_length=200, blank=True)
    read_at = models.DateTimeField(null=True)
    pushed: Any = models.JSONField(null=True)
    pushed_at = models.DateTimeField(null=True)

    def book(self) -> Book:
        """Our rules."""
        return formats.from_plain(self.content) if self.content else Book()

    def provider_book(self) -> Book | None:
        """Theirs, as they were last read."""
        return formats.from_plain(self.there) if self.there is not None else None

    def book_pushed(self) -> Book | None:
        """What we last wrote there."""
        return formats.from_plain(self.pushed) if self.pushed is not None else None
