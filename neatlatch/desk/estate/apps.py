"""What is administered: connections follow the profiles of their applications, summaries follow
everything.
"""

from typing import Any

from django.apps import AppConfig
from django.db.models.signals import post_migrate, pre_migrate


class EstateConfig(AppConfig):
    """Registers what follows from a change elsewhere."""

    name = "neatlatch.desk.estate"

    def ready(self) -> None:
        """Register it: models are there only now."""
        from neatlatch.desk.ground import starting
        from neatlatch.desk.ground.common import settling
        from neatlatch.desk.ground.common.sqlite.base import DatabaseWrapper

        from .connections import destinations, profile_effects, summaries  # noqa: F401

        summaries.begin()
        DatabaseWrapper.before_commit.append(settling.settle_or_leave)
        starting.AT_START.append(settling.check_at_start)
        pre_migrate.connect(_before, dispatch_uid="settling-before")
        post_migrate.connect(_after, dispatch_uid="settling-after")


def _before(sender: AppConfig, **told: Any) -> None:
    from neatlatch.desk.ground.common import marking, settling

    if sender.label == "connections":
        settling.pause()
        marking.remove()


def _after(sender: AppConfig, **told: Any) -> None:
    from neatlatch.desk.ground.common import marking, settling

    if sender.label == "connections":
        marking.install()
        settling.go_on()
