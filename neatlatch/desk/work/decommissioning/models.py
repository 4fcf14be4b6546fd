"""Objects that are being decommissioned, and what is kept of those that were."""

from __future__ import annotations

import uuid

from django.db import models
from django.db.models import Q


class Decommissioning(models.Model):
    """One object on its way out, or gone: ``of`` is its kind and ``row`` its primary key as text;
    ``name`` and ``where`` say what it was called and where it was.

    ``reason`` is why what still used it may stop. ``revoked`` says by key what was revoked, by
    whom, when and with what answer; ``proof`` what was seen when it was tried afterwards;
    ``unproven`` why that was not possible. ``history`` is what it was: its fields without secrets,
    its workloads, its last tests and draws.
    """

    class Of(models.TextChoices):
        """The kinds of objects that are decommissioned."""

        CONNECTION = "connections"
        CLIENT = "clients"
        DEPLOYMENT = "deployments"
        WORKLOAD = "workloads"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    of = models.CharField(max_length=12, choices=Of.choices)
    row = models.CharField(max_length=40)
    name = models.CharField(max_length=250)
    where = models.CharField(max_length=200, blank=True)
    begun = models.DateTimeField()
    begun_by = models.CharField(max_length=150)
    confirmed_at = models.DateTimeField(null=True)
    reason = models.CharField(max_length=300, blank=True)
    revoked = models.JSONField(default=dict)
    proven_at = models.DateTimeField(null=True)
    proof = models.CharField(max_length=400, blank=True)
    unproven = models.CharField(max_length=300, blank=True)
    ended = models.DateTimeField(null=True)
    ended_by = models.CharField(max_length=150, blank=True)
    cancelled = models.BooleanField(default=False)
    history = models.JSONField(default=dict)

    class Meta:
        ordering = ["-begun"]
        indexes = [models.Index(fields=["-begun", "id"], name="decommissionings_by_time")]
        constraints = [
            models.UniqueConstraint(
                fields=["of", "row"], condition=Q(ended=None), name="one_decommissioning_at_a_time"
            )
        ]
