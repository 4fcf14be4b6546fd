"""Connections follow the profiles of their applications."""

from django.apps import AppConfig


class ConnectionsConfig(AppConfig):
    """Registers what follows from a change elsewhere."""

    name = "neatlatch.desk.connections"

    def ready(self) -> None:
        """Register it."""
        from . import meaning  # noqa: F401
