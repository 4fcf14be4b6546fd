"""Workloads of connections: jobs, reports, scripts and agents, and what each calls."""

from __future__ import annotations

import uuid

from django.db import models

from neatlatch.desk.estate.records.applications.models import Application, Environment
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.people.models import Owner


class Workload(models.Model):
    """A job, report, script or agent in one environment. People who log in are people, not
    workloads.

    ``windows`` are its change windows as people write them; ``notice_days`` how long before a
    change its owner wants to know; ``draws``: it takes its request headers by reference name, and
    is not changed manually.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4)
    name = models.CharField(max_length=120)
    environment = models.ForeignKey(Environment, on_delete=models.PROTECT, related_name="workloads")
    kind = models.CharField(max_length=20, default="job")
    owner = models.ForeignKey(Owner, null=True, on_delete=models.PROTECT, related_name="workloads")
    runs = models.CharField(max_length=60, blank=True)
    windows = models.JSONField(default=list)
    notice_days = models.PositiveSmallIntegerField(default=0)
    draws = models.BooleanField(default=False)
    version = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField()
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        # The table's name is older than the model's.
        db_table = "users_user"
        ordering = ["name", "environment__order"]
        constraints = [
            models.UniqueConstraint(
                fields=["name", "environment"], name="one_workload_of_a_name_in_an_environment"
            )
        ]

    @property
    def owner_name(self) -> str:
        """Whose it is; empty: nobody's."""
        return self.owner.name if self.owner is not None else ""


class Use(models.Model):
    """A workload calls an application: the operations, how often each was seen, and the connection
    it takes (none: not set up, or not named).
    """

    workload = models.ForeignKey(Workload, on_delete=models.CASCADE, related_name="uses")
    application = models.ForeignKey(Application, on_delete=models.CASCADE, related_name="uses")
    connection = models.ForeignKey(
        Connection, null=True, on_delete=models.SET_NULL, related_name="uses"
    )
    operations = models.JSONField(default=list)
    seen = models.JSONField(default=dict)
    seen_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]
        constraints = [
            models.UniqueConstraint(
                fields=["workload", "connection"], name="one_use_of_a_connection"
            ),
            models.UniqueConstraint(
                fields=["workload", "application"],
                condition=models.Q(connection=None),
                name="one_open_use_of_an_application",
            ),
        ]

    @property
    def name(self) -> str:
        """The workload's name."""
        return self.workload.name

    @property
    def owner_name(self) -> str:
        """Whose the workload is."""
        return self.workload.owner_name
