"""Keeps up to date what can be found, and the findings about credentials."""

from typing import Any

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class FindingConfig(AppConfig):
    """Listens to what is saved and deleted."""

    name = "neatlatch.desk.work.finding"

    def ready(self) -> None:
        """Begin to listen."""
        from neatlatch.desk.work.credentials import standing_out

        from . import index

        index.listen()
        standing_out.begin()
        post_migrate.connect(fill, sender=self)


def fill(**kwargs: Any) -> None:
    """What stood here before there was an index is found too.

    After all migrations and not in one of them: the rows are read as they are now.
    """
    from . import index

    index.fill()
