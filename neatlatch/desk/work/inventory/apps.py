"""The inventory, out and in."""

from django.apps import AppConfig


class InventoryConfig(AppConfig):
    """Registers the triggers that guard what is being imported."""

    name = "neatlatch.desk.work.inventory"

    def ready(self) -> None:
        """Register them: models are there only now."""
        from . import guarding

        guarding.begin()
