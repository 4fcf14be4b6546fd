"""Creation requests that were answered, kept so that a repeated one is answered alike."""

from __future__ import annotations

from django.db import models


class Repeatable(models.Model):
    """The answer to a creation request with an ``Idempotency-Key``."""

    # Who sent it: a login name, or a program's.
    who = models.CharField(max_length=150)
    key = models.CharField(max_length=100)
    digest = models.CharField(max_length=64)
    status = models.PositiveSmallIntegerField()
    answer = models.JSONField()
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["who", "key"], name="one_answer_for_a_key")]
