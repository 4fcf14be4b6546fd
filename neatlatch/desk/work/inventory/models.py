"""What inventory files were made from, and the stored plans by which they are applied."""

from __future__ import annotations

import json
import uuid
import zlib
from typing import Any

from django.db import models
from django.utils import timezone

from neatlatch.core.inventory.shape import Content
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.people.actors import actor_of


class Origin(models.Model):
    """A content that was exported, by its digest, and how files made from it stand since:
    ``content`` is what the last of them that was applied said.
    """

    digest = models.CharField(max_length=64, primary_key=True)
    # JSON, compressed: a content of thousands of connections is long, and says the same again and
    # again.
    packed = models.BinaryField()
    at = models.DateTimeField()
    by = models.CharField(max_length=150)

    class Meta:
        ordering = ["-at"]

    @classmethod
    def keep(cls, digest: str, stored: bytes | memoryview, username: str) -> None:
        """Keep a content (:func:`packed`) for an origin, in place of the one before. Part of the
        surrounding transaction."""
        kept = {"packed": stored, "at": timezone.now(), "by": username}
        cls.objects.update_or_create(digest=digest, defaults=kept)

    @property
    def content(self) -> Content:
        """The content."""
        found: Content = unpacked(self.packed)
        return found


def packed(plain: Any) -> bytes:
    """Plain values as they are stored: JSON, compressed."""
    return zlib.compress(json.dumps(plain, ensure_ascii=False, separators=(",", ":")).encode(), 6)


def unpacked(stored: bytes | memoryview) -> Any:
    """Plain values out of what :func:`packed` made of them."""
    return json.loads(zlib.decompress(stored))


class ImportPlan(models.Model):
    """An inventory that is being applied, or was: a stored plan, applied in blocks of steps.

    Its steps are numbered from 1 in the order in which they are applied, so the first ``done`` of
    them are. While it is open, nobody else changes the objects in it (:mod:`.guarding`).
    """

    class State(models.TextChoices):
        """How far the import has come."""

        STORING = "storing"
        CHECKING = "checking"
        APPLYING = "applying"
        APPLIED = "applied"
        STOPPED = "stopped"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    # The actor's username (:attr:`by`).
    who = models.CharField(max_length=150)
    state = models.CharField(max_length=10, choices=State.choices, default=State.STORING)
    # Checking or applying; there is one such plan at a time.
    is_open = models.BooleanField(default=False)
    begun = models.DateTimeField()
    ended = models.DateTimeField(null=True)
    total = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    adds = models.PositiveIntegerField(default=0)
    changes = models.PositiveIntegerField(default=0)
    removes = models.PositiveIntegerField(default=0)
    conflicts = models.PositiveIntegerField(default=0)
    # Why it stopped, as a sentence.
    problem = models.TextField(blank=True)
    # The plan that this one undoes.
    undoes = models.ForeignKey(
        "self", null=True, on_delete=models.SET_NULL, related_name="undone_by"
    )
    # Whether it was undone, and that was not undone in turn.
    undone = models.BooleanField(default=False)
    # The leave that was given with it: a reason, or that what is held is discarded.
    reason = models.CharField(max_length=300, blank=True)
    lets_go = models.BooleanField(default=False)
    # The digest of the export that its file was made from, and that origin's content, packed,
    # before and after.
    base = models.CharField(max_length=64, blank=True)
    base_before = models.BinaryField(null=True)
    base_after = models.BinaryField(null=True)
    # The process that works on it (:mod:`neatlatch.desk.ground.common.owner`), and until when it is
    # given credit where nobody can say whether it lives.
    worker = models.CharField(max_length=80, blank=True)
    worker_until = models.DateTimeField(null=True)
    # True only inside the transaction of a block: what changes there is the plan's own doing.
    own_turn = models.BooleanField(default=False)

    class Meta:
        ordering = ["-begun"]
        constraints = [
            models.UniqueConstraint(
                fields=["is_open"], condition=models.Q(is_open=True), name="one_open_import"
            )
        ]

    @property
    def by(self) -> Actor:
        """Who began it. Asks the database."""
        return actor_of(self.who)


class ImportStep(models.Model):
    """A change of one object in a plan."""

    plan = models.ForeignKey(ImportPlan, on_delete=models.CASCADE, related_name="steps")
    number = models.PositiveIntegerField()
    kind = models.CharField(max_length=20)
    key = models.TextField()
    # Add, change or remove.
    act = models.CharField(max_length=10)
    # The primary key of the row that is changed or removed, as text; empty for one that is added.
    row = models.CharField(max_length=64, blank=True)
    # False while the application itself makes the change, which is saved here by a service.
    guarded = models.BooleanField(default=True)
    # :class:`neatlatch.desk.work.inventory.planning.StepContent`
    packed = models.BinaryField()

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["plan", "number"], name="one_step_of_a_number")
        ]
        indexes = [models.Index(fields=["plan", "row"], name="steps_by_row")]
