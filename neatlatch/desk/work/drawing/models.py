"""Who draws what, and when last."""

from __future__ import annotations

from django.db import models


class Drawn(models.Model):
    """Draws of one workload on one connection with one credential within an hour, or a day once it
    is a week old: one row, however many there were.

    ``way`` is *draw* (a header was taken) or *relay* (a request was sent through); ``span`` is
    *hour* or *day*; ``credential`` the ID of the secret that was used, so that it is seen when
    nobody draws an old one any more. Workload and connection are kept by ID: facts outlive what
    they tell of.
    """

    workload = models.UUIDField()
    connection = models.UUIDField()
    credential = models.CharField(max_length=36, blank=True)
    way = models.CharField(max_length=5)
    span = models.CharField(max_length=4, default="hour")
    begins = models.DateTimeField(db_index=True)
    count = models.PositiveBigIntegerField()
    failed = models.PositiveBigIntegerField(default=0)
    last = models.DateTimeField()

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["connection", "workload", "credential", "way", "span", "begins"],
                name="one_row_for_a_span",
            )
        ]
        indexes = [
            models.Index(fields=["credential"], name="draws_with_a_credential"),
            models.Index(fields=["workload"], name="draws_of_a_workload"),
        ]
