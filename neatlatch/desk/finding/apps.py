"""Keeps the index of what can be found up to date."""

from django.apps import AppConfig


class FindingConfig(AppConfig):
    """Listens to what is saved and deleted."""

    name = "neatlatch.desk.finding"

    def ready(self) -> None:
        """Begin to listen."""
        from . import index

        index.listen()
