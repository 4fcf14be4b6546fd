"""Workloads were called users: what the database calls their tables stays."""

from django.apps import AppConfig


class WorkloadsConfig(AppConfig):
    """Keeps the label that migrations and tables go by."""

    name = "neatlatch.desk.estate.records.workloads"
    label = "users"
