"""What is administered: connections follow the profiles of their applications."""

from django.apps import AppConfig


class EstateConfig(AppConfig):
    """Registers what follows from a change elsewhere."""

    name = "neatlatch.desk.estate"

    def ready(self) -> None:
        """Register it: models are there only now."""
        from .connections import destinations, meaning  # noqa: F401
