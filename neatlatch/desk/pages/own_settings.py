"""The settings of Neat Latch itself, to be read: they are set where it is started."""

from __future__ import annotations

from dataclasses import dataclass

from django.http import HttpRequest
from ninja import Router

from neatlatch.desk.ground import guard, settings_report

router = Router(tags=["health"])


@dataclass(frozen=True, kw_only=True)
class SettingOut:
    """A setting as it holds now: ``is_set`` where Neat Latch was started, or as usual; the value of
    a ``secret`` is not told.
    """

    name: str
    meaning: str
    value: str
    is_set: bool
    secret: bool


@dataclass(frozen=True, kw_only=True)
class SettingsOut:
    """All settings."""

    items: list[SettingOut]


@router.get("/settings", response=SettingsOut)
def settings(request: HttpRequest) -> SettingsOut:
    """The settings of this process, with their meaning and where each comes from."""
    guard.need(request, "look")
    return SettingsOut(
        items=[
            SettingOut(
                name=told.setting.name,
                meaning=told.setting.meaning.replace("`", ""),
                value=told.value,
                is_set=told.is_set,
                secret=told.setting.secret,
            )
            for told in settings_report.every_setting()
        ]
    )
