"""Tests, rounds, samples, and what a test left behind."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models

from neatlatch.desk.estate.records.connections.models import Connection


class Round(models.Model):
    """One regular sweep of tests over all connections. The counts of its tests are kept when it has
    ended, because tests themselves are kept for a while only."""

    number = models.BigAutoField(primary_key=True)
    begun = models.DateTimeField()
    ended = models.DateTimeField(null=True)
    stopped = models.BooleanField(default=False)
    begun_by = models.CharField(max_length=150)
    total = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    failed = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["-number"]


class Test(models.Model):
    """A test of a connection: waiting, running, done, stopped, or cut off with the program that ran
    it.

    ``person``: whose own account it signed in with, where each has their own. ``by_program``: a
    workload asked for it, and no person.
    """

    class State(models.TextChoices):
        """How far it is."""

        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        STOPPED = "stopped"
        CUT = "cut"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    # Their indexes are those below, which begin with the same column.
    connection = models.ForeignKey(
        Connection, on_delete=models.CASCADE, related_name="tests", db_index=False
    )
    round = models.ForeignKey(
        Round, null=True, on_delete=models.CASCADE, related_name="tests", db_index=False
    )
    begun_by = models.CharField(max_length=150)
    by_program = models.BooleanField(default=False)
    person = models.ForeignKey(
        settings.AUTH_USER_MODEL,
        null=True,
        on_delete=models.SET_NULL,
        related_name="+",
        db_index=False,
    )
    made = models.DateTimeField(auto_now_add=True)
    begun = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)
    alive_until = models.DateTimeField(null=True)
    runner = models.CharField(max_length=64, blank=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    last = models.CharField(max_length=10, blank=True)
    stop_asked = models.BooleanField(default=False)
    passed = models.BooleanField(null=True)
    rungs = models.JSONField(default=list)
    diagnosis = models.JSONField(null=True)

    class Meta:
        ordering = ["-made"]
        indexes = [
            models.Index(fields=["connection", "-made"]),
            models.Index(fields=["state"]),
            models.Index(
                fields=["round", "state", "passed"],
                condition=models.Q(round__isnull=False),
                name="how_a_round_goes",
            ),
            models.Index(
                fields=["person", "-made"],
                condition=models.Q(person__isnull=False),
                name="tests_in_a_persons_name",
            ),
        ]
        constraints = [
            models.UniqueConstraint(
                fields=["round", "connection"], name="one_test_of_a_connection_in_a_round"
            )
        ]


class Sample(models.Model):
    """What remains of a test once its evidence is gone: a line of the connection's history.

    One for each test, because it is written in the transaction that ends the test.
    """

    test_id = models.UUIDField()
    connection = models.ForeignKey(
        Connection, on_delete=models.CASCADE, related_name="samples", db_index=False
    )
    at = models.DateTimeField()
    passed = models.BooleanField()
    blip = models.BooleanField(default=False)
    cause = models.CharField(max_length=20, blank=True)
    rung = models.CharField(max_length=10, blank=True)
    ms = models.FloatField()

    class Meta:
        indexes = [models.Index(fields=["connection", "-at"])]


class Leftover(models.Model):
    """Something that a test makes, recorded before it is made, so that it is cleared away even if
    the test is cut off.
    """

    class LeftoverEvidence(models.TextChoices):
        """What the application's answers have shown of it."""

        ASKED = "asked"  # its making was sent
        MADE = "made"  # an answer said that it was made
        SEEN = "seen"  # another answer showed it

    connection = models.ForeignKey(Connection, on_delete=models.CASCADE, related_name="leftovers")
    test_id = models.UUIDField()
    # The test's mark, and the ID that the application gave.
    name = models.CharField(max_length=250, blank=True)
    # What made it: method and path, as the profile has them.
    operation = models.CharField(max_length=200, blank=True)
    known = models.CharField(
        max_length=8, choices=LeftoverEvidence.choices, default=LeftoverEvidence.ASKED
    )
    # How it is cleared away; an empty address is not known.
    method = models.CharField(max_length=10)
    address = models.CharField(max_length=2600, blank=True)
    made = models.DateTimeField(auto_now_add=True)
    # The last answer to clearing it, when that was, and how often the worker tried.
    status = models.PositiveSmallIntegerField(null=True)
    tried = models.DateTimeField(null=True)
    tries = models.PositiveSmallIntegerField(default=0)
    # The worker does not retry it: somebody has to look.
    stuck = models.BooleanField(default=False)
