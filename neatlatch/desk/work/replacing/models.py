"""A credential being replaced by another."""

from __future__ import annotations

import uuid

from django.db import models
from django.db.models import Q

from neatlatch.desk.estate.records.credentials.models import Credential


class Replacement(models.Model):
    """One replacement: ``old`` by ``new``, by one of the ways.

    ``values`` are what else of a connection changes with it (its certificate, the name that the new
    one is known by), ``before`` what stood there, by the connection's ID, so that it can be put
    back; ``holders`` are connection, key and credential as they were when it began; ``moved`` are
    workloads that hold the credential themselves and have been changed manually.
    """

    class Outcome(models.TextChoices):
        """How it ended; open: it has not."""

        OPEN = "open"
        DONE = "done"
        ROLLED_BACK = "back"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    old = models.ForeignKey(Credential, on_delete=models.CASCADE, related_name="replacements")
    new = models.ForeignKey(
        Credential, null=True, on_delete=models.SET_NULL, related_name="replacing"
    )
    way = models.CharField(max_length=8)
    overlaps = models.BooleanField()
    outcome = models.CharField(max_length=8, choices=Outcome.choices, default=Outcome.OPEN)
    begun = models.DateTimeField()
    begun_by = models.CharField(max_length=150)
    values = models.JSONField(default=dict)
    made = models.DateTimeField(null=True)
    proven = models.DateTimeField(null=True)
    switched = models.DateTimeField(null=True)
    retired = models.DateTimeField(null=True)
    refused = models.DateTimeField(null=True)
    holders = models.JSONField(default=list)
    before = models.JSONField(default=dict)
    moved = models.JSONField(default=list)
    said = models.CharField(max_length=400, blank=True)

    class Meta:
        ordering = ["-begun"]
        constraints = [
            models.UniqueConstraint(
                fields=["old"], condition=Q(outcome="open"), name="one_replacement_at_a_time"
            )
        ]
