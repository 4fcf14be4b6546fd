"""Tags, notes and links that people put on objects."""

from __future__ import annotations

from functools import reduce
from operator import or_
from typing import Any

from django.conf import settings
from django.db import models
from django.db.models import Q

from neatlatch.core.annotating import LONGEST_TAG, Link, TagsAndNotes
from neatlatch.desk.estate.records.applications.models import Application, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.people.models import Owner

# The columns of which exactly one says what is annotated.
TARGETS = (
    "application",
    "client",
    "connection",
    "credential",
    "environment",
    "owner",
    "person",
    "workload",
)


def _of(target: Any) -> models.OneToOneField[Any, Any]:
    return models.OneToOneField(
        target, null=True, on_delete=models.CASCADE, related_name="annotation"
    )


def _only(target: str) -> Q:
    return Q(**{f"{other}__isnull": other != target for other in TARGETS})


class Annotation(models.Model):
    """Notes and links of one object, and its tags. ``links`` are pairs of address and label."""

    application = _of(Application)
    client = _of(Client)
    connection = _of(Connection)
    credential = _of(Credential)
    environment = _of(Environment)
    owner = _of(Owner)
    person = _of(settings.AUTH_USER_MODEL)
    workload = _of(Workload)
    notes = models.TextField(blank=True)
    links = models.JSONField(default=list)
    version = models.PositiveIntegerField(default=0)
    changed_at = models.DateTimeField()
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=reduce(or_, map(_only, TARGETS)), name="annotation_of_one_object"
            )
        ]

    def read(self) -> TagsAndNotes:
        """What people have put on the object."""
        return TagsAndNotes(
            tuple(tag.name for tag in self.tags.all()),
            self.notes,
            tuple(Link(address, label) for address, label in self.links),
        )


class Tag(models.Model):
    """A tag of an object."""

    annotation = models.ForeignKey(Annotation, on_delete=models.CASCADE, related_name="tags")
    name = models.CharField(max_length=LONGEST_TAG, db_index=True)

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(fields=["annotation", "name"], name="one_tag_of_a_name")
        ]
