"""Who draws what, and when last."""

from __future__ import annotations

from django.db import models

from neatlatch.desk.estate.records.connections.models import Connection


class Drawn(models.Model):
    """Draws of one workload on one connection with one credential within an hour, or a day once it
    is a week old: one row, however many there were.

    ``way`` is *draw* (a header was taken), *relay* (a request was sent through) or *check* (a
    signed call was checked); ``span`` is
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


class CheckedCalls(models.Model):
    """What came of the signed calls of a connection that workloads had checked."""

    connection = models.OneToOneField(
        Connection, on_delete=models.CASCADE, primary_key=True, related_name="checked_calls"
    )
    accepted = models.PositiveBigIntegerField(default=0)
    accepted_at = models.DateTimeField(null=True)
    rejected = models.PositiveBigIntegerField(default=0)
    rejected_at = models.DateTimeField(null=True)
    # Why the last one was, as a sentence.
    rejected_says = models.CharField(max_length=300, blank=True)


class SeenCall(models.Model):
    """A signed call that was accepted, by a digest, so that it is known when it comes again; kept
    until ``ends``.
    """

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="seen_calls")
    digest = models.CharField(max_length=64)
    at = models.DateTimeField()
    ends = models.DateTimeField(db_index=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["connection", "digest"], name="one_row_for_a_call")
        ]
